package verdict

import (
	"fmt"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// QuotaSeen is what a quota drill measured, beside what is declared.
type QuotaSeen struct {
	Measured *quota.Measured
	Quota    *declaration.Quota
	Stack    quota.Stack // for the caller who was sent
	Lowered  bool        // on this target, from what is Declared
	Declared []declaration.Amount
	Earlier  time.Time // when it was measured, where the quota is full now; zero: by this sweep
}

// quotaDrill judges what a quota drill saw. That too much gets through is
// proven by the calls themselves, whatever limiter they came to.
func (v *Verdict) quotaDrill(in Input) {
	if in.Quota == nil {
		v.unproven("the drill did not get as far as a call")
		return
	}
	m, q, s := in.Quota.Measured, in.Quota.Quota, in.Quota.Stack
	x := access.Expectation{Outcome: access.Admit, Decider: 7, Subject: "quota"}
	if m.Full {
		v.unproven("the quota was full before the drill began")
		return
	}
	conf, how := finding.Proven, ""
	if q.Model == declaration.Concurrency {
		v.atOnce(in, x)
		return
	}
	if in.Probe.Empty {
		conf, how = finding.Likely, " They were sent without what they need, so that nothing was carried out."
	}
	beyond := false
	if n, c, d, yes := m.Beyond(s); yes {
		beyond = true
		what := fmt.Sprintf("%d calls got through in %s; %s lets at most %d through.", n, d.Round(time.Millisecond),
			q.Name, c)
		cause := "over"
		if !m.Refused() && m.Failed == 0 { // what failed may have been refused
			cause = "none"
			what = fmt.Sprintf("None of %d calls in %s was refused; %s lets at most %d through.", n,
				d.Round(time.Millisecond), q.Name, c)
		}
		v.gap(finding.Unthrottled, x, quotaCause+cause, what+how, conf)
	}
	for _, a := range m.Around {
		if a.Passed {
			v.gap(finding.Unthrottled, x, quotaCause+"way "+a.Way, fmt.Sprintf("While calls were refused by %s, one "+
				"with %s was answered %d, and the next without it was refused again.", q.Name, a.Way, a.Status), conf)
		}
	}
	if r := m.Route; r.Passed && !q.PerRoute {
		v.gap(finding.Unthrottled, x, quotaCause+"routes", fmt.Sprintf("While calls were refused by %s, one to %s "+
			"was answered %d, and the next here was refused again: each route has a count of its own, one for all is "+
			"declared.", q.Name, r.Way, r.Status), conf)
	} else if r.Way != "" && q.PerRoute && r.Status == m.Status {
		v.gap(finding.OverRestrictive, x, quotaCause+"one for all routes", fmt.Sprintf("While calls were refused by "+
			"%s, the first to %s was refused too: they share one count, one for each is declared.", q.Name, r.Way),
			finding.Likely)
	}
	if m.Status != 0 {
		v.quotaRefusal(in, x)
	}
	// An answer that failed, or never came, says nothing of another caller.
	if m.Other != "" && m.Status != 0 && m.OtherStatus == m.Status {
		v.gap(finding.OverRestrictive, x, quotaCause+"shared", fmt.Sprintf("While calls of %s were turned away by "+
			"%s, the first of %s was refused (%d) too: they share one count.", in.Probe.Identity, q.Name, m.Other,
			m.OtherStatus), finding.Likely)
	}
	switch {
	case len(v.Gaps) > 0:
		return
	case m.Disturbed() || m.Failed > 0:
		v.unproven(m.Found())
	case m.Waits && !m.Refused():
		v.agrees(finding.Likely, "within what "+q.Name+" allows. "+m.Found())
	case !m.Refused() && !beyond:
		v.unproven(fmt.Sprintf("none of %d calls in %.1f s was refused, and %s allows as many", len(m.Calls), m.Seconds,
			q.Name))
	default:
		if in.Quota.Lowered {
			conf = finding.Likely
		}
		v.agrees(conf, fmt.Sprintf("refused within what %s allows. %s%s", q.Name, m.Found(), in.Quota.lowered()))
	}
}

// lowered says what a lowered limit leaves open.
func (s *QuotaSeen) lowered() string {
	if !s.Lowered {
		return ""
	}
	return fmt.Sprintf(" Measured with %s in place of %s: how it counts and refuses is shown by that, that the "+
		"declared number holds is not.", declaration.AmountsText(s.Quota.Allow), declaration.AmountsText(s.Declared))
}

// atOnce judges what calls at the same time met. That more are served than may
// run at once shows only where a call takes long enough to run beside another,
// and never for certain: when they began is not seen from outside.
func (v *Verdict) atOnce(in Input, x access.Expectation) {
	m, q := in.Quota.Measured, in.Quota.Quota
	s := m.Side()
	allowed := in.Quota.Stack.First()
	switch {
	case m.Failed > 0:
		v.unproven(m.Found())
		return
	case s.Most == 0:
		v.unproven(strings.Join(append([]string{"no calls were sent at the same time"}, s.Seen...), "; "))
		return
	case s.Rate:
		v.unproven("one alone was refused as well: another limit, on how fast calls come, refuses first")
		return
	case int64(s.Ran) > allowed && !s.Refused && s.All:
		v.gap(finding.Unthrottled, x, quotaCause+"at once none", fmt.Sprintf("%d calls at the same time were all "+
			"admitted, and at least %d of them ran together; %s lets %d run.", s.Most, s.Ran, q.Name, allowed),
			finding.Likely)
	case int64(s.Ran) > allowed:
		v.gap(finding.Unthrottled, x, quotaCause+"at once",
			fmt.Sprintf("%d calls ran at the same time; %s lets %d run.", s.Ran, q.Name, allowed), finding.Likely)
	case s.Limit == 0 && !s.Refused:
		v.unproven(fmt.Sprintf("%d calls at the same time were answered, and they need not have run together: %s",
			s.Most, strings.Join(s.Seen, "; ")))
		return
	}
	if m.Status != 0 {
		v.quotaRefusal(in, x)
	}
	switch {
	case len(v.Gaps) > 0:
	case m.Disturbed():
		v.unproven(m.Found())
	default:
		v.agrees(finding.Likely, fmt.Sprintf("within what %s allows. %s%s", q.Name, m.Found(), in.Quota.lowered()))
	}
}

// quotaRefusal judges how a call is refused.
func (v *Verdict) quotaRefusal(in Input, x access.Expectation) {
	m, q := in.Quota.Measured, in.Quota.Quota
	if m.Status != q.RefuseWith {
		v.gap(finding.WrongRefusal, x, quotaCause+"refusal", fmt.Sprintf("Calls beyond %s must be answered %d, they "+
			"were answered %d%s.", q.Name, q.RefuseWith, m.Status, without(in)), finding.Proven)
		return
	}
	for _, s := range CheckAnswer(in.Answer, in.Doc.Answers, nil) {
		v.Gaps = append(v.Gaps, Gap{Kind: s.Kind, Rung: 7, Subject: "answer", Cause: quotaCause + "refusal",
			Reason: s.Reason, Confidence: finding.Proven})
	}
}

func without(in Input) string {
	if in.Answer.Header("Retry-After") == "" {
		return " without Retry-After"
	}
	return ""
}
