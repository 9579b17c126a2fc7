// Package answers says what every answer must and must not show.
//
// It sends nothing of its own: it watches the answers that other families judge. A declaration
// says how answers with a status look (their type, header fields and members), which members
// and texts must never be shown, and whether a response schema has all that may be.
package answers

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of any answer.
type Family struct{}

// Name stands before its causes in docs/findings.md.
func (Family) Name() string { return "answer" }

// Plan plans nothing.
func (Family) Plan(*check.Context, *check.Planning) {}

// Script sends nothing.
func (Family) Script(*check.Context, *check.Probe) check.Script {
	return check.Tell(func(*check.Telling) {})
}

// Cost is nothing.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{} }

// Judge has nothing to judge.
func (Family) Judge(*check.Context, *check.Probe, *check.Fact, *check.Evidence) check.Verdict {
	return check.Unproven("answers are judged where they were seen")
}

// Cell is nowhere.
func (Family) Cell(*check.Probe) (check.Cell, string) { return check.Cell{}, "" }

// Version is that of no data.
func (Family) Version() int { return 1 }

// Decode reads nothing.
func (Family) Decode(int, []byte) (check.Data, error) { return nil, nil }

// Watch holds an answer of a route against what is said of any. unsure are texts that must
// never be shown, and of which what is kept does not tell whether it showed them.
func (Family) Watch(c *check.Context, route string, r check.Report) (gaps []check.Gap, unsure string) {
	var schema map[int]*declaration.Shape
	a := check.AnswerOf(r.Exchange)
	i := c.Doc.RouteNamed(route)
	if i >= 0 {
		schema = c.Doc.Routes[i].Answers
	}
	slips := CheckAnswer(a, c.Doc.Answers, schema)
	if i >= 0 && !slices.ContainsFunc(slips, func(s Slip) bool { return s.Cause == "header www-authenticate" }) {
		if s, is := unchallenged(a, c.Doc, i); is {
			slips = append(slips, s)
		}
	}
	for _, s := range slips {
		g := check.Gap{Says: s.Reason, Proof: check.Shown(check.Head(r))}
		if g.Cause, g.What = rowOf(s); g.Cause == rows[0] {
			// What writes such answers is one piece of code.
			g.Wide = finding.Scope{Of: finding.AtService, Name: s.Shared(a.Status)}
		}
		if g.Cause != nil {
			gaps = append(gaps, g)
		}
	}
	n := c.Doc.Answers
	if r.Exchange.Truncated && (len(n.NeverFields)+len(n.Never)+len(n.NeverText) > 0 || n.Schema != "") {
		return gaps,
			"what it must never show was not checked beyond the first part of the answer, which is longer than " +
				"what is read of one"
	}
	if list := unsought(a, c.Doc.Answers); len(list) > 0 {
		unsure = fmt.Sprintf("whether it shows %s was not checked: that was declared after it was sent, and not all "+
			"of the answer was kept", strings.Join(list, ", "))
	}
	return gaps, unsure
}

// rowOf is the row of a slip, and the name behind its cause.
func rowOf(s Slip) (*finding.Row, string) {
	if s.Kind == finding.WrongRefusal {
		return rows[0], ""
	}
	for _, row := range rows[1:] {
		if what, ok := strings.CutPrefix(s.Cause, row.Cause); ok {
			return row, what
		}
	}
	return nil, ""
}

// Causes are those of what any answer must and must not show.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "answer", Title: "What answers show",
		Shown: "It stands in an answer that is kept, with secrets masked, beside the rule that forbids or asks for " +
			"it.",
		Refuted: "The answer to HEAD has no body, so nothing is said of it.",
		Rows:    rows}
}

var rows = []*finding.Row{
	check.RefusalRow("answer", "A refusal in another shape than declared", "Its type, a header field, a challenge or "+
		"a member of its body is missing."),
	leak("field ", "A member stands in an answer that must never be shown.", finding.API3, 200),
	leak("schema ", "A member stands in an answer that the response schema does not list.", finding.API3, 200),
	leak("text ", "A text stands in an answer that must never be shown.", finding.API8, 209),
}

func leak(cause, means string, owasp finding.OWASP, cwe int) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.Leaking, Title: "Shows {what}", Means: means,
		Advice: "Leave it out of the answer; list the members an answer may have instead of passing the stored " +
			"record on.",
		OWASP: owasp, CWE: cwe}
}
