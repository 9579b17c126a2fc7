// Package probe is the plan of a sweep: what is sent to a target so that every expectation
// of a declaration is met by an observation. It sends nothing.
//
// # What is planned
//
// Families of checks (core/check) plan what they send: callers at routes first, whom the
// others ask for controls. This package puts their probes in order. What is shown and counted
// of a sweep goes by its Probe; what a family's probe is stands in Probe.Check.
//
// # Order
//
// Safe requests first (RFC 9110 section 9.2.1), then unsafe ones that must be
// turned away, then unsafe ones that must be admitted, deletions last, and the
// raised roles and the session drills at the very end. Verdicts wait for their control.
//
// Plan is deterministic: the same document and target give the same probes
// with the same ids, which is how an interrupted sweep goes on.
package probe

import (
	"slices"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Kind of a probe.
type Kind string

const (
	Crossing    Kind = "crossing"     // a caller at a route; a control is one of these
	Around      Kind = "around"       // a way around the guard
	UnknownPath Kind = "unknown-path" // a path that nobody serves
	OtherMethod Kind = "other-method" // a method that the inventory does not have
	Neighbour   Kind = "neighbour"    // an address close to a declared one
	Malformed   Kind = "malformed"    // an id that cannot be
	RaisedRole  Kind = "raised-role"  // a body that claims a higher role
	Credential  Kind = "credential"   // a credential that is broken in one way
	Issued      Kind = "issued"       // a login whose token is judged
	QuotaDrill  Kind = "quota"        // a quota drill
)

// RecordUse says which record stands behind the route's parameter.
type RecordUse struct {
	Name     string          // record's name; "" when the route needs none
	Param    string          // the parameter it fills
	Relation access.Relation // to the caller; "" when it does not matter
	Owner    string          // the identity that owns it
	ID       string          // its id; "" when Made
	Made     bool            // a throwaway one, made as Owner for this route
}

// Phase orders the probes of a sweep.
type Phase = check.Phase

// The phases.
const (
	Safe             = check.SafeFirst
	UnsafeTurnedAway = check.ThenTurnedAway
	UnsafeAdmitted   = check.ThenAdmitted
	UnsafeDeleting   = check.ThenDeleting
	Raising          = check.ThenRaising
	Drilling         = check.ThenDrilling
)

// Last phase of a sweep.
const Last = Drilling

// Probe is one planned request.
type Probe struct {
	ID        string
	Kind      Kind
	Route     int    // index in the document; -1 when the inventory has none
	RouteKey  string // the route's key, or METHOD host:/path of an undeclared one
	Method    string // the method as sent
	Host      string
	Path      string            // template with {parameters}
	Params    map[string]string // values for all parameters but the record's
	Identity  string            // "" is nobody
	Scheme    string            // the scheme presented, "" without a credential
	State     access.State
	Record    RecordUse
	Way       string // of what tells a probe from others of its kind; of a drill the quota
	Widens    string // the probe whose gap this one follows to another route
	StandsFor []string
	Control   string // id of the probe that shows the request to be a fair one
	IsControl bool
	Expect    access.Expectation
	Phase     Phase
	WithBody  bool
	// Check is the probe of a family of its own, which says everything else; nil for the
	// kinds of this package.
	Check *check.Probe
	shown *shown
}

// shown is what a family says of its probe.
type shown struct {
	cell check.Cell
	says string
	who  string
	cost check.Cost
}

// Says is what a probe of a family is, in its words; "" for the kinds of this package.
func (p *Probe) Says() string {
	if p.shown == nil {
		return ""
	}
	return p.shown.says
}

// Who is the caller of a probe of a family where that is no identity; "" without.
func (p *Probe) Who() string {
	if p.shown == nil {
		return ""
	}
	return p.shown.who
}

// Cell is where a probe of a family stands on the board; the zero one for the kinds of
// this package.
func (p *Probe) Cell() check.Cell {
	if p.shown == nil {
		return check.Cell{}
	}
	return p.shown.cell
}

// Unsafe says whether the request could change something.
func (p *Probe) Unsafe() bool {
	if p.Check != nil {
		return p.Check.Unsafe
	}
	return declaration.UnsafeMethod(p.Method)
}

// Column is the board's column that the probe belongs to: the identity, or ""
// for nobody.
func (p *Probe) Column() string {
	if p.Check != nil {
		return columnOf(p.Cell())
	}
	return p.Identity
}

// Omission is something that is not sent, with the reason.
type Omission = check.Omission

// ByTarget says whether the target's rules leave out a crossing of a route.
func (p *Plan) ByTarget(route string) bool {
	return slices.ContainsFunc(p.Left, func(o Omission) bool { return o.Route == route && o.ByTarget })
}

// Plan is a whole sweep before it begins.
type Plan struct {
	Probes   []*Probe
	Left     []Omission
	Inferred int // crossings that a probe of their class stands for
	Spared   int // probes that one at another route stands for
	byID     map[string]*Probe
	more     func(*Probe, *check.Evidence) []*Probe
	widened  map[string]bool
	families check.Families
	context  check.Context
}

// Widen plans what a gap at a probe asks for: the same broken credential on the other
// routes of its guard, or what its family asks for. The new probes join the plan; asked
// again for the same probe there are none.
func (p *Plan) Widen(x *Probe, e *check.Evidence) []*Probe {
	if x.Widens != "" || p.widened[x.ID] {
		return nil
	}
	if x.Check == nil {
		return nil
	}
	return p.more(x, e)
}

// Find returns the probe with an id, nil without.
func (p *Plan) Find(id string) *Probe { return p.byID[id] }

// Unsafe counts the probes with unsafe methods.
func (p *Plan) Unsafe() int {
	n := 0
	for _, x := range p.Probes {
		if x.Unsafe() {
			n++
		}
	}
	return n
}

// Made counts the probes that need a throwaway record.
func (p *Plan) Made() int {
	n := 0
	for _, x := range p.Probes {
		if x.Record.Made {
			n++
		}
	}
	return n
}

// Requests estimates all requests of the sweep: the probes, making, reading
// and removing throwaway records, and one login for each identity.
func (p *Plan) Requests() int {
	ids := map[string]bool{}
	n := 0
	for _, x := range p.Probes {
		if x.Identity != "" {
			ids[x.Identity] = true
		}
		if x.Check != nil {
			n += x.shown.cost.Requests
			continue
		}
		n++
	}
	return n + len(ids) + 3*p.Made()
}

// Duration estimates the time at the target's pace.
func (p *Plan) Duration(pace declaration.Pace) time.Duration {
	if pace.Count < 1 {
		return 0
	}
	return time.Duration(float64(p.Requests()) / pace.PerSecond() * float64(time.Second)).Round(time.Second / 10)
}
