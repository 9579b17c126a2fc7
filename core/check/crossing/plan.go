package crossing

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// scopeRung is the rung of scope and attributes.
const scopeRung = 5

type planning struct {
	*check.Planning
	check.Drafts
	d  *declaration.Document
	at *at
}

// at is what is planned at a route.
type at struct {
	route int
	made  []*check.Probe
}

// Plan plans the crossings of every route.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	classes := access.Classes(c.Doc)
	controls := make([]*check.Probe, len(c.Doc.Routes))
	for i, rt := range c.Doc.Routes {
		if access.IsUndecided(c.Doc, i) {
			p.Leave(check.Omission{Route: rt.Key(), What: "every crossing", Why: check.NotDecided,
				Undecided: 1 + len(c.Doc.Identities)})
			continue
		}
		x := planning{p, check.NewDrafts(c.Doc, c.Target, classes), c.Doc, &at{route: i}}
		x.nobody()
		for _, class := range classes {
			x.identity(class)
		}
		controls[i] = x.control(f, c)
		x.compare()
		x.untried()
	}
	near(c, p, controls)
	drafts := check.NewDrafts(c.Doc, c.Target, classes)
	otherForms := func(s check.Spot, ways ...string) {
		_, _, ok := drafts.For(s.Route, nil, access.NoRecord, true) // the crossing itself says why not
		for _, way := range ways {
			if q, refused := refusal(c, s.Control, way); ok && refused && q.Phase < check.ThenDeleting &&
				s.Control.Phase < check.ThenDeleting {
				p.Add(q)
			}
		}
	}
	for _, g := range check.Guards(c.Doc, func(i int) (*check.Probe, string) { return controls[i], "" }) {
		otherForms(g.Best, AcceptHTML, AcceptNone)
		for _, s := range g.All {
			if c.Doc.Routes[s.Route].Method() == "GET" {
				otherForms(s, AcceptHTML)
			}
		}
	}
}

// nearby is how many routes beside one tell whether the rest of the service works.
const nearby = 3

// near says for who must be admitted which other routes of the host show that the service
// works: the closest ones in the inventory that are safe to ask for.
func near(c *check.Context, p *check.Planning, controls []*check.Probe) {
	safe := map[string][]int{} // by host, in the order of the inventory
	for i, ctl := range controls {
		if ctl != nil && ctl.Phase == check.SafeFirst {
			safe[c.Doc.Routes[i].Host] = append(safe[c.Doc.Routes[i].Host], i)
		}
	}
	keysOf := map[string][]string{}
	for i, ctl := range controls {
		if ctl == nil {
			continue
		}
		list := safe[c.Doc.Routes[i].Host]
		at, _ := slices.BinarySearch(list, i)
		for back, on := at-1, at; len(keysOf[ctl.Route]) < nearby && (back >= 0 || on < len(list)); {
			k := 0
			if on >= len(list) || back >= 0 && i-list[back] <= list[on]-i {
				k, back = list[back], back-1
			} else {
				k, on = list[on], on+1
			}
			if k != i {
				keysOf[ctl.Route] = append(keysOf[ctl.Route], controls[k].Key())
			}
		}
	}
	for _, x := range p.Probes {
		if (Family{}).Expect(c, x).Outcome == access.Admit {
			d := of(x)
			d.Near = keysOf[x.Route]
			x.Detail = d
		}
	}
}

func (x planning) leave(caller, what, why string) {
	x.Leave(check.Omission{Route: x.d.Routes[x.at.route].Key(), Caller: caller, What: what, Why: why,
		ByTarget: check.ByTarget(why)})
}

// keep plans a draft.
func (x planning) keep(d check.Draft, who check.Caller, rel access.Relation, rest []string) {
	if p := x.Add(check.Probe{ID: check.ID{Family: Family{}.Name(), Route: x.d.Routes[x.at.route].Key(), Caller: who,
		Relation: rel}, Phase: d.Phase, Unsafe: x.d.Routes[x.at.route].Unsafe(), Record: d.Record, StandsFor: rest,
		Detail: Detail{Params: d.Params}}); p != nil {
		x.at.made = append(x.at.made, p)
	}
}

