package quotas

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// View is a quota as a probe fills it, and what was measured.
type View struct {
	Quota    *declaration.Quota // on the target
	Declared []declaration.Amount
	Lowered  bool            // on the target, from what is Declared
	Stack    quota.Stack     // for the caller who is sent
	Measured *quota.Measured // nil without a fact
	Broken   bool            // the drill was not whole
}

// Of is the quota of a probe; ok is false where the declaration has no such quota any more.
func Of(c *check.Context, p *check.Probe, f *check.Fact) (v View, ok bool) {
	declared := c.Doc.QuotaNamed(p.Of)
	if declared == nil {
		return v, false
	}
	q, lowered := c.Target.Quota(declared)
	v = View{Quota: q, Declared: declared.Allow, Lowered: lowered,
		Stack: quota.StackFor(c.Doc, q, p.Caller.Identity)}
	if f != nil {
		if m, ok := f.Data.(*Measured); ok {
			v.Measured, v.Broken = &m.Measured, !m.Whole()
		}
	}
	return v, true
}

// judging is a drill with everything that is known of it.
type judging struct {
	View
	p     *check.Probe
	base  string // of the target
	m     *Measured
	whole check.Report // the first refusal, or the last call
	seen  check.Report // of that, the status and the header fields
	v     check.Verdict
}

// Judge holds what a drill saw against what is declared. That too much gets through is shown
// by the calls themselves, whatever limiter they came to.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) check.Verdict {
	view, ok := Of(c, p, f)
	if !ok || view.Measured == nil || len(f.Reports) == 0 {
		return check.Unproven("the drill did not get as far as a call")
	}
	m, _ := f.Data.(*Measured)
	switch {
	case m.Broke != "" && (len(m.Calls) == 0 || view.Quota.Model == declaration.Concurrency):
		return check.Unproven("%s", m.Broke)
	case m.Full:
		return check.Unproven("the quota was full before the drill began")
	}
	j := &judging{View: view, p: p, base: c.Target.Base, m: m, whole: f.Reports[0], seen: check.Head(f.Reports[0])}
	if j.Quota.Model == declaration.Concurrency {
		j.atOnce()
	} else {
		j.drill()
	}
	return j.v
}

// cause is the beginning of a gap with a cause.
func (j *judging) cause(name string) check.Gap {
	what, isWay := strings.CutPrefix(name, way)
	if isWay {
		name = way
	} else {
		what = ""
	}
	return check.Gap{Cause: finding.RowOf(rows, name), What: what, Rung: 7,
		Scope: finding.Scope{Of: finding.AtQuota, Name: j.p.Of}}
}

func (j *judging) gap(name string, proof check.Proof, format string, args ...any) {
	g := j.cause(name)
	g.Says, g.Proof = fmt.Sprintf(format, args...), proof
	j.v.Gaps = append(j.v.Gaps, g)
}

func (j *judging) agrees(proof check.Proof, format string, args ...any) {
	j.v.Says, j.v.Proof = fmt.Sprintf(format, args...), proof
}

func (j *judging) unproven(format string, args ...any) { j.agrees(check.Proof{}, format, args...) }

func (j *judging) at() Detail {
	d, _ := j.p.Detail.(Detail)
	return d
}

// spread says whether calls were sent at several routes in turn.
func (j *judging) spread() bool { return len(j.at().Spread) > 0 }

func (j *judging) speaks() check.Proof { return check.Speaks(j.seen) }

// counted is what the calls show. Those without what they need are another request than the
// one that is to be limited.
func (j *judging) counted() (proof check.Proof, how string) {
	if j.at().Empty {
		return j.speaks(), " They were sent without what they need, so that nothing was carried out."
	}
	return check.Shown(j.seen), ""
}

// several times as many calls as are declared must be admitted before nothing limits them: fewer
// may be nodes that count alone.
const several = 3

