package verdict

import (
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/finding"
)

// Causes are all causes of findings of sweeps, family by family; docs/findings.md is
// made from them.
var Causes = finding.NewCatalogue(append(ofFamilies(), []finding.Family{
	finding.Family{Name: "answer", Title: "What answers show",
		Shown: "It stands in an answer that is kept, with secrets masked, beside the rule that forbids or asks for " +
			"it.",
		Refuted: "The answer to HEAD has no body, so nothing is said of it.",
		Rows:    answerCauses},
}...)...)

func ofFamilies() (out []finding.Family) {
	for _, f := range families.All {
		if c := f.Causes(); len(c.Rows) > 0 {
			out = append(out, c)
		}
	}
	return out
}

// answerCauses are those of what any answer must and must not show.
var answerCauses = []*finding.Row{
	check.RefusalRow("answer", "A refusal in another shape than declared", "Its type, a header field or a member "+
		"of its body is missing."),
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