// nobody plans who has no credential, and a broken one.
func (x planning) nobody() {
	for _, st := range []access.State{access.Absent, access.Broken} {
		e := access.Decide(x.d, x.at.route, access.Caller{State: st})
		d, why, ok := x.For(x.at.route, nil, access.NoRecord, e.Outcome != access.Admit && e.Outcome != access.Either)
		if !ok {
			x.leave("", "nobody, "+string(st)+" credential", why)
			continue
		}
		who := check.Caller{State: st}
		if st == access.Broken {
			if who.Scheme = brokenScheme(x.d, x.at.route); who.Scheme == "" {
				continue
			}
		}
		x.keep(d, who, access.NoRecord, nil)
	}
}

// brokenScheme is the scheme of which a broken credential is presented at route i.
func brokenScheme(d *declaration.Document, i int) string {
	if e := d.Entry(i); e != nil {
		if acc := d.Accepted(e); len(acc) > 0 {
			return acc[0].Name
		}
	}
	if len(d.Schemes) > 0 {
		return d.Schemes[0].Name
	}
	return ""
}

// identity plans who is sent for a class.
func (x planning) identity(class access.Class) {
	i := x.at.route
	rep, rest := check.Members(x.d, class)
	s, why := x.Presentable(i, rep)
	if s == nil {
		x.leave(rep.Name, "the crossing", why)
		return
	}
	e := access.Decide(x.d, i, access.Caller{Identity: rep, State: access.Sound})
	if attr := x.changed(rep); attr != "" && e.Outcome == access.Admit {
		x.leave(rep.Name, "the crossing", fmt.Sprintf("it would change %s of %s, and what is declared would be false "+
			"from then on", attr, rep.Name))
		return
	}
	rels := []access.Relation{access.NoRecord}
	switch {
	case e.Depends:
		rels = []access.Relation{access.Own, access.Foreign}
	case e.Outcome != access.Admit && e.Decider == scopeRung && x.OwnsAt(i, rep):
		// On somebody else's record ownership would answer in place of what is asked.
		rels = []access.Relation{access.Own}
	}
	sent := false
	for _, rel := range rels {
		e := access.Decide(x.d, i, access.Caller{Identity: rep, State: access.Sound, Record: rel})
		d, why, ok := x.For(i, rep, rel, e.Outcome != access.Admit)
		if !ok {
			if strings.Contains(why, " owns no ") {
				continue // there is no such crossing
			}
			what := "the crossing"
			if rel != access.NoRecord {
				what = "the crossing with a record of its " + map[access.Relation]string{access.Own: "own",
					access.Foreign: "neighbour"}[rel]
			}
			x.leave(rep.Name, what, why)
			continue
		}
		x.keep(d, check.Caller{Identity: rep.Name, Scheme: s.Name, State: access.Sound}, rel, rest)
		sent = true
		if rel == access.Foreign && !x.d.Routes[i].Unsafe() && !d.Record.Lent() && slices.Contains(rest,
			d.Record.Owner) {
			x.owner(d.Record.Owner)
		}
	}
	if sent {
		x.Inferred += len(rest)
	}
}

// owner plans the own crossing of somebody whose record is asked for as somebody else's, and for whom its like stands
// otherwise: without its answer one cannot tell whether what was shown is its record. (Of a change, what the owner
// reads afterwards tells.)
func (x planning) owner(name string) {
	id := x.d.IdentityNamed(name)
	s, _ := x.Presentable(x.at.route, id)
	if s == nil {
		return
	}
	if d, _, ok := x.For(x.at.route, id, access.Own, false); ok {
		x.keep(d, check.Caller{Identity: name, Scheme: s.Name, State: access.Sound}, access.Own, nil)
	}
}

// changed is an attribute that the route's admission changes of an identity, "" for none.
func (x planning) changed(id *declaration.Identity) string {
	for _, attr := range slices.Sorted(maps.Keys(x.d.Routes[x.at.route].Changes)) {
		if fmt.Sprint(id.Attributes[attr]) != fmt.Sprint(x.d.Routes[x.at.route].Changes[attr]) {
			return attr
		}
	}
	return ""
}

