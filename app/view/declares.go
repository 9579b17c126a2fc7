package view

import (
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// declares are the words of the deciding entry, with their text, by which a refusal that is declared otherwise is as
// declared: with the status that was seen. Nil where it was no other refusal, or no such word says it.
func declares(a declaration.Answers, x access.Expectation, v finding.Verdict, seen check.Answer) map[string]string {
	if v.Kind != finding.WrongRefusal || x.Entry == nil || x.Status() == 0 || !check.Classify(seen, a).Refuses() {
		return nil
	}
	t := x.Entry.Turned
	if t.Say(x.Subject, seen.Status); t == x.Entry.Turned {
		return nil
	}
	words := map[string]string{"turned_away": t.Text()}
	if x.Entry.Hide && t.Ownership != 0 { // both would say it
		words["hide"] = ""
	}
	return words
}
