package verdict

import (
	"fmt"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// QuotaSeen is what a quota drill measured, beside what is declared.
type QuotaSeen struct {
	Measured *quota.Measured
	Quota    *declaration.Quota
	Stack    quota.Stack // for the caller who was sent
}

// quotaCause begins the causes of gaps of a quota.
const quotaCause = "quota "

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
	conf, how := Proven, ""
	if in.Probe.Empty {
		conf, how = Likely, " They were sent without what they need, so that nothing was carried out."
	}
	beyond := false
	if n, c, d, yes := m.Beyond(s); yes {
		beyond = true
		what := fmt.Sprintf("%d calls got through in %s; %s lets at most %d through.", n, d.Round(time.Millisecond), q.Name, c)
		cause := "over"
		if !m.Refused() {
			cause = "none"
			what = fmt.Sprintf("None of %d calls in %s was refused; %s lets at most %d through.", n, d.Round(time.Millisecond), q.Name, c)
		}
		v.gap(Unthrottled, x, quotaCause+cause, what+how, conf)
	}
	for _, a := range m.Around {
		if a.Passed {
			v.gap(Unthrottled, x, quotaCause+"way "+a.Way, fmt.Sprintf("While calls were refused by %s, one with %s was answered %d, and the next without it was refused again.", q.Name, a.Way, a.Status), conf)
		}
	}
	if m.Status != 0 {
		v.quotaRefusal(in, x)
	}
	if m.Other != "" && m.OtherStatus != m.Passes {
		y := x
		y.Decider = 7
		v.gap(OverRestrictive, y, quotaCause+"shared", fmt.Sprintf("While calls of %s were turned away by %s, the first of %s was %s too: they share one count.", in.Probe.Identity, q.Name, m.Other, map[bool]string{true: "kept waiting", false: fmt.Sprintf("refused (%d)", m.OtherStatus)}[m.OtherStatus == 0]), Likely)
	}
	switch {
	case len(v.Gaps) > 0:
		return
	case m.Waits && !m.Refused():
		v.agrees(Likely, "within what "+q.Name+" allows. "+m.Found())
	case !m.Refused() && !beyond:
		v.unproven(fmt.Sprintf("none of %d calls in %.1f s was refused, and %s allows as many", len(m.Calls), m.Seconds, q.Name))
	default:
		v.agrees(conf, fmt.Sprintf("refused within what %s allows. %s", q.Name, m.Found()))
	}
}

// quotaRefusal judges how a call is refused.
func (v *Verdict) quotaRefusal(in Input, x access.Expectation) {
	m, q := in.Quota.Measured, in.Quota.Quota
	if m.Status != q.RefuseWith {
		v.gap(WrongRefusal, x, quotaCause+"refusal", fmt.Sprintf("Calls beyond %s must be answered %d, they were answered %d%s.", q.Name, q.RefuseWith, m.Status, without(in)), Proven)
		return
	}
	for _, s := range CheckAnswer(in.Answer, in.Doc.Answers, nil) {
		v.Gaps = append(v.Gaps, Gap{Kind: s.Kind, Rung: 7, Subject: "answer", Cause: quotaCause + "refusal", Reason: s.Reason, Confidence: Proven})
	}
}

func without(in Input) string {
	if in.Answer.Header("Retry-After") == "" {
		return " without Retry-After"
	}
	return ""
}

var quotaTitles = map[string]string{"over": "More calls get through than declared", "none": "Nothing limits the calls", "shared": "Callers share one count", "refusal": "Too many calls are refused in another way than declared"}

func quotaTitle(cause string) string {
	rest := strings.TrimPrefix(cause, quotaCause)
	if w, ok := strings.CutPrefix(rest, "way "); ok {
		return "The count is stepped around with " + w
	}
	return quotaTitles[rest]
}

func quotaAdvice(cause string) string {
	switch rest := strings.TrimPrefix(cause, quotaCause); {
	case strings.HasPrefix(rest, "way "):
		return "Count by what the caller cannot write: the address of the connection, or of a gateway that you trust; and count a path in one form."
	case rest == "refusal":
		return "Answer with the declared status, and say with Retry-After when to come again (RFC 6585 section 4, RFC 9110 section 10.2.3)."
	case rest == "shared":
		return "Count each caller by itself: one who calls much must not keep the others out."
	case rest == "none":
		return "Count the calls, in front of the work that they ask for."
	}
	return "Let all nodes share one count, and count in a sliding window where the edge of two fixed ones must not let twice as much through."
}
