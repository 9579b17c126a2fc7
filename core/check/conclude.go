package check

import (
	"slices"

	"millgate/core/access"
	"millgate/core/finding"
)

// Item is a probe with what is said of it.
type Item struct {
	Probe   *Probe
	Class   Class // of the answer to its request
	Verdict finding.Verdict
}

// Judging is everything that a probe's verdict is made from, beside what its family says.
type Judging struct {
	Context  *Context
	Families Families
	Probe    *Probe
	Answer   Answer // to its request
	// Sick: it failed while the service as a whole did.
	Sick bool
	// Lost is set when the probe was sent but its answer never seen.
	Lost string
}

// Item is what is said of the probe: by its family, which judge asks, and by those that
// watch the answers of others. Where no answer was seen, or it failed while the service as a
// whole did, nothing can be concluded, whatever was looked for.
func (j Judging) Item(judge func() Verdict) Item {
	it := Item{Probe: j.Probe, Class: Classify(j.Answer, j.Context.Doc.Answers)}
	v := &it.Verdict
	switch {
	case j.Lost != "":
		unproven(v, j.Lost)
	case j.Sick && (it.Class == Failed || it.Class == Unreachable):
		answered := "answered " + j.Answer.Code()
		if j.Answer.Status == 0 {
			answered = "not answered"
		}
		unproven(v, answered+" while the service as a whole failed")
	default:
		j.conclude(v, judge())
	}
	return it
}

func (j Judging) conclude(v *finding.Verdict, of Verdict) {
	v.Kind, v.Confidence, v.Reason, v.Does = finding.Agrees, of.Proof.Confidence(), of.Says, of.Does
	if v.Confidence == finding.NotSure {
		v.Kind = finding.Unproven
	}
	if hid := of.Proof.Hid(); hid != "" {
		v.Reason += "; " + hid
	}
	for _, g := range of.Gaps {
		if g.Proof.Confidence() == finding.NotSure { // it is none, then
			unproven(v, g.Says)
			continue
		}
		v.Gaps = append(v.Gaps, g.said())
	}
	own := len(v.Gaps)
	for _, r := range of.Answers {
		j.watched(v, r, of, own)
	}
	v.Worst()
}

// watched takes what watchers say of an answer beside the gaps of the family's own. A refusal
// that is wrong itself need not have the declared shape.
func (j Judging) watched(v *finding.Verdict, r Report, of Verdict, own int) {
	wrong := own > 0 && v.Gaps[0].Row.Kind == finding.WrongRefusal
	for _, f := range j.Families {
		w, ok := f.(Watcher)
		if !ok {
			continue
		}
		gaps, unsure := w.Watch(j.Context, j.Probe.Route, r)
		if unsure != "" && v.Kind == finding.Agrees && r.Exchange.Truncated {
			unproven(v, v.Reason+"; "+unsure) // nobody looked
		} else if unsure != "" && v.Kind == finding.Agrees {
			v.Confidence, v.Reason = finding.Likely, v.Reason+"; "+unsure
		}
		for _, g := range gaps {
			if g.Cause.Kind == finding.WrongRefusal && (wrong || of.AnyShape) {
				continue
			}
			if s := of.Shape; s.Cause != nil && g.Cause.Kind == s.Cause.Kind {
				s.Says, s.Proof = g.Says, g.Proof
				g = s
			}
			v.Gaps = append(v.Gaps, g.said())
		}
	}
}

// said is the gap as it is told.
func (g Gap) said() finding.Gap {
	says := g.Says
	if hid := g.Proof.Hid(); hid != "" {
		says += " Not all was seen: " + hid + "."
	}
	return finding.Gap{Row: g.Cause, What: g.What, Rung: g.Rung, Reason: says, Confidence: g.Proof.Confidence(),
		Scope: g.Scope, Wide: g.Wide, Aside: g.Aside, Who: g.Who}
}

func unproven(v *finding.Verdict, reason string) {
	v.Kind, v.Confidence, v.Reason = finding.Unproven, finding.NotSure, reason
}

// Gather makes findings of what was judged, worst first. Items must be in the order of the
// plan. Families may say which of their gaps are one fault (Gathering); what belongs together
// beyond that is said by rows and gaps, and finding.Gather knows no family.
func Gather(c *Context, list Families, items []Item) []finding.Finding {
	var found []finding.Seen
	out := turnedAway(c, list, items)
	of := map[string][]Judged{}
	for _, it := range items {
		if len(it.Verdict.Gaps) == 0 {
			continue
		}
		p := it.Probe
		cell, _ := list.Cell(p)
		s := finding.Seen{Probe: p.Key(), Route: p.Route, Column: cell.Column(), Who: list.Who(p),
			Identity: p.Caller.Identity, StandsFor: p.StandsFor, Unsafe: p.Unsafe, Follows: p.Widens}
		s.Gaps = append(s.Gaps, it.Verdict.Gaps...) // items stay as they are
		if p.Caller.Identity != "" {
			s.Out = out[reasonAt{p.Route, s.Gaps[0].Rung}]
		}
		found = append(found, s)
		of[p.Family] = append(of[p.Family], Judged{p, s.Gaps})
	}
	for _, f := range list {
		if g, ok := f.(Gathering); ok && len(of[f.Name()]) > 0 {
			g.Gather(c, of[f.Name()])
		}
	}
	return finding.Gather(c.Doc, found)
}

// reasonAt is a rung of the ladder at a route.
type reasonAt struct {
	route string
	rung  int
}

// turnedAway are the identities that were sent with what is sound, or stood for, by where and
// at which rung they must be turned away.
func turnedAway(c *Context, list Families, items []Item) map[reasonAt][]string {
	shows := map[string]bool{} // at which somebody got in
	for _, it := range items {
		if len(it.Verdict.Gaps) > 0 && it.Probe.Caller.Identity != "" {
			shows[it.Probe.Route] = true
		}
	}
	out := map[reasonAt][]string{}
	for _, it := range items {
		p := it.Probe
		if !shows[p.Route] {
			continue
		}
		f, ok := list.Named(p.Family).(Expecting)
		if !ok || p.Caller.Identity == "" || p.Caller.State != access.Sound || it.Verdict.Kind == finding.Unproven {
			continue
		}
		x := f.Expect(c, p)
		if x.Outcome == access.Admit || x.Outcome == access.Either {
			continue
		}
		at := reasonAt{p.Route, x.Decider}
		for _, name := range append([]string{p.Caller.Identity}, p.StandsFor...) {
			if !slices.Contains(out[at], name) {
				out[at] = append(out[at], name)
			}
		}
	}
	return out
}

// Count counts board cells (a caller at a route, its worst verdict) and findings by kind.
func Count(list Families, items []Item, findings []finding.Finding) finding.Counts {
	c := finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	type at struct{ route, column string }
	worst := map[at]finding.Kind{}
	for _, it := range items {
		cell, _ := list.Cell(it.Probe)
		k := at{it.Probe.Route, cell.Column()}
		if old, ok := worst[k]; !ok || finding.Worse(it.Verdict.Kind, old) {
			worst[k] = it.Verdict.Kind
		}
	}
	for _, k := range worst {
		c.Crossings[k]++
	}
	for _, f := range findings {
		c.Findings[f.Kind]++
	}
	return c
}
