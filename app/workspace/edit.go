package workspace

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// Edited is a text after an edit, not kept yet.
type Edited struct {
	Text  string
	Title string   // what was done, for the list of pending edits
	Notes []string // what could not be had that way
}

// Begun is a text to edit, also where there is none yet.
func Begun(text string) string {
	if strings.TrimSpace(text) == "" {
		return "millgate: 1.1\ntitle: My service\n"
	}
	return text
}

// pending parses a text that edits are made in. It must have a meaning.
func (ws *Workspace) pending(text string) (*declaration.Document, []declaration.Message, error) {
	doc, msgs := ws.Parse(text)
	if declaration.Failed(msgs) {
		return doc, msgs, fmt.Errorf("%w: mend the marked lines first, then edit here", fault.ErrInvalid)
	}
	return doc, msgs, nil
}

// BoardChange is an edit of the board.
type BoardChange struct {
	Routes  []string
	Callers []string // "" is nobody; none is every caller
	Action  access.Action
	On      string            // with access.Owner: a word of `on`
	Set     map[string]string // words of an access entry with their text, in place of an action
}

// setWords are the words of an entry that the board may set.
var setWords = []string{"who", "given", "scope", "by", "hide", "turned_away", "owner_of", "broken"}

// EditBoard makes an edit of the board in a text.
func (ws *Workspace) EditBoard(text string, c BoardChange) (Edited, error) {
	doc, _, err := ws.pending(text)
	if err != nil {
		return Edited{}, err
	}
	ch := access.Change{Action: c.Action, On: c.On, Set: c.Set}
	for _, key := range c.Routes {
		i := doc.RouteNamed(key)
		if i < 0 {
			return Edited{}, fmt.Errorf("%w: the declaration has no route %s; add it to the inventory first",
				fault.ErrInput,
				key)
		}
		ch.Routes = append(ch.Routes, i)
	}
	for _, n := range c.Callers {
		col := 0
		if n != "" {
			if col = slices.IndexFunc(doc.Identities,
				func(i *declaration.Identity) bool { return i.Name == n }) + 1; col == 0 {
				return Edited{}, fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, n)
			}
		}
		ch.Columns = append(ch.Columns, col)
	}
	switch {
	case len(ch.Routes) == 0:
		return Edited{}, fmt.Errorf("%w: no route is selected", fault.ErrInput)
	case c.Action == "" && len(c.Set) == 0:
		return Edited{}, fmt.Errorf("%w: nothing is to be done", fault.ErrInput)
	case c.Action != "" && !slices.Contains([]access.Action{access.Raise, access.Lower, access.Owner}, c.Action):
		return Edited{}, fmt.Errorf("%w: %q is not something to do on the board", fault.ErrInput, c.Action)
	}
	for k := range c.Set {
		if !slices.Contains(setWords, k) {
			return Edited{}, fmt.Errorf("%w: %q is not set from the board", fault.ErrInput, k)
		}
	}
	edits, notes, err := access.Edits(doc, ch)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	e := Edited{Text: out, Title: titleOf(doc, c), Notes: append([]string{}, notes...)}
	for _, x := range []struct {
		word string
		said bool
	}{{"turned_away", c.Set["turned_away"] != ""}, {"on", strings.Contains(c.Set["who"], "on:")}} {
		if !x.said {
			continue
		}
		if e, err = ws.raised(doc, e, "`"+x.word+"`"); err != nil {
			return Edited{}, err
		}
	}
	return e, ws.leaves(e.Text)
}

func titleOf(doc *declaration.Document, c BoardChange) string {
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
		return access.OnlyOn(doc.OnNamed(c.On)) + " at " + at
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

// EditTarget adds a target to a text, or changes it there. What stood there before without a meaning stays; nothing is
// added that has none.
func (ws *Workspace) EditTarget(text string, t declaration.Target) (Edited, error) {
	if t.Name == "" {
		return Edited{}, fmt.Errorf("%w: the target needs a name", fault.ErrInput)
	}
	text = Begun(text)
	before, had := ws.Parse(text)
	title := "Add target " + t.Name
	if before.TargetNamed(t.Name) != nil {
		title = "Change target " + t.Name
	}
	out, err := layout.PutTarget(text, t)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	_, msgs := ws.Parse(out)
	for _, m := range msgs {
		if m.Level == declaration.Error && !slices.ContainsFunc(had, func(o declaration.Message) bool {
			return o.Code == m.Code && o.Text == m.Text
		}) {
			return Edited{}, fmt.Errorf("%w: %s; %s", fault.ErrInput, m.Text, m.Hint)
		}
	}
	return Edited{Text: out, Title: title, Notes: []string{}}, nil
}

// RouteField is a word of a route that is set from its sheet.
type RouteField struct{ Name, Value string }

// EditRoute sets what is said of a route: effect, sensitivity, group, summary,
// or send, as JSON of a whole sample. An empty value takes it away.
func (ws *Workspace) EditRoute(text, key string, f RouteField) (Edited, error) {
	doc, _, err := ws.pending(text)
	if err != nil {
		return Edited{}, err
	}
	if doc.RouteNamed(key) < 0 {
		return Edited{}, fmt.Errorf("%w: there is no route %q", fault.ErrNotFound, key)
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
					"headers, json, form, multipart, text, type", fault.ErrInput, err)
			}
			value = layout.SampleText(s)
		}
	default:
		return Edited{}, fmt.Errorf("%w: %q is not set from here", fault.ErrInput, f.Name)
	}
	out, err := layout.PutRoute(text, key, []string{f.Name}, value)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if err := ws.leaves(out); err != nil {
		return Edited{}, err
	}
	return Edited{Text: out, Title: f.Name + " of " + key, Notes: []string{}}, nil
}

// Reach answers who reaches a route, or what an identity reaches.
func (ws *Workspace) Reach(route, identity string) ([]access.Reached, error) {
	now := ws.Present()
	if now.Failed() {
		return nil, fmt.Errorf("%w: mend the declaration first", fault.ErrInvalid)
	}
	if route != "" {
		i := now.Doc.RouteNamed(route)
		if i < 0 {
			return nil, fmt.Errorf("%w: there is no route %q", fault.ErrNotFound, route)
		}
		return access.WhoReaches(now.Doc, i), nil
	}
	list, err := access.ReachOf(now.Doc, identity)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrNotFound, err)
	}
	return list, nil
}
