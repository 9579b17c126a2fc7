package workspace

import (
	"fmt"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/review"
)

// message finds a message of a text by its key.
func (ws *Workspace) message(text, key string) (review.Message, error) {
	doc, msgs := ws.Parse(text)
	for _, m := range review.Review(doc, msgs, time.Now()) {
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

// Waive accepts a message in a text, until the end of a day.
func (ws *Workspace) Waive(text, key, reason, by, until string) (Edited, error) {
	if strings.TrimSpace(reason) == "" {
		return Edited{}, fmt.Errorf("%w: say why it is accepted", fault.ErrInput)
	}
	day, err := time.Parse(time.DateOnly, until)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %q is not a date; write for example 2027-03-31", fault.ErrInput, until)
	}
	if day.Before(time.Now().AddDate(0, 0, -1)) {
		return Edited{}, fmt.Errorf("%w: %s is over already", fault.ErrInput, until)
	}
	m, err := ws.message(text, key)
	if err != nil {
		return Edited{}, err
	}
	if m.Level == declaration.Error || review.Find(m.Code) == nil {
		return Edited{}, fmt.Errorf("%w: this has to be mended; it cannot be waived", fault.ErrInput)
	}
	out, err := layout.Apply(text, review.WaiverFor(m, strings.TrimSpace(reason), strings.TrimSpace(by), day))
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return Edited{Text: out, Title: "Waive " + m.Code + " of " + m.Subject, Notes: []string{}}, nil
}
