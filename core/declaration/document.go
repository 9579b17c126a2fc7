package declaration

import (
	"maps"
	"slices"
	"time"

	"millgate/core/route"
)

// Assumptions are what the review takes for granted.
type Assumptions struct {
	Guesses   int                           // that the weakest allowed password takes
	GuessedIn time.Duration                 // the shortest time in which it may be guessed
	Bearer    map[Sensitivity]time.Duration // the longest life that a route bears
}

// DefaultAssumptions hold where the text says nothing else.
func DefaultAssumptions() Assumptions {
	return Assumptions{100_000, 30 * 24 * time.Hour, map[Sensitivity]time.Duration{Low: 24 * time.Hour,
		Medium: time.Hour, High: 15 * time.Minute}}
}

// Document is a parsed declaration. Slices keep the order of the text.
type Document struct {
	Name       string  // file name
	Version    Version // of the language, by the file of that name
	Title      string
	Targets    []*Target
	Routes     []*Route
	Roles      []*Role
	Schemes    []*Scheme
	Lifetimes  []*Lifetime
	Identities []*Identity
	Records    []*Record
	Access     []*Entry
	Origins    []*OriginEntry
	Quotas     []*Quota
	Answers    Answers
	Waivers    []*Waiver
	Assume     Assumptions
	Includes   []string // the files it includes, in order

	Inventory *route.Inventory
	routeKeys map[string]int // the first route of a key
	Deciding  []int          // for each route the deciding entry's index in Access; -1 when it is closed
	Fillers   []int          // for each route the record that fills its last parameter; -1 without
	lists     []*List        // for each route what it lists; nil where it lists nothing
	OriginsAt []int          // for each route the deciding entry's index in Origins; -1 when no page may call
	QuotasAt  [][]int        // for each route the quotas whose `at` matches, by index
	Touched   []bool         // for each access entry whether its selectors match a route at all

	roleSets   map[string]map[string]bool // by identity
	rules      []rule                     // of access
	candidates [][]candidate              // of access, by route
	owners     map[string]bool            // identities that own a record
	leastFirst []int                      // identities
	accepted   map[*Entry][]*Scheme       // of access entries; nil where they have to be worked out
}

// Entry returns the entry that decides route i, nil when the route is closed.
func (d *Document) Entry(i int) *Entry {
	if e := d.Deciding[i]; e >= 0 {
		return d.Access[e]
	}
	return nil
}

// Sealed is the parameter of route i's path that is the secret of a link which is accepted there: its name
// is that of the link's signature. "" where no parameter is.
func (d *Document) Sealed(i int) string {
	e := d.Entry(i)
	if e == nil {
		return ""
	}
	for _, s := range d.Accepted(e) {
		if s.Kind == Link && slices.Contains(d.Routes[i].Parameters(), s.Field) {
			return s.Field
		}
	}
	return ""
}

// PagesAt says which pages may call route i, as text: the same text permits the same.
func (d *Document) PagesAt(i int) string {
	if e := d.OriginEntry(i); e != nil {
		return e.normal()
	}
	return "none"
}

// OriginEntry returns what decides which pages may call route i, nil without.
func (d *Document) OriginEntry(i int) *OriginEntry {
	if e := d.OriginsAt[i]; e >= 0 {
		return d.Origins[e]
	}
	return nil
}

// Record returns the record whose ownership counts on route i, nil without.
func (d *Document) Record(i int) *Record {
	if e := d.Entry(i); e != nil && e.OwnerOf.Name != "" {
		return d.RecordNamed(e.OwnerOf.Name)
	}
	if r := d.Fillers[i]; r >= 0 {
		return d.Records[r]
	}
	return nil
}

func named[T any](list []T, name string, of func(T) string) (out T) {
	for _, x := range list {
		if of(x) == name {
			return x
		}
	}
	return out
}

// TargetNamed, RoleNamed, SchemeNamed, IdentityNamed and RecordNamed return
// nil when there is no such name.
func (d *Document) TargetNamed(n string) *Target {
	return named(d.Targets, n, func(t *Target) string { return t.Name })
}
func (d *Document) RoleNamed(n string) *Role {
	return named(d.Roles, n, func(t *Role) string { return t.Name })
}
func (d *Document) SchemeNamed(n string) *Scheme {
	return named(d.Schemes, n, func(t *Scheme) string { return t.Name })
}
func (d *Document) IdentityNamed(n string) *Identity {
	return named(d.Identities, n, func(t *Identity) string { return t.Name })
}
func (d *Document) RecordNamed(n string) *Record {
	return named(d.Records, n, func(t *Record) string { return t.Name })
}

// RouteNamed finds a route by its Key; -1 when there is none.
func (d *Document) RouteNamed(key string) int {
	if i, ok := d.routeKeys[key]; ok {
		return i
	}
	return -1
}

// Selects says whether one of the selectors is about a route of the inventory, as METHOD path.
func (d *Document) Selects(at []route.Selector, key string) bool {
	i := d.RouteNamed(key)
	return i >= 0 && slices.ContainsFunc(at, func(s route.Selector) bool {
		if hits := d.Inventory.Named(s); len(hits) > 0 {
			return slices.Contains(hits, i)
		}
		return d.Inventory.Relate(s, i) == route.Covers
	})
}

// RolesOf returns the identity's roles with all that they include. The map is
// shared; do not change it.
func (d *Document) RolesOf(id *Identity) map[string]bool { return d.roleSets[id.Name] }

// With is the document with one identity more, or another in place of the one
// of its name: to ask what somebody with these roles could reach. The
// document itself stays as it is.
func (d *Document) With(id *Identity) *Document {
	c := *d
	c.Identities = slices.DeleteFunc(slices.Clone(d.Identities), func(x *Identity) bool { return x.Name == id.Name })
	c.Identities = append(c.Identities, id)
	c.roleSets = maps.Clone(d.roleSets)
	if c.roleSets == nil {
		c.roleSets = map[string]map[string]bool{}
	}
	c.roleSets[id.Name] = c.collectRoles(id)
	c.accepted = nil // the identity may bring a scheme of its own
	return &c
}

func (d *Document) collectRoles(id *Identity) map[string]bool {
	out := map[string]bool{}
	var add func(string)
	add = func(n string) {
		if out[n] {
			return
		}
		out[n] = true
		if r := d.RoleNamed(n); r != nil {
			for _, i := range r.Includes {
				add(i.Name)
			}
		}
	}
	for _, r := range id.Roles {
		add(r.Name)
	}
	return out
}

// LifetimeNamed and QuotaNamed return nil when there is no such name.
func (d *Document) LifetimeNamed(n string) *Lifetime {
	return named(d.Lifetimes, n, func(l *Lifetime) string { return l.Name })
}
func (d *Document) QuotaNamed(n string) *Quota {
	return named(d.Quotas, n, func(q *Quota) string { return q.Name })
}
