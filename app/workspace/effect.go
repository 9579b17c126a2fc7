package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/finding"
	"millgate/core/review"
)

// Effect is what a pending text would do.
type Effect struct {
	Messages []review.Message
	Failed   bool // the text has errors, so that nothing can be compared
	access.Diff
	Pages       int      // crossings of pages that could do something else
	NewMessages []string // keys of messages that the kept text does not have
	// Waived are the titles of findings that it accepts and the kept text does not, Reopened those the other way.
	Waived, Reopened []string
}

// Check parses a text without keeping it and says what it would change.
func (ws *Workspace) Check(text string) Effect {
	now := ws.Present()
	old, was := now.Doc, now.Reviewed
	doc, msgs := ws.Parse(text)
	e := Effect{Messages: ws.review(doc, msgs), Failed: declaration.Failed(msgs)}
	had := map[string]bool{}
	for _, m := range was {
		had[m.Key()] = true
	}
	for _, m := range e.Messages {
		if m.Waived == nil && !had[m.Key()] {
			e.NewMessages = append(e.NewMessages, m.Key())
		}
	}
	if !e.Failed {
		e.waivers(old, doc, ws.foundBy(old))
		e.Diff = access.Compare(old, doc)
		_, turned := pages.Compare(old, doc)
		e.Pages = pages.Changes(turned)
	}
	return e
}

// Syntax is the message that the text is not YAML at all, nil when it is.
func Syntax(msgs []declaration.Message) *declaration.Message {
	for i := range msgs {
		if msgs[i].Code == "syntax" {
			return &msgs[i]
		}
	}
	return nil
}

// PutSample writes what is sent to a route into the text and keeps it.
func (ws *Workspace) PutSample(ctx context.Context, route, body string) (Declaration, error) {
	cur := ws.Declaration()
	text, err := layout.PutSample(cur.Text, route, json.RawMessage(body))
	if err != nil {
		return cur, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return ws.Keep(ctx, text, "Set the sample of "+route, cur.Revision)
}

// waivers says which findings a text accepts that the kept one does not, and the other way.
func (e *Effect) waivers(old, doc *declaration.Document, found []finding.Finding) {
	at := time.Now()
	was, is := finding.Waive(old, found, at), finding.Waive(doc, found, at)
	for i, f := range found {
		switch {
		case was[i].Waived == nil && is[i].Waived != nil:
			e.Waived = append(e.Waived, f.Title)
		case was[i].Waived != nil && is[i].Waived == nil:
			e.Reopened = append(e.Reopened, f.Title)
		}
	}
}