func (j *judging) drill() {
	m, q := j.m, j.Quota
	proof, how := j.counted()
	if n, c, d, yes := m.Beyond(j.Stack); yes {
		d = d.Round(time.Millisecond)
		from := j.mayBeExempt()
		switch {
		case !m.Refused() && from != "":
			j.unproven("none of %d calls in %s was refused, and %s does not count %s, which they may have come "+
				"from", n, d,
				q.Name, from)
			return
		case m.Refused() || m.Failed > 0 || m.Broke != "": // what failed may have been refused
			j.gap(over, proof, "%d calls got through in %s; %s lets at most %d through.%s", n, d, q.Name, c, how)
		case n > several*c && m.Lasted() > j.Stack.Shortest():
			j.gap(none, proof, "None of %d calls in %s was refused; %s lets at most %d through.%s", n, d, q.Name, c,
				how)
		default:
			j.gap(over, proof, "None of %d calls in %s was refused; %s lets at most %d through. Whether some are "+
				"refused further up, or later, was not seen.%s", n, d, q.Name, c, how)
		}
	}
	for _, a := range m.Around {
		if a.Passed {
			j.gap(way+a.Way, proof, "While calls were refused by %s, one with %s was answered %d, and those "+
				"without it before and after were refused.", q.Name, a.Way, a.Status)
		}
	}
	if r := m.Route; r.Passed && !q.PerRoute {
		j.gap(routes, proof, "While calls were refused by %s, one to %s was answered %d, and those here "+
			"before and after were refused: each route has a count of its own, one for all is declared.", q.Name,
			r.Way, r.Status)
	} else if r.Way != "" && q.PerRoute && r.Status == m.Status {
		j.gap(allRoutes, j.speaks(), "While calls were refused by %s, the first to %s was refused too: they share one "+
			"count, one for each is declared.", q.Name, r.Way)
	}
	j.strangers()
	j.exempted()
	j.queue()
	j.refusal()
	if r := m.Right; r != nil && q.Locks != nil && r.In {
		j.gap(opens, check.Shown(j.seen),
			"While logins with a wrong secret were refused by %s, each one with the right secret "+
				"was answered %d; the account is to be closed then.", q.Name, r.Status)
	}
	j.otherwise()
	// An answer that failed, or never came, says nothing of another caller.
	if m.Other != "" && m.Status != 0 && m.OtherStatus == m.Status {
		j.gap(shared, j.speaks(), "While calls of %s were turned away by %s, the first of %s was refused (%d) too: "+
			"they share one count.", j.p.Caller.Identity, q.Name, m.Other, m.OtherStatus)
	}
	switch {
	case len(j.v.Gaps) > 0:
	case m.Broke != "": // what was counted until then holds
		j.unproven("%s", m.Broke)
	case m.Disturbed() || m.Failed > 0:
		j.unproven("%s", m.Found())
	case m.Crowd != nil && q.Queue > 0 && m.Crowd.Waited > q.Queue:
		j.unproven("of %d calls that were sent together %d were answered late, %d of them with a refusal: whether more "+
			"wait than %s lets, or the service was busy, was not seen", m.Crowd.Sent, m.Crowd.Waited, m.Crowd.Vain,
			q.Name)
	case m.Right != nil && m.Right.Ended:
		j.unproven("the right secret was answered %d while wrong ones had been refused, and then wrong ones were not "+
			"refused any more: the account may have been opened again just before", m.Right.Status)
	case j.spread() && m.FirstStretch() != j.Stack.First():
		j.unproven("after %d calls at %d routes in turn one was refused, and %s lets %d through: that may have been "+
			"a tighter quota of those routes", m.FirstStretch(), 1+len(j.at().Spread), q.Name, j.Stack.First())
	case m.Waits && !m.Refused():
		j.agrees(j.speaks(), "within what %s allows. %s", q.Name, m.Found())
	case !m.Refused():
		j.unproven("none of %d calls in %.1f s was refused, and %s allows as many", len(m.Calls), m.Seconds,
			q.Name)
	default:
		if j.Lowered {
			proof = j.speaks()
		}
		j.agrees(proof, "refused within what %s allows. %s%s%s%s", q.Name, m.Found(), j.uncounted(), j.lowered(),
			j.onClock())
	}
}

// onClock proposes to declare a window on the clock where that is what is there.
func (j *judging) onClock() string {
	q := j.Quota
	if q.Model != declaration.FixedWindow || q.Starts == "clock" || len(j.m.Fits) == 0 ||
		slices.ContainsFunc(j.m.Fits, func(f quota.Fit) bool { return f.Kind != quota.FixedClock }) {
		return ""
	}
	return " Its windows stand on the clock: starts: clock says so."
}

