package check

// Rule: One family of checks, one folder.

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
)

// Family is one kind of check: what it sends, what it concludes, and how it says so. It
// lives in a folder of its own and knows no other family; a new one is its folder, a line
// in package families, and its page of docs.
type Family interface {
	// Name stands in ids and stored facts, and never changes.
	Name() string
	// Plan adds what is to be sent, and says what is left out and why.
	Plan(c *Context, p *Planning)
	// Script says what a probe sends, by the declaration that it was planned by.
	Script(c *Context, p *Probe) Script
	// Cost is what a probe takes, for the plan's figures.
	Cost(c *Context, p *Probe) Cost
	// Judge holds what was seen against the declaration. It gives the same verdict
	// whenever it is asked.
	Judge(c *Context, p *Probe, f *Fact, e *Evidence) Verdict
	// Causes are all causes that its gaps have.
	Causes() finding.Family
	// Cell says where on the board a probe stands, and what it is in words: "session
	// drill".
	Cell(p *Probe) (cell Cell, says string)
	// Version is that of the Data of its scripts. It changes when what is stored of it
	// means something else.
	Version() int
	// Decode reads the Data of a fact back. version is that of the fact.
	Decode(version int, data []byte) (Data, error)
}

// Stepwise is a family that says of each report that a fact keeps what it was for.
type Stepwise interface {
	Outcomes(c *Context, p *Probe, f *Fact) []Outcome
}

// Listing is a family whose probes read rows of a list.
type Listing interface {
	// Rows are those that are not as declared: shown to whom they are not for, or missing.
	Rows(c *Context, p *Probe, f *Fact) []Row
}

// Row is one of a list, which is not as declared.
type Row struct {
	ID      string
	Owner   string   // "" where nobody owns it
	Stands  []string // in words: its groups, and what it stands in
	Missing bool     // it is for the caller, and is not there; otherwise it is there, and is not for it
}

// Watcher is a family that looks at the answers that others judge (Verdict.Answers).
type Watcher interface {
	// Watch gives the gaps of an answer at a route, and what of it cannot be told.
	Watch(c *Context, route string, r Report) (gaps []Gap, unsure string)
}

// Widening is a family whose gaps ask for more probes: what shows at one route is tried at
// others.
type Widening interface {
	// More adds them for a probe that has a gap. Asked again it adds the same.
	More(c *Context, p *Probe, e *Evidence, pl *Planning)
}

// Pursuing is a widening family some of whose probes ask for more whether they have a gap or not.
type Pursuing interface{ Pursues(p *Probe) bool }

// Gathering is a family of which several gaps can be one fault: only beside each other do
// they show what that is, and where one mend would be.
type Gathering interface {
	// Gather changes the causes and scopes of gaps, those of watchers among them.
	Gather(c *Context, all []Judged)
}

// Judged is a probe with its gaps, which may be changed in their place.
type Judged struct {
	Probe *Probe
	Gaps  []finding.Gap
}

// Speaking is a family whose callers are no identities.
type Speaking interface {
	// Who names the caller of a probe: "a page of https://app.example".
	Who(p *Probe) string
}

// Declaring is a family whose probes look at more than who may call: it says what is declared of that. The
// same text is the same expectation.
type Declaring interface {
	Declared(c *Context, p *Probe) string
}

// LifetimesOf says which lifetimes a scheme's credentials have on the target, for Declaring.
func LifetimesOf(c *Context, scheme string) string {
	s := c.Doc.SchemeNamed(scheme)
	if s == nil {
		return ""
	}
	var out []string
	for _, kind := range []string{"access", "refresh"} {
		if l, _ := c.Target.LifetimeOf(c.Doc, s, kind); l != nil {
			out = append(out, fmt.Sprintf("%s: max %s, skew %s, idle %s, ended within %s, rotates %t, reuse %s", kind,
				l.Max, l.Skew, l.Idle, l.EndedWithin, l.Rotates, l.Reuse))
		}
	}
	return strings.Join(out, "; ")
}

