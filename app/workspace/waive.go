package workspace

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/finding"
	"millgate/core/review"
)

// message finds a message of a text by its key.
func (ws *Workspace) message(text, key string) (review.Message, error) {
	doc, msgs := ws.Parse(text)
	for _, m := range ws.review(doc, msgs) {
		if m.Key() == key {
			return m, nil
		}
	}
	return review.Message{}, fmt.Errorf("%w: the message is gone; the text has changed meanwhile", fault.ErrNotFound)
}

// Fix applies the fix of a message to a text.
func (ws *Workspace) Fix(text, key string) (Edited, error) {
	m, err := ws.message(text, key)
	if err != nil {
		return Edited{}, err
	}
	if m.Fix == nil {
		return Edited{}, fmt.Errorf("%w: this message has no fix of its own", fault.ErrInput)
	}
	out, err := m.Fix.Apply(text)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return Edited{Text: out, Title: m.Fix.Title, Notes: []string{}}, nil
}

// Accepted is how something is accepted.
type Accepted struct {
	Reason, By, Until string // the last day, as 2027-03-31
}

// read says what is missing.
func (a *Accepted) read() (until time.Time, err error) {
	if a.Reason, a.By = strings.TrimSpace(a.Reason), strings.TrimSpace(a.By); a.Reason == "" {
		return until, fmt.Errorf("%w: say why it is accepted", fault.ErrInput)
	}
	if until, err = time.Parse(time.DateOnly, a.Until); err != nil {
		return until, fmt.Errorf("%w: %q is not a date; write for example 2027-03-31", fault.ErrInput, a.Until)
	}
	if until.Before(time.Now().AddDate(0, 0, -1)) {
		return until, fmt.Errorf("%w: %s is over already", fault.ErrInput, a.Until)
	}
	return until, nil
}

// Waive accepts a message in a text, until the end of a day.
func (ws *Workspace) Waive(text, key string, how Accepted) (Edited, error) {
	day, err := how.read()
	if err != nil {
		return Edited{}, err
	}
	m, err := ws.message(text, key)
	if err != nil {
		return Edited{}, err
	}
	if m.Level == declaration.Error || review.Find(m.Code) == nil {
		return Edited{}, fmt.Errorf("%w: this has to be mended; it cannot be waived", fault.ErrInput)
	}
	out, err := layout.Apply(text, review.WaiverFor(m, how.Reason, how.By, day))
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return Edited{Text: out, Title: "Waive " + m.Code + " of " + m.Subject, Notes: []string{}}, nil
}

// WaiveFindings accepts findings in a text as they are, until the end of a day. A waiver that names one of them
// already is written anew. The text is raised to the version that has waivers of findings.
func (ws *Workspace) WaiveFindings(text string, list []finding.Finding, how Accepted) (Edited, error) {
	day, err := how.read()
	if err != nil {
		return Edited{}, err
	}
	doc, _, err := ws.pending(text)
	if err != nil {
		return Edited{}, err
	}
	if len(list) == 0 {
		return Edited{}, fmt.Errorf("%w: no finding is chosen", fault.ErrInput)
	}
	e := Edited{Notes: []string{}, Title: "Waive " + list[0].Title}
	if len(list) > 1 {
		e.Title = fmt.Sprintf("Waive %d findings", len(list))
	}
	var edits []layout.Edit
	for _, f := range list {
		w := review.WaiverForFinding(f, how.Reason, how.By, day)
		if k := slices.IndexFunc(doc.Waivers, func(w *declaration.Waiver) bool {
			return w.Finding == f.ID && w.File == doc.Name
		}); k >= 0 {
			w.Line = doc.Waivers[k].Line
		}
		edits = append(edits, w)
	}
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	e.Text = out
	return ws.raised(doc, e, "Waivers of findings")
}

// raised is an edit that writes what came with version 1.1 of the language: its text says that version, and its notes
// what else means something else by it.
func (ws *Workspace) raised(was *declaration.Document, e Edited, what string) (Edited, error) {
	out, raised, err := layout.Raise(e.Text, declaration.V11)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if e.Text = out; raised {
		e.Title += fmt.Sprintf(", and raise the file to version %s", declaration.V11)
		e.Notes = append(e.Notes,
			fmt.Sprintf("%s came with version %s of the language: the file says millgate: %[2]s now.",
				what, declaration.V11))
		e.Notes = append(e.Notes, ws.othersMeant(was, out)...)
	}
	return e, nil
}

// othersMeant says what else means something else in a text since its version was raised.
func (ws *Workspace) othersMeant(was *declaration.Document, text string) (notes []string) {
	doc, msgs := ws.Parse(text)
	for _, s := range doc.Schemes {
		if old := was.SchemeNamed(s.Name); old != nil && (old.Algorithms == nil) != (s.Algorithms == nil) {
			notes = append(notes, fmt.Sprintf("With it, the empty list of algorithms of %s means that none is "+
				"accepted.",
				s.Name))
		}
	}
	for _, m := range msgs {
		if m.Level == declaration.Error {
			notes = append(notes, fmt.Sprintf("With it, line %d is to be mended: %s.", m.Line, m.Text))
		}
	}
	return notes
}
