package check

// Rule: The same declaration gives the same plan.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
)

// Plan is a whole sweep before it begins. The same document and target give the same
// probes with the same ids, which is how an interrupted sweep goes on.
//
// Safe requests come first (RFC 9110 section 9.2.1), controls before all, then what its
// Phase says. Verdicts wait for their control.
type Plan struct {
	Context  *Context
	Families Families
	Probes   []*Probe
	Left     []Omission
	Inferred int // crossings that a probe of their class stands for
	Spared   int // probes that one at another route stands for

	crossings Callers
	byKey     map[string]*Probe
	widened   map[string]bool
}

// NewPlan plans a sweep of a target. The document must be without errors.
func NewPlan(d *declaration.Document, t *declaration.Target, l Families) *Plan {
	pl := &Plan{Context: &Context{Doc: d, Target: t}, Families: l, byKey: map[string]*Probe{},
		widened: map[string]bool{}}
	for _, f := range l {
		p := NewPlanning(vouched{pl.crossings, pl})
		f.Plan(pl.Context, p)
		for _, x := range p.Probes {
			x.endsLast(d)
			pl.byKey[x.Key()] = x
		}
		for i := range p.Left {
			p.Left[i].Family = f.Name()
		}
		pl.Probes, pl.Left = append(pl.Probes, p.Probes...), append(pl.Left, p.Left...)
		pl.Spared, pl.Inferred = pl.Spared+p.Spared, pl.Inferred+p.Inferred
		if first, ok := f.(Leading); ok {
			pl.crossings = first.Crossings(pl.Context, p.Probes)
		}
	}
	slices.SortStableFunc(pl.Probes, func(a, b *Probe) int {
		if a.Phase != b.Phase || a.Phase != SafeFirst || a.IsControl == b.IsControl {
			return cmp.Compare(a.Phase, b.Phase)
		}
		if a.IsControl {
			return -1
		}
		return 1
	})
	return pl
}

// endsLast puts a probe of a route that ends sessions behind all that use them.
func (p *Probe) endsLast(d *declaration.Document) {
	i := d.RouteNamed(p.Route)
	if i < 0 || p.Phase > ThenRaising {
		return
	}
	if s, q := access.SessionAt(d, i); s != nil && q == s.Logout {
		p.Phase = ThenEnding
	}
}

// Copy is a plan that can be widened while others read this one.
func (p *Plan) Copy() *Plan {
	c := *p
	c.Probes, c.byKey, c.widened = slices.Clone(p.Probes), maps.Clone(p.byKey), maps.Clone(p.widened)
	return &c
}

// Leading is the family that is planned first, since the others ask it for controls.
type Leading interface {
	Crossings(c *Context, own []*Probe) Callers
}

// Vouching is a family whose probes show whether their caller's credential works.
type Vouching interface{ Vouches(p *Probe) bool }

// vouched are the callers at routes in a plan, whose families say which probes show whether a
// credential works.
type vouched struct {
	Callers
	plan *Plan
}

// Using are the probes of all families that show whether a credential of a scheme works.
func (x vouched) Using(scheme string) (out []string) {
	for _, p := range x.plan.Probes {
		if p.Caller.Scheme != scheme {
			continue
		}
		if f, ok := x.plan.Family(p).(Vouching); ok && f.Vouches(p) {
			out = append(out, p.Key())
		}
	}
	return out
}

// Find is the probe with a key, nil without.
func (p *Plan) Find(key string) *Probe { return p.byKey[key] }

// Family is that of a probe.
func (p *Plan) Family(x *Probe) Family { return p.Families.Named(x.Family) }

// Widen plans what a gap at a probe asks for. The new probes join the plan; asked again for
// the same probe there are none.
func (p *Plan) Widen(x *Probe, e *Evidence) (out []*Probe) {
	f, ok := p.Family(x).(Widening)
	if !ok || x.Widens != "" || p.widened[x.Key()] {
		return nil
	}
	p.widened[x.Key()] = true
	more := NewPlanning(vouched{p.crossings, p})
	f.More(p.Context, x, e, more)
	for _, q := range more.Probes {
		if p.byKey[q.Key()] != nil {
			continue
		}
		q.Widens = x.Key()
		q.endsLast(p.Context.Doc)
		p.byKey[q.Key()] = q
		out = append(out, q)
	}
	p.Probes = append(p.Probes, out...)
	return out
}

// Order is what the facts at the guard of a route tell of the order in which it looks, each pair
// once.
func (p *Plan) Order(route string, e *Evidence) (out []Sequence) {
	at := map[string]bool{route: true}
	if g := GuardAt(Guards(p.Context.Doc, p.crossings.ControlAt), p.Context.Doc.RouteNamed(route)); g != nil {
		for _, s := range g.All {
			at[s.Control.Route] = true
		}
	}
	for _, x := range p.Probes {
		if !at[x.Route] {
			continue
		}
		f, ok := p.Family(x).(Ordering)
		if !ok {
			continue
		}
		fact := e.Of(x.Key())
		if fact == nil {
			continue
		}
		for _, s := range f.Order(p.Context, x, fact, e) {
			if !slices.ContainsFunc(out, func(o Sequence) bool { return o.First == s.First && o.Then == s.Then }) {
				out = append(out, s)
			}
		}
	}
	return out
}

// ByTarget says whether the target's rules leave out a crossing of a route.
func (p *Plan) ByTarget(route string) bool {
	return slices.ContainsFunc(p.Left, func(o Omission) bool { return o.Route == route && o.ByTarget })
}

// Expect is what is expected of a probe, as it is told to people: its admission where its
// family says nothing.
func (p *Plan) Expect(x *Probe) access.Expectation {
	if f, ok := p.Family(x).(Expecting); ok {
		return f.Expect(p.Context, x)
	}
	return access.Expectation{Outcome: access.Admit}
}

// Expects is what is declared of what a probe looks at, as text: the same text is the same expectation. It
// is told where a declaration changed between two sweeps.
func (p *Plan) Expects(x *Probe) string {
	e := p.Expect(x)
	out := fmt.Sprint(e.Outcome)
	if e.Depends {
		out += " for its own"
	}
	if f, ok := p.Family(x).(Declaring); ok {
		out += ", " + f.Declared(p.Context, x)
	}
	return out
}

// Who is the caller of a probe in words.
func (p *Plan) Who(x *Probe) string { return p.Families.Who(x) }

// Says is what a probe is, in words.
func (p *Plan) Says(x *Probe) string {
	_, says := p.Families.Cell(x)
	return says
}

// Cell is where a probe stands on the board.
func (p *Plan) Cell(x *Probe) Cell {
	cell, _ := p.Families.Cell(x)
	return cell
}

// Unsafe counts the probes that send something unsafe.
func (p *Plan) Unsafe() int { return p.count(func(x *Probe) bool { return x.Unsafe }) }

// Made counts the probes that need a throwaway record.
func (p *Plan) Made() int { return p.count(func(x *Probe) bool { return x.Record.Lent() }) }

func (p *Plan) count(of func(*Probe) bool) (n int) {
	for _, x := range p.Probes {
		if of(x) {
			n++
		}
	}
	return n
}

// Requests estimates all requests of the sweep: those of the probes, making, reading and
// removing throwaway records, and one login for each identity.
func (p *Plan) Requests() int {
	ids := map[string]bool{}
	n := 3 * p.Made()
	for _, x := range p.Probes {
		if x.Caller.Identity != "" {
			ids[x.Caller.Identity] = true
		}
		n += p.Family(x).Cost(p.Context, x).Requests
	}
	return n + len(ids)
}