// Expecting is a family whose probes are told to people with what is expected of them.
type Expecting interface {
	Expect(c *Context, p *Probe) access.Expectation
}

// Outcome is what became of a step of a script.
type Outcome struct {
	Worked bool
	Wanted string // by the declaration: "works", "refused", or "" where it says nothing
}

// Families is a list of them.
type Families []Family

// Named is the family with a name, nil without.
func (l Families) Named(name string) Family {
	if i := slices.IndexFunc(l, func(f Family) bool { return f.Name() == name }); i >= 0 {
		return l[i]
	}
	return nil
}

// Who is the caller of a probe in words.
func (l Families) Who(p *Probe) string {
	if f, ok := l.Named(p.Family).(Speaking); ok {
		return f.Who(p)
	}
	_, says := l.Cell(p)
	return cmp.Or(p.Caller.Identity, "nobody") + " (" + says + ")"
}

// Cell is where a probe stands on the board, and what it is in words. One whose family is not
// in the list stands at its caller's.
func (l Families) Cell(p *Probe) (cell Cell, says string) {
	if f := l.Named(p.Family); f != nil {
		return f.Cell(p)
	}
	return Cell{Route: p.Route, Lens: Access, Key: p.Caller.Identity}, p.Family
}

// Context is what a family may read. It never changes under it.
type Context struct {
	Doc    *declaration.Document
	Target *declaration.Target
	// Longer: somebody asked for these probes alone, and has the time for them.
	Longer bool
}

// ID names a probe for good.
type ID struct {
	Family   string
	Route    string // the route's key; METHOD host:/path of one that the inventory does not have
	Caller   Caller
	Relation access.Relation // of the record to the caller
	Of       string          // what else tells it from the family's others: a way, an origin, a quota
}

// Key is the id as text, for stores and addresses. It is never read apart again.
func (id ID) Key() string {
	who := id.Caller.Identity
	if who == "" {
		who = "nobody"
	}
	return strings.Join([]string{id.Family, id.Route, who, id.Caller.Scheme, string(id.Caller.State),
		string(id.Relation), id.Of}, "|")
}

// Phase orders the probes of a sweep: safe requests (RFC 9110 section 9.2.1) come first,
// then unsafe ones that must be turned away, then those that must be admitted, deletions,
// and at the very end raised roles, and what ends sessions and fills quotas.
type Phase int

// The phases.
const (
	SafeFirst Phase = iota + 1
	ThenTurnedAway
	ThenAdmitted
	ThenDeleting
	ThenRaising
	ThenEnding    // what ends sessions: a service may end more of them than the one that is named
	ThenFollowing // sessions, each to its end
	ThenDrilling
	ThenLocking // drills that close an account
	AtTheEnd    // what ended before is tried again
)

// LastPhase is the last of them.
const LastPhase = AtTheEnd

// Probe is one planned check. It does not say what is expected: Judge asks the
// declaration.
type Probe struct {
	ID
	Phase     Phase
	Unsafe    bool     // its script sends something that could change what it did not begin
	Record    Record   // behind a parameter of its route; the zero one where it needs none
	Control   string   // the key of the probe that shows its request to be a fair one; "" without
	StandsFor []string // identities of its caller's class
	IsControl bool     // it shows the requests of others at its route to be fair ones
	Widens    string   // the key of the probe whose gap this one follows to another route; "" without
	Detail    Detail

	key  string // of its ID, once it is planned
	self *Probe // whose key that is: a copy has an id of its own
}

// CallerIn is the caller of a probe as the ladder asks for it.
func (p *Probe) CallerIn(d *declaration.Document) access.Caller {
	c := access.Caller{Identity: d.IdentityNamed(p.Caller.Identity), State: p.Caller.State, Record: p.Relation}
	if i := d.RouteNamed(p.Route); i >= 0 && p.Caller.Identity == "" && c.Record == access.NoRecord {
		c.Record = Standing(d, i, p.Record, nil)
	}
	return c
}

