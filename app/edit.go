package app

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/assist"
	"millgate/core/declaration/layout"
	"millgate/core/review"
)

// Edited is a text after an edit, not kept yet.
type Edited struct {
	Text  string
	Title string   // what was done, for the list of pending edits
	Notes []string // what could not be had that way
}

// pending parses a text that edits are made in. It must have a meaning.
func (a *App) pending(text string) (*declaration.Document, []declaration.Message, error) {
	doc, msgs := a.parse(text)
	if declaration.Failed(msgs) {
		return doc, msgs, fmt.Errorf("%w: mend the marked lines first, then edit here", ErrInvalid)
	}
	return doc, msgs, nil
}

// BoardChange is an edit of the board.
type BoardChange struct {
	Routes  []string
	Callers []string // "" is nobody; none is every caller
	Action  access.Action
	Set     map[string]string // words of an access entry with their text, in place of an action
}

// setWords are the words of an entry that the board may set.
var setWords = []string{"who", "given", "scope", "by", "hide", "owner_of", "broken"}

// EditBoard makes an edit of the board in a text.
func (a *App) EditBoard(text string, c BoardChange) (Edited, error) {
	doc, _, err := a.pending(text)
	if err != nil {
		return Edited{}, err
	}
	ch := access.Change{Action: c.Action, Set: c.Set}
	for _, key := range c.Routes {
		i := doc.RouteNamed(key)
		if i < 0 {
			return Edited{}, fmt.Errorf("%w: the declaration has no route %s; add it to the inventory first", ErrInput,
				key)
		}
		ch.Routes = append(ch.Routes, i)
	}
	for _, n := range c.Callers {
		col := 0
		if n != "" {
			if col = slices.IndexFunc(doc.Identities,
				func(i *declaration.Identity) bool { return i.Name == n }) + 1; col == 0 {
				return Edited{}, fmt.Errorf("%w: there is no identity %q", ErrNotFound, n)
			}
		}
		ch.Columns = append(ch.Columns, col)
	}
	switch {
	case len(ch.Routes) == 0:
		return Edited{}, fmt.Errorf("%w: no route is selected", ErrInput)
	case c.Action == "" && len(c.Set) == 0:
		return Edited{}, fmt.Errorf("%w: nothing is to be done", ErrInput)
	case c.Action != "" && !slices.Contains([]access.Action{access.Raise, access.Lower, access.Owner}, c.Action):
		return Edited{}, fmt.Errorf("%w: %q is not something to do on the board", ErrInput, c.Action)
	}
	for k := range c.Set {
		if !slices.Contains(setWords, k) {
			return Edited{}, fmt.Errorf("%w: %q is not set from the board", ErrInput, k)
		}
	}
	edits, notes, err := access.Edits(doc, ch)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	if _, msgs, err := a.pending(out); err != nil {
		for _, m := range msgs {
			if m.Level == declaration.Error {
				return Edited{}, fmt.Errorf("%w: it would leave an error: %s; %s", ErrInput, m.Text, m.Hint)
			}
		}
	}
	return Edited{Text: out, Title: titleOf(c), Notes: append([]string{}, notes...)}, nil
}

func titleOf(c BoardChange) string {
	some := func(list []string, one, many string) string {
		if len(list) == 1 {
			if list[0] == "" {
				return "nobody"
			}
			return list[0]
		}
		return fmt.Sprintf("%d %s", len(list), many)
	}
	at := some(c.Routes, "route", "routes")
	who := "everyone"
	if len(c.Callers) > 0 {
		who = some(c.Callers, "caller", "callers")
	}
	switch c.Action {
	case access.Raise:
		return "Admit " + who + " at " + at
	case access.Lower:
		return "Turn " + who + " away at " + at
	case access.Owner:
		return "Own records only at " + at
	}
	var parts []string
	for _, k := range setWords {
		if v, ok := c.Set[k]; ok {
			if v == "" {
				parts = append(parts, "no "+k)
			} else {
				parts = append(parts, k+": "+v)
			}
		}
	}
	return strings.Join(parts, ", ") + " at " + at
}

// RouteField is a word of a route that is set from its sheet.
type RouteField struct{ Name, Value string }

