package check

// Rule: A claim names what would refute it.

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/finding"
)

// Verdict is what a family concludes of a probe: the worst of its gaps, and without any
// that it agrees, as far as Proof goes. The zero one is unproven.
type Verdict struct {
	Says  string
	Proof Proof
	Gaps  []Gap
	Does  string // what was seen, as the lens of the probe's cell shows it; "" without
	// Answers are those that watchers look at. Shape is what one is a gap of that refuses in
	// another shape than declared; the zero one: as anywhere. With AnyShape it may.
	Answers  []Report
	Shape    Gap
	AnyShape bool
}

// IsGap says whether it has a gap that is more than unproven.
func (v Verdict) IsGap() bool {
	return slices.ContainsFunc(v.Gaps, func(g Gap) bool { return g.Proof.level > nothing })
}

// Gap is one way in which what was seen departs from what is declared.
type Gap struct {
	Cause *finding.Row // which has the kind
	What  string       // the name behind a cause that ends in a space
	Rung  int          // of the ladder, that should have stopped it; 0 without
	Says  string
	Proof Proof
	// Where one mend would be, what others show beside it, and who it is: as in finding.Gap.
	Scope, Wide finding.Scope
	Aside       bool
	Who         string
}

// Proof says how sure something is. It is made by Shown, TurnedAway, Changed and Speaks
// alone, of the observations that it rests on; the zero one proves nothing.
type Proof struct {
	level level
	hid   string
}

type level int

const (
	nothing level = iota
	speaks
	shows
)

// Confidence is the proof in a word.
func (p Proof) Confidence() finding.Confidence {
	switch p.level {
	case shows:
		return finding.Proven
	case speaks:
		return finding.Likely
	default:
	}
	return finding.NotSure
}

// Hid says what of the observations was not seen, "" where all was: that is why something
// is likely and not proven.
func (p Proof) Hid() string { return p.hid }

// hidden says what of an observation was not seen.
func hidden(r Report) string {
	x := r.Exchange
	switch {
	case r.Given != nil:
		return ""
	case r.Fate == Late:
		return r.Name + " was not answered within its time"
	case r.Fate != Answered || x.Status == 0:
		return "the answer to " + r.Name + " was never seen"
	case x.Truncated:
		return "the answer to " + r.Name + " was longer than what is kept of one"
	}
	return ""
}

func of(full level, list []Report) Proof {
	p := Proof{level: full}
	var hid []string
	for _, r := range list {
		if h := hidden(r); h != "" {
			hid = append(hid, h)
		}
	}
	if len(list) == 0 {
		return Proof{}
	}
	if len(hid) > 0 {
		p.level, p.hid = speaks, strings.Join(hid, "; ")
	}
	return p
}

// Head is a report of an answer of which the status and the header fields alone are looked
// at: they were seen whole, however long the body is.
func Head(r Report) Report {
	r.Exchange.Content, r.Exchange.Truncated = "", false
	return r
}

// Shown is what observations show by themselves: an admission. Without any it proves
// nothing; where one was not seen whole, it speaks for it.
func Shown(r ...Report) Proof { return of(shows, r) }

// Speaks is what observations speak for and cannot show.
func Speaks(r ...Report) Proof { return of(speaks, r) }

// TurnedAway is a refusal beside a control: the same request, by somebody who must be
// admitted. Where the control is not of the class Admitted, the request may be wrong
// itself, and nothing is proven. What a control showed beyond its class does not matter.
func TurnedAway(r, control Report, as Class) Proof {
	if as != Admitted || control.Fate != Answered {
		return Proof{}
	}
	return of(shows, []Report{r})
}

// Changed is a record that is another than before: what was read twice before tells what
// changes by itself, what was read once after tells the rest.
func Changed(first, second, after Report) (Proof, Change) {
	a, ok := RecordIn(AnswerOf(first.Exchange))
	b, ok2 := RecordIn(AnswerOf(second.Exchange))
	c, ok3 := RecordIn(AnswerOf(after.Exchange))
	if !ok || !ok2 || !ok3 {
		return Proof{}, NotRead
	}
	how := Compare(a, b, c)
	if how == NotRead {
		return Proof{}, NotRead
	}
	return of(shows, []Report{first, second, after}), how
}

// Unproven is a verdict that says why nothing is known.
func Unproven(format string, args ...any) Verdict { return Verdict{Says: fmt.Sprintf(format, args...)} }

// RefusalRow is the row of a refusal in another way than declared.
func RefusalRow(cause, title, means string) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.WrongRefusal, Title: title, Means: means,
		Advice: "Answer with the status and the shape that the declaration asks for, so that callers can tell what " +
			"to do.",
		OWASP: finding.API8, CWE: 755}
}

// Silent is what speaks for an agreement where nothing answered and nothing had to.
func Silent(r Report) Proof {
	if r.Fate != Lost && r.Fate != Late {
		return Proof{}
	}
	return Proof{level: speaks}
}

// Control is what shows a request to be a fair one: an equal one by a caller who must be
// admitted.
type Control struct {
	Who    string  // the caller, in words
	Report *Report // of its fact
	Answer Answer
	Class  Class
}

// ControlOf is the control of a key, whose caller is who; nil where none was sent.
func ControlOf(c *Context, e *Evidence, key, who string) *Control {
	if key == "" {
		return nil
	}
	f := e.Of(key)
	if f == nil || len(f.Reports) == 0 {
		return nil
	}
	a := AnswerOf(f.Reports[0].Exchange)
	return &Control{who, &f.Reports[0], a, Classify(a, c.Doc.Answers)}
}

// Strange says whether an admission shows nothing of the control's, although that shows
// something: it may be a refusal that is answered as an admission.
func (k *Control) Strange(a Answer) bool {
	return k != nil && k.Class == Admitted && k.Answer.Status < 300 && len(k.Answer.Values()) > 0 && !a.NoBody &&
		!SameContent(a, k.Answer) && !Alike(a, k.Answer)
}

// StrangeText says so.
const StrangeText = " It shows nothing of the control's answer."

// Unfair says why a request may be wrong itself, "" where its control was admitted.
func (k *Control) Unfair() string {
	switch {
	case k == nil:
		return "no caller that must be admitted was sent, so the request may be wrong itself"
	case k.Class != Admitted:
		return fmt.Sprintf("the control (%s) was not admitted either: %s", k.Who, k.Answer.Code())
	}
	return ""
}

// Sentence begins a text with a capital, as a sentence.
func Sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