// ExpectAt is what is expected of the caller of a probe at its route.
func ExpectAt(c *Context, p *Probe) access.Expectation {
	i := c.Doc.RouteNamed(p.Route)
	if i < 0 {
		return access.Expectation{Outcome: access.Closed}
	}
	return access.Decide(c.Doc, i, p.CallerIn(c.Doc))
}

// Is says whether a probe is one of a family.
func (p *Probe) Is(f Family) bool { return p.Family == f.Name() }

// Key is the key of its id.
func (p *Probe) Key() string {
	if p.self == p {
		return p.key
	}
	return p.ID.Key()
}

// Record is what stands behind a parameter of a probe's route. Without a value one is lent,
// by its owner.
type Record struct {
	Name, Param, Owner, Value string
	Shared                    bool // with whoever is lent the same at its route and leaves it as it was
}

// Lent says whether a record is made for a probe.
func (r Record) Lent() bool { return r.Name != "" && r.Value == "" }

// Detail is the family's own of a probe: plain values. What tells probes apart stands in
// their ID as well.
type Detail any

// Nowhere is a segment of a path that no service has.
const Nowhere = "no-such-place-4f1d"

// Beside is an address that nobody has, where a path has its last segment. A slash at its end
// stays: what is served with one may be another thing.
func Beside(path string) string {
	bare := strings.TrimSuffix(path, "/")
	if bare == "" {
		return "/" + Nowhere
	}
	return bare[:strings.LastIndexByte(bare, '/')+1] + Nowhere + path[len(bare):]
}

// DirectHost names the target's direct address among its hosts.
const DirectHost = "(direct)"

// Cost is what a probe takes.
type Cost struct {
	Requests int
	Time     time.Duration // at most, beside that of its requests; 0 where it waits for nothing
	Waits    time.Duration // as is expected of a service that does what is declared
}

// Lens is one way to look at the board.
type Lens string

// The lenses.
const (
	Access  Lens = "access"
	Tokens  Lens = "tokens"
	Origins Lens = "origins"
	Quotas  Lens = "quotas"
)

// Cell is a place on the board. Key is the lens's column: in the access lens an identity,
// "" for nobody.
type Cell struct {
	Route string
	Lens  Lens
	Key   string
}

// The lenses' columns are told apart by what stands before their key; those of the access lens
// are identities, which have no colon.
const (
	TokenColumn = "credential:"
	PageColumn  = "origin:"
	QuotaColumn = "quota:"
)

// Column is the column of a cell among those of all lenses.
func (c Cell) Column() string {
	switch c.Lens {
	case Tokens:
		return TokenColumn + c.Key
	case Origins:
		return PageColumn + c.Key
	case Quotas:
		return QuotaColumn + c.Key
	default:
	}
	return c.Key
}

// Omission is something that is not sent, with the reason.
type Omission struct {
	Route  string `json:"route"`
	Caller string `json:"caller,omitempty"`
	What   string `json:"what"`
	Why    string `json:"why"`
	// Undecided are the crossings of a route of which nobody has decided who may call; What is then all of them.
	Undecided int `json:"undecided,omitempty"`
	// ByTarget: the target's rules do not let it be sent.
	ByTarget bool `json:"byTarget,omitempty"`
	// Family would have sent it; "" where it is none's.
	Family string `json:"family,omitempty"`
}

// Sample is a planned request that must be admitted, without its credential.
type Sample struct {
	Key     string // of its probe
	Caller  Caller
	Request Request
}

// Crossings are the callers at routes, which are planned first, in a plan.
type Crossings interface {
	Callers
	// Using are the keys of the probes that show whether a credential of a scheme works: those
	// that present a sound one, or look at one that a login gave.
	Using(scheme string) []string
}

