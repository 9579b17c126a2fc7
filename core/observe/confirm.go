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

// Confirm writes an entry into a text, with a comment that says how it came to be and when somebody confirmed it. read
// reads a text as a declaration. The entry selects by patterns where these decide its routes alone, and names the
// routes where that would say something else or nothing; the error says where neither does.
func Confirm(text string, e Entry, at time.Time, read func(string) (*declaration.Document,
	[]declaration.Message)) (out string, err error) {
	before, msgs := read(text)
	if declaration.Failed(msgs) {
		return "", fmt.Errorf("the declaration has errors; mend them first")
	}
	named := e.Rule
	named.At = nil
	for _, key := range e.Routes {
		i := before.RouteNamed(key)
		if i < 0 {
			return "", fmt.Errorf("%s is no route of the inventory any more; observe again", key)
		}
		named.At = append(named.At, before.Routes[i].Selector)
	}
	tries := []declaration.Entry{named}
	if len(e.Rule.At) > 0 {
		tries = []declaration.Entry{e.Rule, named}
	}
	for _, x := range tries {
		if out, err = write(text, x, e, at, before, read); err == nil {
			return out, nil
		}
	}
	return "", err
}

// write writes an entry and holds what came of it to what was asked for.
func write(text string, x declaration.Entry, e Entry, at time.Time, before *declaration.Document,
	read func(string) (*declaration.Document, []declaration.Message)) (string, error) {
	var edits []layout.Edit
	for _, i := range indexes(before, e.Routes) { // an entry that named a route gives way
		if en := before.Entry(i); en.Undecided() && before.NamesRoute(before.Deciding[i], i) && en.File == before.Name {
			rest := slices.DeleteFunc(slices.Clone(en.At), func(s route.Selector) bool {
				return slices.Equal(before.Inventory.Named(s), []int{i})
			})
			edit := layout.Edit{Section: "access", Line: en.Line}
			if len(rest) > 0 {
				edit.Field, edit.Text = []string{"at"}, declaration.SelectorsText(rest)
			}
			edits = append(edits, edit)
			break
		}
	}
	edits = append(edits, layout.Edit{Section: "access",
		Text: x.Text() + " # " + e.How + " on " + at.Format(time.DateOnly) + ", confirmed"})
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return "", err
	}
	after, msgs := read(out)
	for _, m := range msgs {
		if m.Level == declaration.Error {
			return "", fmt.Errorf("%s: %s", x.Text(), m.Text)
		}
	}
	for i, rt := range after.Routes {
		k := before.RouteNamed(rt.Key())
		mine := slices.Contains(e.Routes, rt.Key())
		switch got := after.Entry(i); {
		case mine && (got == nil || rule(got) != rule(&x)):
			return "", fmt.Errorf("%s is decided by another entry; change that one", rt.Key())
		case !mine && k >= 0 && rule(got) != rule(before.Entry(k)):
			return "", fmt.Errorf("%s would decide %s too", x.Text(), rt.Key())
		}
	}
	return out, nil
}

func indexes(d *declaration.Document, keys []string) (out []int) {
	for _, k := range keys {
		if i := d.RouteNamed(k); i >= 0 {
			out = append(out, i)
		}
	}
	return out
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
		return entryOf([]string{"anyone"}), "guessed, since " + s.Name + " begins there", true
	}
	j := neighbour(d, i)
	if j < 0 {
		return e, "", false
	}
	e = *d.Entry(j)
	if len(e.Who) > 0 && e.Who[0].Kind == declaration.WhoAnyone { // a write for everybody is seldom meant
		e = entryOf([]string{"signed-in"})
	}
	if d.FillParam(i, recordOf(d, j)) == "" { // nothing there is somebody's own
		e.Who = slices.DeleteFunc(slices.Clone(e.Who),
			func(w declaration.Who) bool { return w.Kind == declaration.WhoOwner })
		e.OwnerOf, e.Hide = declaration.Ref{}, false
	}
	return e, "guessed from " + d.Routes[j].Key(), len(e.Who) > 0
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