// untried names the checks of the route that nobody shows: a caller must lack that and pass all
// else, or another check answers in its place.
func (x planning) untried() {
	if len(x.at.made) == 0 {
		return // said already
	}
	shown := map[string]bool{}
	for _, p := range x.at.made {
		id := x.d.IdentityNamed(p.Caller.Identity)
		if id == nil || p.Caller.State != access.Sound || !x.accepts(p.Caller.Scheme) {
			continue
		}
		rel := p.Relation
		if p.Record.Name == "" || p.Record.Owner == id.Name {
			rel = access.Own // none that could be somebody else's
		}
		if lacks := access.Lacks(x.d, x.at.route, id, rel); len(lacks) == 1 {
			shown[lacks[0]] = true
		}
	}
	for _, a := range access.Asks(x.d, x.at.route) {
		if !shown[a] {
			x.leave("", "the check of "+strings.TrimPrefix(a, "the "),
				"no caller that can be sent lacks that alone, so that "+
					"another check may answer in its place")
		}
	}
}

// accepts says whether the route takes credentials of a scheme.
func (x planning) accepts(scheme string) bool {
	e := x.d.Entry(x.at.route)
	return e != nil && slices.ContainsFunc(x.d.Accepted(e),
		func(s *declaration.Scheme) bool { return s.Name == scheme })
}

// control chooses what shows the requests of a route to be fair ones.
func (x planning) control(f Family, c *check.Context) *check.Probe {
	made := x.at.made
	ctl := pickControl(f, c, made)
	if ctl == nil {
		if e := x.d.Entry(x.at.route); e != nil && len(made) > 0 && f.Expect(c, made[0]).Outcome != access.Closed {
			x.leave("", "the control", "no caller that must be admitted can be presented, so refusals stay "+
				"unproven")
		}
		return nil
	}
	for _, p := range made {
		d := of(p)
		if p.IsControl = p == ctl; !p.IsControl {
			p.Control, d.ControlBy = ctl.Key(), f.Who(ctl)
		}
		p.Detail = d
	}
	return ctl
}

// pickControl prefers nobody on an open route, then a caller admitted whatever the record,
// then an owner with its own record.
func pickControl(f Family, c *check.Context, made []*check.Probe) *check.Probe {
	for _, good := range []func(*check.Probe) bool{
		func(p *check.Probe) bool { return p.Caller.Identity == "" && p.Caller.State == access.Absent },
		func(p *check.Probe) bool { return p.Caller.Identity != "" && p.Relation == access.NoRecord },
		func(p *check.Probe) bool { return p.Caller.Identity != "" },
	} {
		for _, p := range made {
			if good(p) && f.Expect(c, p).Outcome == access.Admit {
				return p
			}
		}
	}
	return nil
}

// compare says with which answers that of a foreign record is compared.
func (x planning) compare() {
	for _, p := range x.at.made {
		if p.Relation != access.Foreign || p.Record.Lent() {
			continue
		}
		d := of(p)
		for _, o := range x.at.made {
			switch {
			case o.Caller.Identity == p.Record.Owner && o.Relation != access.Foreign &&
				o.Record.Value == p.Record.Value:
				d.Owner = append(d.Owner, o.Key())
			case o.Caller.Identity == p.Caller.Identity && o.Relation == access.Own:
				d.Own = append(d.Own, o.Key())
			}
		}
		p.Detail = d
	}
}

// refusal is a probe of how a refusal looks to who asks for a page, or for nothing: some
// services send the one to a login page and answer the other. It sends what the control
// sends. ok is false where nobody is refused there.
func refusal(c *check.Context, control *check.Probe, way string) (p check.Probe, ok bool) {
	i := c.Doc.RouteNamed(control.Route)
	d := Detail{Params: of(control).Params, ControlBy: Family{}.Who(control)}
	p = check.Probe{ID: check.ID{Family: Family{}.Name(), Route: control.Route,
		Caller: check.Caller{State: access.Absent}, Relation: control.Relation, Of: way},
		Unsafe: control.Unsafe, Record: control.Record, Control: control.Key(),
		Detail: d}
	if p.Relation == access.Own {
		p.Relation = access.NoRecord
	}
	if p.Phase = check.SafeFirst; c.Doc.Routes[i].Unsafe() {
		p.Phase, p.Record.Shared = check.ThenTurnedAway, true
	}
	return p, Family{}.Expect(c, &p).Outcome == access.Refuse
}