// EditRoute sets what is said of a route: effect, sensitivity, group, summary,
// or send, as JSON of a whole sample. An empty value takes it away.
func (a *App) EditRoute(text, key string, f RouteField) (Edited, error) {
	doc, _, err := a.pending(text)
	if err != nil {
		return Edited{}, err
	}
	if doc.RouteNamed(key) < 0 {
		return Edited{}, fmt.Errorf("%w: there is no route %q", ErrNotFound, key)
	}
	value := strings.TrimSpace(f.Value)
	switch f.Name {
	case "effect", "sensitivity":
	case "group", "summary":
		if value != "" {
			value = declaration.Scalar(value)
		}
	case "send":
		if value != "" {
			var s declaration.Sample
			d := json.NewDecoder(strings.NewReader(value))
			d.DisallowUnknownFields()
			if err := d.Decode(&s); err != nil {
				return Edited{}, fmt.Errorf("%w: the sample is not as it should be: %v; its members are path, query, "+
					"headers, json, form, text, type", ErrInput, err)
			}
			value = layout.SampleText(s)
		}
	default:
		return Edited{}, fmt.Errorf("%w: %q is not set from here", ErrInput, f.Name)
	}
	out, err := layout.PutRoute(text, key, []string{f.Name}, value)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	if _, msgs, err := a.pending(out); err != nil {
		for _, m := range msgs {
			if m.Level == declaration.Error {
				return Edited{}, fmt.Errorf("%w: %s; %s", ErrInput, m.Text, m.Hint)
			}
		}
	}
	return Edited{Text: out, Title: f.Name + " of " + key, Notes: []string{}}, nil
}

// message finds a message of a text by its key.
func (a *App) message(text, key string) (review.Message, error) {
	doc, msgs := a.parse(text)
	for _, m := range review.Review(doc, msgs, time.Now()) {
		if m.Key() == key {
			return m, nil
		}
	}
	return review.Message{}, fmt.Errorf("%w: the message is gone; the text has changed meanwhile", ErrNotFound)
}

// Fix applies the fix of a message to a text.
func (a *App) Fix(text, key string) (Edited, error) {
	m, err := a.message(text, key)
	if err != nil {
		return Edited{}, err
	}
	if m.Fix == nil {
		return Edited{}, fmt.Errorf("%w: this message has no fix of its own", ErrInput)
	}
	out, err := m.Fix.Apply(text)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	return Edited{Text: out, Title: m.Fix.Title, Notes: []string{}}, nil
}

// Waive accepts a message in a text, until the end of a day.
func (a *App) Waive(text, key, reason, by, until string) (Edited, error) {
	if strings.TrimSpace(reason) == "" {
		return Edited{}, fmt.Errorf("%w: say why it is accepted", ErrInput)
	}
	day, err := time.Parse(time.DateOnly, until)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %q is not a date; write for example 2027-03-31", ErrInput, until)
	}
	if day.Before(time.Now().AddDate(0, 0, -1)) {
		return Edited{}, fmt.Errorf("%w: %s is over already", ErrInput, until)
	}
	m, err := a.message(text, key)
	if err != nil {
		return Edited{}, err
	}
	if m.Level == declaration.Error || review.Find(m.Code) == nil {
		return Edited{}, fmt.Errorf("%w: this has to be mended; it cannot be waived", ErrInput)
	}
	out, err := layout.Apply(text, review.WaiverFor(m, strings.TrimSpace(reason), strings.TrimSpace(by), day))
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	return Edited{Text: out, Title: "Waive " + m.Code + " of " + m.Subject, Notes: []string{}}, nil
}

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

// Comparison is what lies between two revisions.
type Comparison struct {
	From, To string // texts
	access.Diff
	Failed bool // one of them has errors
}

// CompareRevisions says what changed from one revision to another.
func (a *App) CompareRevisions(ctx context.Context, from, to uint) (Comparison, error) {
	var docs [2]*declaration.Document
	var c Comparison
	for i, id := range []uint{from, to} {
		r, files, err := a.store.RevisionByID(ctx, id)
		if err != nil {
			return c, fmt.Errorf("%w: there is no revision %d", ErrNotFound, id)
		}
		var msgs []declaration.Message
		docs[i], msgs = declaration.ParseFiles(r.Name, []byte(r.Text), a.keptFiles(files))
		c.Failed = c.Failed || declaration.Failed(msgs)
		if i == 0 {
			c.From = r.Text
		} else {
			c.To = r.Text
		}
	}
	if !c.Failed {
		c.Diff = access.Compare(docs[0], docs[1])
	}
	return c, nil
}

// Reach answers who reaches a route, or what an identity reaches.
func (a *App) Reach(route, identity string) ([]access.Reached, error) {
	now := a.present()
	if now.failed() {
		return nil, fmt.Errorf("%w: mend the declaration first", ErrInvalid)
	}
	if route != "" {
		i := now.doc.RouteNamed(route)
		if i < 0 {
			return nil, fmt.Errorf("%w: there is no route %q", ErrNotFound, route)
		}
		return access.WhoReaches(now.doc, i), nil
	}
	list, err := access.ReachOf(now.doc, identity)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotFound, err)
	}
	return list, nil
}
