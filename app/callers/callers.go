// Package callers is about who calls: roles, identities with what they prove it with, and the schemes of that. It says
// how each credential fares, edits them in a text that is not kept yet, and tries one on a target.
package callers

import (
	"slices"
	"sync"
	"time"

	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/madeup"
	"millgate/core/route"
	"millgate/store"
)

// Callers looks at callers, edits and tries them. It is safe for concurrent use.
type Callers struct {
	store *store.Store
	ws    *workspace.Workspace

	mu    sync.Mutex
	tried map[credential]Tried
}

func New(st *store.Store, ws *workspace.Workspace) *Callers {
	return &Callers{store: st, ws: ws, tried: map[credential]Tried{}}
}

// credential is what an identity holds of a scheme, at a target.
type credential struct{ target, identity, scheme string }

// Role is one with what it comes to.
type Role struct {
	Name     string
	Includes []string
	Holders  []string // identities that have it themselves
	Opens    int      // routes that who has it gets into
	More     int      // of them, those that nothing it includes opens
	Line     int
}

// Credential is what an identity holds of a scheme, and how it fares at a target.
type Credential struct {
	Scheme string
	Fill   []Member
	State  State
	Why    string // of a refusal
	At     time.Time
	Ends   time.Time // zero where it is not known
}

// State of a credential.
type State string

const (
	Never    State = "never"    // it was never tried
	Obtained State = "obtained" // it was given, or let in
	Refused  State = "refused"
	Missing  State = "missing" // a secret that it needs is not there
)

// Member is a part of a credential. A secret is never shown, only where it is; Text is "" of one that stands in the
// file
// in clear.
type Member struct {
	Name   string
	Text   string // "sanna", "env:SANNA", "kept:sanna-password"
	Secret bool
}

// Identity is one with its credentials.
type Identity struct {
	Name        string
	Roles       []string
	Scopes      []string
	Attributes  map[string]any
	Credentials []Credential
	Owns        map[string][]string // ids by record
	In          map[string][]string // the records of a kind that it stands in, by the kind
	Opens       int                 // routes
	Line        int
}

// Scheme is one with the routes behind it.
type Scheme struct {
	Name   string
	Kind   string
	Login  string   // "POST id:/v1/session"; "" without
	Needs  []string // members that a credential must have
	Secret []string // of them, those that only who holds it knows
	Routes int      // that take it
	Users  []string
	Line   int
}

// Overview is who calls, by a text.
type Overview struct {
	Targets    []string // that it declares
	Kinds      []string // that identities or records stand in
	Roles      []Role
	Identities []Identity
	Schemes    []Scheme
}

