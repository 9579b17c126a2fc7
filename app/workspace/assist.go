package workspace

import (
	"time"

	"millgate/core/declaration"
	"millgate/core/declaration/assist"
	"millgate/core/review"
)

// waived are what a waiver can name.
func (ws *Workspace) waived() map[string][]string {
	ids := make([]string, len(review.Checks))
	for i, c := range review.Checks {
		ids[i] = c.ID
	}
	out := map[string][]string{"check": ids}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for _, list := range ws.found {
		for _, f := range list {
			out["finding"] = append(out["finding"], f.ID)
		}
	}
	return out
}

// Complete lists what can stand at a place of a text.
func (ws *Workspace) Complete(text string, line, column int) assist.Completion {
	return assist.Complete(text, line, column, ws.lastMeant(text), ws.waived())
}

// Explain says what stands at a place of a text.
func (ws *Workspace) Explain(text string, line, column int) (assist.Help, bool) {
	return assist.Explain(text, line, column, ws.lastMeant(text))
}

// lastMeant is what a text says, or what the kept one says while it has no
// meaning. The last one that was asked for is remembered: somebody types.
func (ws *Workspace) lastMeant(text string) *declaration.Document {
	ws.mu.Lock()
	kept, same, typed, at := ws.doc, text == ws.text, ws.typed, ws.typedAt
	ws.mu.Unlock()
	switch {
	case same:
		return kept
	case typed != nil && time.Since(at) < 2*time.Second:
		return typed
	}
	doc, msgs := ws.Parse(text)
	switch {
	case Syntax(msgs) == nil:
	case typed != nil:
		return typed
	default:
		return kept
	}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	ws.typed, ws.typedAt = doc, time.Now()
	return doc
}
