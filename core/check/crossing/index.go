package crossing

import (
	"maps"

	"millgate/core/access"
	"millgate/core/check"
)

// index are the crossings of a plan, as other families ask for them.
type index struct {
	c       *check.Context
	at      [][]*check.Probe // by route; how a refusal looks is none
	control []*check.Probe
	classes []access.Class
	works   map[[2]string]*check.Probe // by identity and scheme
}

// Crossings gives those that were planned to the other families.
func (f Family) Crossings(c *check.Context, own []*check.Probe) check.Callers {
	x := &index{c: c, at: make([][]*check.Probe, len(c.Doc.Routes)), classes: access.Classes(c.Doc),
		control: make([]*check.Probe, len(c.Doc.Routes)), works: map[[2]string]*check.Probe{}}
	for _, p := range own {
		if p.Of != "" {
			continue
		}
		i := c.Doc.RouteNamed(p.Route)
		x.at[i] = append(x.at[i], p)
		if p.IsControl {
			x.control[i] = p
		}
		k := [2]string{p.Caller.Identity, p.Caller.Scheme}
		if x.works[k] == nil && f.works(c, p, i) {
			x.works[k] = p
		}
	}
	return x
}

// works says whether an admitted crossing shows that its credential works: on an open route
// anything does.
func (f Family) works(c *check.Context, p *check.Probe, route int) bool {
	if p.Phase != check.SafeFirst || p.Record.Lent() || f.Expect(c, p).Outcome != access.Admit {
		return false
	}
	e := c.Doc.Admission(route)
	return e != nil && !e.Open()
}

// Vouches says whether a crossing shows how its caller's credential fares.
func (Family) Vouches(p *check.Probe) bool { return p.Caller.State == access.Sound }

func (x *index) sample(p *check.Probe) check.Sample {
	return check.Sample{Key: p.Key(), Caller: p.Caller, Request: Request(x.c, p)}
}

// Control is the request of a route's control.
func (x *index) Control(i int) (check.Sample, bool) {
	p := x.control[i]
	if p == nil || p.Record.Lent() {
		return check.Sample{}, false
	}
	return x.sample(p), true
}

// Works is the first safe crossing that must be admitted, of an identity with a scheme, at a
// route that does not admit everybody.
func (x *index) Works(identity, scheme string) (check.Sample, bool) {
	p := x.works[[2]string{identity, scheme}]
	if p == nil {
		return check.Sample{}, false
	}
	return x.sample(p), true
}

// Address is a route's request without a caller: with the parameters of its control where
// that has some that need no record, else made up.
func (x *index) Address(i int) check.Request {
	rt := x.c.Doc.Routes[i]
	params := map[string]string{}
	if p := x.control[i]; p != nil {
		maps.Copy(params, of(p).Params)
	}
	for _, name := range rt.Parameters() {
		if params[name] == "" {
			params[name] = "1"
		}
	}
	return check.RequestOf(x.c, &check.Probe{}, i, rt.Path(), params)
}

// ControlAt is the control of a route, and its caller.
func (x *index) ControlAt(i int) (*check.Probe, string) {
	p := x.control[i]
	if p == nil {
		return nil, ""
	}
	return p, Family{}.Who(p)
}

// At are the crossings of a route.
func (x *index) At(i int) []*check.Probe { return x.at[i] }

// Classes are those of the identities.
func (x *index) Classes() []access.Class { return x.classes }