// Look is who calls by a text, "" is the kept one, and how their credentials fare at a target.
func (c *Callers) Look(target, text string) Overview {
	d := c.ws.Present().Doc
	if text != "" {
		d, _ = c.ws.Parse(text)
	}
	o := Overview{Kinds: d.Kinds(),
		Targets: declaration.Names(d.Targets, func(t *declaration.Target) string { return t.Name })}
	opens := map[string]map[int]bool{} // by identity or "role NAME"
	for _, r := range d.Roles {
		opens["role "+r.Name] = opensTo(d, &declaration.Identity{Name: "\x00" + r.Name,
			Roles: []declaration.Ref{{Name: r.Name}}})
	}
	for _, r := range d.Roles {
		x := Role{Name: r.Name, Line: r.Line, Opens: len(opens["role "+r.Name]),
			Includes: declaration.Names(r.Includes, func(i declaration.Ref) string { return i.Name })}
		below := map[int]bool{}
		for _, i := range x.Includes {
			for k := range opens["role "+i] {
				below[k] = true
			}
		}
		for k := range opens["role "+r.Name] {
			if !below[k] {
				x.More++
			}
		}
		for _, id := range d.Identities {
			if slices.ContainsFunc(id.Roles, func(y declaration.Ref) bool { return y.Name == r.Name }) {
				x.Holders = append(x.Holders, id.Name)
			}
		}
		o.Roles = append(o.Roles, x)
	}
	board := access.NewBoard(d)
	for k, id := range d.Identities {
		x := c.identity(d, target, id)
		for i := range d.Routes {
			if board.At(i, k+1).Outcome() == access.Admit {
				x.Opens++
			}
		}
		o.Identities = append(o.Identities, x)
	}
	for _, s := range d.Schemes {
		x := Scheme{Name: s.Name, Kind: string(s.Kind), Needs: d.Needs(s), Line: s.Line}
		for _, n := range x.Needs {
			if madeup.SecretName(n) || s.Kind == declaration.Link {
				x.Secret = append(x.Secret, n)
			}
		}
		if s.Login != nil {
			x.Login = s.Login.Method + " " + route.Hosted(s.Login.Host, s.Login.Path)
		}
		for i := range d.Routes {
			if e := d.Entry(i); e != nil && !e.Undecided() && !access.Open(d, i) && slices.Contains(d.Accepted(e), s) {
				x.Routes++
			}
		}
		for _, id := range d.Identities {
			if id.Credential(s.Name) != nil {
				x.Users = append(x.Users, id.Name)
			}
		}
		o.Schemes = append(o.Schemes, x)
	}
	return o
}

func (c *Callers) identity(d *declaration.Document, target string, id *declaration.Identity) Identity {
	x := Identity{Name: id.Name, Scopes: id.Scopes, Attributes: id.Attributes, Line: id.Line,
		Owns: map[string][]string{}, In: map[string][]string{},
		Roles: declaration.Names(id.Roles, func(r declaration.Ref) string { return r.Name })}
	for _, r := range d.Records {
		if ids := r.OwnedBy[id.Name]; len(ids) > 0 {
			x.Owns[r.Name] = ids
		}
	}
	for _, w := range id.Within {
		x.In[w.Name] = id.In(w.Name)
	}
	for _, cr := range id.Credentials {
		k := Credential{Scheme: cr.Scheme.Name, State: Never}
		for _, n := range needsFirst(d, cr) {
			v := cr.Fill[n]
			m := Member{Name: n, Text: v.Text(), Secret: cr.Secret(n)}
			if m.Secret && !v.Secret() {
				m.Text = "" // it stands in the file in clear, and is not shown
			}
			k.Fill = append(k.Fill, m)
		}
		c.mu.Lock()
		t, ok := c.tried[credential{target, id.Name, cr.Scheme.Name}]
		c.mu.Unlock()
		if ok {
			k.State, k.Why, k.At, k.Ends = t.State, t.Why, t.At, t.Ends
		}
		x.Credentials = append(x.Credentials, k)
	}
	return x
}

// needsFirst are the members of a credential, those first that its scheme needs.
func needsFirst(d *declaration.Document, cr declaration.Credential) (out []string) {
	if s := d.SchemeNamed(cr.Scheme.Name); s != nil {
		for _, n := range d.Needs(s) {
			if _, ok := cr.Fill[n]; ok {
				out = append(out, n)
			}
		}
	}
	var rest []string
	for n := range cr.Fill {
		if !slices.Contains(out, n) {
			rest = append(rest, n)
		}
	}
	slices.Sort(rest)
	return append(out, rest...)
}

// opensTo are the routes that somebody with these roles gets into, with a credential of any scheme.
func opensTo(d *declaration.Document, id *declaration.Identity) map[int]bool {
	for _, s := range d.Schemes {
		id.Credentials = append(id.Credentials, declaration.Credential{Scheme: declaration.Ref{Name: s.Name}})
	}
	with, out := d.With(id), map[int]bool{}
	for i := range d.Routes {
		if access.Open(d, i) {
			continue
		}
		if access.Decide(with, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit {
			out[i] = true
		}
	}
	return out
}
