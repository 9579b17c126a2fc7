package observe

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/route"
)

// idOf names a group by what it is about, so that it is the same one as long as that stays.
func idOf(parts ...any) string {
	sum := sha256.Sum256(fmt.Append(nil, parts...))
	return "ob-" + hex.EncodeToString(sum[:4])
}

// Entry is an entry to be written for some routes, with how it came to be.
type Entry struct {
	Rule   declaration.Entry
	Routes []string // the keys of the routes that it is to decide
	How    string   // "observed", "guessed from GET /things"
}

// Confirm writes entries into a text, each with a comment that says how it came to be and when somebody confirmed it.
// read reads a text as a declaration. An entry selects by patterns where these decide its routes alone, and names the
// routes where that would say something else or nothing; the error says where neither does.
func Confirm(text string, at time.Time, read func(string) (*declaration.Document, []declaration.Message),
	entries ...Entry) (string, error) {
	d, msgs := read(text)
	if declaration.Failed(msgs) {
		return "", fmt.Errorf("the declaration has errors; mend them first")
	}
	w := writing{text: text, doc: d, at: at, read: read}
	if w.write(entries...) == nil { // as a rule they do not touch each other
		return w.text, nil
	}
	for _, e := range entries {
		err := w.write(e)
		if err != nil && len(e.Rule.At) > 0 {
			e.Rule.At = nil
			err = w.write(e)
		}
		if err != nil {
			return "", err
		}
	}
	return w.text, nil
}

// writing is a text that entries are written into, and what it says.
type writing struct {
	text string
	doc  *declaration.Document
	at   time.Time
	read func(string) (*declaration.Document, []declaration.Message)
}

// write writes entries, and holds what came of it to what was asked for. An entry without selectors names its routes.
// With an error nothing is written.
func (w *writing) write(entries ...Entry) error {
	edits, err := w.making(entries)
	if err != nil {
		return err
	}
	wanted := map[string]*declaration.Entry{}
	for _, e := range entries {
		x := named(w.doc, e)
		for _, key := range e.Routes {
			wanted[key] = &x
		}
		edits = append(edits, layout.Edit{Section: "access",
			Text: x.Text() + " # " + e.How + " on " + w.at.Format(time.DateOnly) + ", confirmed"})
	}
	text, err := layout.Apply(w.text, edits...)
	if err != nil {
		return err
	}
	after, msgs := w.read(text)
	for _, m := range msgs {
		if m.Level == declaration.Error {
			return fmt.Errorf("%s: %s", entries[len(entries)-1].Rule.Text(), m.Text)
		}
	}
	rules := map[*declaration.Entry]string{nil: ""} // many routes have one entry
	ruleOf := func(e *declaration.Entry) string {
		if _, ok := rules[e]; !ok {
			rules[e] = rule(e)
		}
		return rules[e]
	}
	for i, rt := range after.Routes {
		switch x, k := wanted[rt.Key()], w.doc.RouteNamed(rt.Key()); {
		case x != nil && ruleOf(after.Entry(i)) != ruleOf(x):
			return fmt.Errorf("%s is decided by another entry; change that one", rt.Key())
		case x == nil && k >= 0 && ruleOf(after.Entry(i)) != ruleOf(w.doc.Entry(k)):
			return fmt.Errorf("what is confirmed would decide %s too", rt.Key())
		}
	}
	w.text, w.doc = text, after
	return nil
}

// making are the edits by which undecided entries that name routes of others give way; the error names a route that is
// not there.
func (w *writing) making(entries []Entry) (edits []layout.Edit, err error) {
	rest := map[*declaration.Entry][]route.Selector{}
	var order []*declaration.Entry
	for _, e := range entries {
		for _, key := range e.Routes {
			i := w.doc.RouteNamed(key)
			if i < 0 {
				return nil, fmt.Errorf("%s is no route of the inventory any more; observe again", key)
			}
			en := w.doc.Entry(i)
			if !en.Undecided() || !w.doc.NamesRoute(w.doc.Deciding[i], i) || en.File != w.doc.Name {
				continue
			}
			if _, ok := rest[en]; !ok {
				rest[en], order = en.At, append(order, en)
			}
			rest[en] = slices.DeleteFunc(slices.Clone(rest[en]), func(s route.Selector) bool {
				return slices.Equal(w.doc.Inventory.Named(s), []int{i})
			})
		}
	}
	for _, en := range order {
		edit := layout.Edit{Section: "access", Line: en.Line}
		if len(rest[en]) > 0 {
			edit.Field, edit.Text = []string{"at"}, declaration.SelectorsText(rest[en])
		}
		edits = append(edits, edit)
	}
	return edits, nil
}