// otherwise holds the limits that the service says in its answers against the declared one. It
// may say others beside that.
func (j *judging) otherwise() {
	var said []string
	for _, c := range j.m.Claims {
		if c.Limit < 0 || c.Form == quota.FormRetry {
			continue
		}
		if slices.ContainsFunc(j.Stack, func(l quota.Limit) bool {
			number := l.N == c.Limit || l.Burst == c.Limit
			return number && (c.Window <= 0 || l.Kind == quota.Bucket || l.W > 0 && quota.Near(l.W, c.Window))
		}) {
			return
		}
		text := fmt.Sprintf("%d", c.Limit)
		if c.Window > 0 {
			text = fmt.Sprintf("%d per %s", c.Limit, quota.Span(c.Window))
		}
		said = append(said, fmt.Sprintf("%s in %s", text, c.Form))
	}
	if len(said) > 0 {
		j.gap(saysOther, check.Shown(j.seen), "Answers say %s; %s is %s.", strings.Join(said, ", "), j.Quota.Name,
			declaration.AmountsText(j.Quota.Allow))
	}
}

// lowered says what a lowered limit leaves open.
func (j *judging) lowered() string {
	if !j.Lowered {
		return ""
	}
	return fmt.Sprintf(" Measured with %s in place of %s: how it counts and refuses is shown by that, that the "+
		"declared number holds is not.", declaration.AmountsText(j.Quota.Allow), declaration.AmountsText(j.Declared))
}

// atOnce judges what calls at the same time met. That more are served than may run at once
// shows only where a call takes long enough to run beside another, and never for certain:
// when they began is not seen from outside.
func (j *judging) atOnce() {
	m, q := j.m, j.Quota
	s, allowed := m.Side(), j.Stack.First()
	switch {
	case m.Failed > 0:
		j.unproven("%s", m.Found())
		return
	case s.Most == 0:
		j.unproven("%s", strings.Join(append([]string{"no calls were sent at the same time"}, s.Seen...), "; "))
		return
	case s.Rate:
		j.unproven("one alone was refused as well: another limit, on how fast calls come, refuses first")
		return
	case int64(s.Ran) > several*allowed && !s.Refused && s.All:
		j.gap(atOnceNone, j.speaks(), "%d calls at the same time were all admitted, and at least %d of them ran "+
			"together; %s lets %d run.", s.Most, s.Ran, q.Name, allowed)
	case int64(s.Ran) > allowed:
		j.gap(atOnce, j.speaks(), "%d calls ran at the same time; %s lets %d run.", s.Ran, q.Name, allowed)
	case int64(s.Limit) > allowed:
		j.unproven("%s %s lets %d run: that more do was not seen, or only once", m.Found(), q.Name, allowed)
		return
	case s.Limit == 0 && !s.Refused:
		j.unproven("%d calls at the same time were answered, and they need not have run together: %s", s.Most,
			strings.Join(s.Seen, "; "))
		return
	}
	j.refusal()
	switch {
	case len(j.v.Gaps) > 0:
	case m.Disturbed():
		j.unproven("%s", m.Found())
	default:
		j.agrees(j.speaks(), "within what %s allows. %s%s", q.Name, m.Found(), j.lowered())
	}
}

// refusal judges the status of a refusal; its shape is that of any answer.
func (j *judging) refusal() {
	switch j.m.Status {
	case 0:
		return
	case j.Quota.RefuseWith:
		j.v.Answers, j.v.Shape = []check.Report{j.whole}, j.cause(refusal)
		return
	}
	without := ""
	if j.seen.Exchange.Answer.Get("Retry-After") == "" {
		without = " without Retry-After"
	}
	j.gap(refusal, check.Shown(j.seen), "Calls beyond %s must be answered %d, they were answered %d%s.", j.Quota.Name,
		j.Quota.RefuseWith, j.m.Status, without)
}

// Declared is how often a probe's caller may call.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	v, ok := Of(c, p, nil)
	if !ok {
		return ""
	}
	q, id := v.Quota, c.Doc.IdentityNamed(p.Caller.Identity)
	amounts, _ := q.AmountsFor(c.Doc, id)
	out := fmt.Sprintf("%s of %s, %s %s, burst %d, queue %d for %s, refused with %d, counts %s",
		declaration.AmountsText(amounts), q.Name, q.Model, q.Starts, q.Burst, q.Queue, q.QueueFor, q.RefuseWith,
		q.Counts)
	for _, k := range q.CountedBy {
		out += ", by " + k.String()
	}
	for _, e := range q.Exempt {
		out += ", but " + e.Kind + " " + e.Name
	}
	if q.PerRoute {
		out += ", each route alone"
	}
	return out
}
