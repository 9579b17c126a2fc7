package snapshot

import (
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"millgate/core/check"
)

// Judge holds the facts of a plan against its expectations.
type Judge struct {
	plan *check.Plan
	fact func(key string) *Fact // nil where nothing is known
}

func NewJudge(pl *check.Plan, fact func(key string) *Fact) *Judge {
	return &Judge{plan: pl, fact: fact}
}

// Ready says whether the probe can be judged: it has its fact, and so has its
// control.
func (j *Judge) Ready(p *check.Probe) bool {
	return j.fact(p.Key()) != nil && (p.Control == "" || j.fact(p.Control) != nil)
}

func (j *Judge) Judge(p *check.Probe) check.Item {
	v, _ := j.judging(p)
	return v
}

// judging gives what is said of a probe, and the probes whose facts it looked at beside
// its own and its control's.
func (j *Judge) judging(p *check.Probe) (check.Item, []string) {
	f := j.fact(p.Key())
	family := j.plan.Family(p)
	e := j.evidence()
	of := check.Judging{Context: j.plan.Context, Families: j.plan.Families, Probe: p, Answer: f.answer(),
		Lost: f.Lost, Sick: f.Sick}
	return of.Item(func() check.Verdict { return family.Judge(j.plan.Context, p, f.Seen(), e) }), e.Asked()
}

func (j *Judge) evidence() *check.Evidence {
	return check.NewEvidence(func(key string) *check.Fact { return j.fact(key).Seen() })
}

// Widens says whether a gap of a probe can ask for more.
func (j *Judge) Widens(p *check.Probe) bool {
	_, ok := j.plan.Family(p).(check.Widening)
	return ok
}

// Widen plans what a gap asks for.
func (j *Judge) Widen(it check.Item) []*check.Probe {
	if it.Probe == nil {
		return nil
	}
	if f, ok := j.plan.Family(it.Probe).(check.Pursuing); !it.Verdict.Kind.IsGap() && (!ok || !f.Pursues(it.Probe)) {
		return nil
	}
	return j.plan.Widen(it.Probe, j.evidence())
}

// Seen is the fact as families see it; nil without one.
func (f *Fact) Seen() *check.Fact {
	switch {
	case f == nil:
		return nil
	case f.Check != nil:
		return f.Check
	}
	r := check.ReportOf("", *f.Exchange)
	if r.Repeats = f.Repeats; r.Fate == check.Lost && f.Lost != "" {
		r.Fate, r.Why = check.Unsent, f.Lost
	}
	return &check.Fact{Began: f.Exchange.At, Reports: []check.Report{r}}
}

// All judges every fact, in the order of the plan.
func (j *Judge) All() []check.Item {
	var out []check.Item
	for from := 0; from < len(j.plan.Probes); { // a gap can add to them
		more := j.each(j.plan.Probes[from:])
		from = len(j.plan.Probes)
		for i := range more {
			j.Widen(more[i])
		}
		if out == nil {
			out = more // the most of them: they are not copied
		} else {
			out = append(out, more...)
		}
	}
	return out
}

// each judges the probes whose facts are known, beside each other.
func (j *Judge) each(list []*check.Probe) []check.Item {
	out := make([]check.Item, len(list))
	beside(len(list), func(i int) {
		if j.fact(list[i].Key()) != nil {
			out[i] = j.Judge(list[i])
		}
	})
	return slices.DeleteFunc(out, func(it check.Item) bool { return it.Probe == nil })
}

// beside does something for each of so many, on all cores.
func beside(many int, do func(i int)) {
	const part = 512
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < many; from += part {
		g.Go(func() error {
			for i := from; i < min(many, from+part); i++ {
				do(i)
			}
			return nil
		})
	}
	_ = g.Wait() // none of them fails
}