// named is the entry to write: with its patterns, or else with its routes by name.
func named(d *declaration.Document, e Entry) declaration.Entry {
	x := e.Rule
	if len(x.At) > 0 {
		return x
	}
	for _, key := range e.Routes {
		x.At = append(x.At, d.Routes[d.RouteNamed(key)].Selector)
	}
	return x
}

// Guesses are entries for routes that were not sent, each from the read beside it: what the declaration says of that
// one by now. Nothing of them was seen.
func Guesses(d *declaration.Document) (out []Entry) {
	index := map[string]int{}
	for i, rt := range d.Routes {
		if !d.Entry(i).Undecided() || !rt.Unsafe() {
			continue
		}
		e, how, ok := guess(d, i)
		if !ok {
			continue
		}
		key := how + "\n" + rule(&e)
		at, ok := index[key]
		if !ok {
			at = len(out)
			index[key] = at
			e.At = nil
			out = append(out, Entry{Rule: e, How: how})
		}
		out[at].Routes = append(out[at].Routes, rt.Key())
	}
	return out
}

// guess is an entry for a write, and from what it was guessed.
func guess(d *declaration.Document, i int) (e declaration.Entry, how string, ok bool) {
	if s, q := access.SessionAt(d, i); s != nil && q != s.Logout {
		return entryOf(whoOf("anyone")), "guessed, since " + s.Name + " begins there", true
	}
	j := neighbour(d, i)
	if j < 0 {
		return described(d, i)
	}
	e = *d.Entry(j)
	if e.Open() { // a write for everybody is seldom meant
		e = entryOf(whoOf("signed-in"))
	}
	fills := d.FillParam(i, recordOf(d, j)) != "" // otherwise nothing there is somebody's own, or of a group
	e.Who = slices.DeleteFunc(slices.Clone(e.Who), func(w declaration.Who) bool {
		return w.On.Kind != declaration.OnAll && (!fills || w.Kind == declaration.WhoAnyone)
	})
	if !fills {
		e.OwnerOf, e.Hide = declaration.Ref{}, false
		e.Turned.Ownership = 0
	}
	how = "guessed from " + d.Routes[j].Key()
	if r := d.Routes[i].Requires; r != nil && len(r.Scopes) > 0 && len(e.Scope) == 0 {
		e.Scope = r.Scopes
		how += " and from " + d.Routes[i].From
	}
	return e, how, len(e.Who) > 0
}

// described is what the file that describes a route says of it. It says who may come, not what they may do.
func described(d *declaration.Document, i int) (e declaration.Entry, how string, ok bool) {
	r := d.Routes[i].Requires
	if r == nil {
		return e, "", false
	}
	how = "guessed from " + d.Routes[i].From
	if r.Nothing {
		return entryOf(whoOf("anyone")), how, true
	}
	e = entryOf(whoOf("signed-in"))
	e.Scope = r.Scopes
	for _, n := range r.Schemes {
		if d.SchemeNamed(n) == nil {
			e.By = nil // its schemes have other names there
			break
		}
		e.By = append(e.By, declaration.Ref{Name: n})
	}
	return e, how, true
}

func recordOf(d *declaration.Document, i int) *declaration.Record {
	if r := d.Record(i); r != nil {
		return r
	}
	return &declaration.Record{}
}

// neighbour is the decided read that says most about a write: of its own path, or else of the path above it that is
// nearest. -1 without.
func neighbour(d *declaration.Document, i int) int {
	rt := d.Routes[i]
	segments := route.Split(rt.Path())
	for n := len(segments); n > 0; n-- {
		path := "/" + strings.Join(segments[:n], "/")
		j := d.RouteNamed("GET " + route.Hosted(rt.Host, path))
		if j >= 0 && d.Entry(j) != nil && !access.IsUndecided(d, j) {
			return j
		}
	}
	return -1
}