// Callers are what the family of callers at routes tells the others of its probes.
type Callers interface {
	// Control is what shows a request at a route to be a fair one; ok is false where no
	// caller that must be admitted can be presented, and where it needs a record that is
	// made for it.
	Control(route int) (s Sample, ok bool)
	// Works is a safe request that must be admitted and that shows whether a credential
	// of an identity works: not everybody is admitted there.
	Works(identity, scheme string) (s Sample, ok bool)
	// Address is what can be asked about a route without sending its own request: where it
	// is, with values for its parameters, made up where none is known.
	Address(route int) Request
	// ControlAt is the probe that shows requests at a route to be fair ones, and its caller in
	// words; nil without.
	ControlAt(route int) (p *Probe, who string)
	// At are the probes at a route, as nobody and as identities.
	At(route int) []*Probe
	// Classes are the identities by what the declaration says of them.
	Classes() []access.Class
}

// Planning gathers what families plan for one sweep.
type Planning struct {
	Crossings
	Probes []*Probe
	Left   []Omission
	Spared int // probes that one at another route stands for
	// Inferred are crossings of callers that one of their class stands for.
	Inferred int
	seen     map[ID]bool
}

// NewPlanning begins a planning behind crossings.
func NewPlanning(c Crossings) *Planning { return &Planning{Crossings: c, seen: map[ID]bool{}} }

// Add adds a probe, once: one with the id of another stays away, and nil is given.
func (p *Planning) Add(x Probe) *Probe {
	if p.seen[x.ID] {
		return nil
	}
	p.seen[x.ID] = true
	x.key, x.self = x.ID.Key(), &x
	p.Probes = append(p.Probes, &x)
	return &x
}

// Leave says that something is not sent, and why.
func (p *Planning) Leave(o Omission) { p.Left = append(p.Left, o) }

// Members splits a class into the identity that is sent for it and the names of the rest.
func Members(d *declaration.Document, c access.Class) (sent *declaration.Identity, rest []string) {
	for _, m := range c.Members[1:] {
		rest = append(rest, d.Identities[m].Name)
	}
	return d.Identities[c.Members[0]], rest
}

// KeyOf is the key of the route that serves a request of the declaration, or what stands
// for it where the inventory has none.
func KeyOf(d *declaration.Document, q *declaration.Request) string {
	if i := access.RouteOf(d, q); i >= 0 {
		return d.Routes[i].Key()
	}
	return q.Method + " " + route.Hosted(q.Host, q.Path)
}

// Evidence gives the facts of other probes. It remembers which were asked for: when one
// of them changes, so may the verdict.
type Evidence struct {
	of    func(key string) *Fact
	asked []string
}

// NewEvidence makes evidence of what is known; of gives nil for what is not.
func NewEvidence(of func(key string) *Fact) *Evidence { return &Evidence{of: of} }

// Of is the fact of a probe, nil where there is none.
func (e *Evidence) Of(key string) *Fact {
	if !slices.Contains(e.asked, key) {
		e.asked = append(e.asked, key)
	}
	return e.of(key)
}

// Asked are the keys that were asked for.
func (e *Evidence) Asked() []string { return e.asked }

// Read decodes the data of a fact that comes from a store.
func (f *Fact) Read(l Families) error {
	raw, ok := f.Data.(json.RawMessage)
	if !ok {
		return nil
	}
	family := l.Named(f.Family)
	if family == nil {
		return fmt.Errorf("this version has no checks named %q", f.Family)
	}
	data, err := family.Decode(f.Version, raw)
	if err != nil {
		return fmt.Errorf("a fact of %s: %w", f.Family, err)
	}
	f.Data = data
	return nil
}

// DecodeAs reads the data of a fact into a T, for a family that knows one version of it. of
// says whose data it is.
func DecodeAs[T any](v, known int, data []byte, of string) (Data, error) {
	if v != known {
		return nil, fmt.Errorf("version %d of what %s measured is not known", v, of)
	}
	m := new(T)
	return m, json.Unmarshal(data, m)
}

// UnmarshalJSON reads a fact; its data stays as it is until Read.
func (f *Fact) UnmarshalJSON(b []byte) error {
	type plain Fact
	x := struct {
		*plain
		Data json.RawMessage `json:"data"`
	}{plain: (*plain)(f)}
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	f.Data = x.Data
	return nil
}
