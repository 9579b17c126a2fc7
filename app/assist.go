package app

import (
	"time"

	"millgate/core/declaration"
	"millgate/core/declaration/assist"
	"millgate/core/review"
)

// checkIDs are what a waiver can name.
func checkIDs() map[string][]string {
	ids := make([]string, len(review.Checks))
	for i, c := range review.Checks {
		ids[i] = c.ID
	}
	return map[string][]string{"check": ids}
}

// Complete lists what can stand at a place of a text.
func (a *App) Complete(text string, line, column int) assist.Completion {
	return assist.Complete(text, line, column, a.lastMeant(text), checkIDs())
}

// Explain says what stands at a place of a text.
func (a *App) Explain(text string, line, column int) (assist.Help, bool) {
	return assist.Explain(text, line, column, a.lastMeant(text))
}

// lastMeant is what a text says, or what the kept one says while it has no
// meaning. The last one that was asked for is remembered: somebody types.
func (a *App) lastMeant(text string) *declaration.Document {
	a.mu.Lock()
	kept, same, typed, at := a.doc, text == a.text, a.typed, a.typedAt
	a.mu.Unlock()
	switch {
	case same:
		return kept
	case typed != nil && time.Since(at) < 2*time.Second:
		return typed
	}
	doc, msgs := a.parse(text)
	switch {
	case Syntax(msgs) == nil:
	case typed != nil:
		return typed
	default:
		return kept
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.typed, a.typedAt = doc, time.Now()
	return doc
}
