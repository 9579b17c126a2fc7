package probe

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/route"
)

// Make plans a sweep of the target, with the families given. The document must be without
// errors.
func Make(d *declaration.Document, target *declaration.Target, families check.Families) *Plan {
	pl := &planner{d: d, t: target, plan: &Plan{byID: map[string]*Probe{}, widened: map[string]bool{},
		families: families, context: check.Context{Doc: d, Target: target}}, classes: access.Classes(d),
		controls: make([]*Probe, len(d.Routes))}
	for _, rt := range d.Routes {
		pl.keys, pl.paths = append(pl.keys, rt.Key()), append(pl.paths, rt.Path())
	}
	pl.drafts = crossing.NewDrafts(d, target, pl.classes)
	pl.crossings()
	pl.malformed()
	pl.otherMethods()
	pl.unknownPaths()
	pl.neighbours()
	pl.issued()
	pl.credentials()
	pl.families()
	pl.quotas()
	sort.SliceStable(pl.plan.Probes, func(i, j int) bool {
		a, b := pl.plan.Probes[i], pl.plan.Probes[j]
		if a.Phase != b.Phase {
			return a.Phase < b.Phase
		}
		return a.Phase == Safe && a.IsControl && !b.IsControl
	})
	return pl.plan
}

type planner struct {
	d        *declaration.Document
	t        *declaration.Target
	plan     *Plan
	classes  []access.Class
	drafts   crossing.Drafts
	controls []*Probe
	keys     []string // of the routes
	paths    []string
}

// What the target's rules do not let be sent is left out with a reason that begins
// with one of these.
const (
	byTarget       = "the target "
	wouldDelete    = crossing.WouldDelete
	overrideUnsafe = "it needs an unsafe method, which the target does not allow here"
)

func (pl *planner) leave(route, caller, what, why string) {
	by := strings.HasPrefix(why, byTarget) || strings.HasPrefix(why, wouldDelete) || why == overrideUnsafe
	pl.plan.Left = append(pl.plan.Left, Omission{Route: route, Caller: caller, What: what, Why: why, ByTarget: by})
}

func (pl *planner) add(p *Probe) *Probe {
	who := p.Identity
	if who == "" {
		who = "nobody"
	}
	p.ID = strings.Join([]string{string(p.Kind), p.RouteKey, who, p.Scheme, string(p.State), string(p.Record.Relation),
		p.Way + p.Claim + p.Param}, "|")
	if p.Donor != "" {
		p.ID += "|" + p.Donor
	}
	if old := pl.plan.byID[p.ID]; old != nil {
		return old
	}
	pl.plan.byID[p.ID] = p
	pl.plan.Probes = append(pl.plan.Probes, p)
	return p
}

// draft fills in what all probes at route i share. p is nil when a parameter has no value
// or the target does not allow it; why says so.
func (pl *planner) draft(i int, id *declaration.Identity, rel access.Relation, turnedAway bool) (p *Probe, why string) {
	d, why, ok := pl.drafts.For(i, id, rel, turnedAway)
	if !ok {
		return nil, why
	}
	rt := pl.d.Routes[i]
	p = &Probe{Kind: Crossing, Route: i, RouteKey: pl.keys[i], Method: rt.Method(), Host: rt.Host, Path: pl.paths[i],
		State: access.Absent, WithBody: true, Params: d.Params, Record: recordOf(d.Record, rel), Phase: d.Phase}
	if id != nil {
		p.Identity = id.Name
	}
	return p, ""
}

// recordOf is a record as the kinds of this package have it.
func recordOf(r check.Record, rel access.Relation) RecordUse {
	if r.Name == "" {
		return RecordUse{}
	}
	return RecordUse{Name: r.Name, Param: r.Param, Relation: rel, Owner: r.Owner, ID: r.Value, Made: r.Lent()}
}

func (pl *planner) usesSession(i int) bool {
	_, q := access.SessionAt(pl.d, i)
	return q != nil
}

var turnedAway = access.Expectation{Outcome: access.Closed, Decider: 2, Subject: "credential"}

// crossings plans the callers at routes, and what is tried beside them at each.
func (pl *planner) crossings() {
	f := pl.plan.families.Named(crossing.Family{}.Name())
	p := check.NewPlanning(nil)
	if f != nil {
		f.Plan(&pl.plan.context, p)
	}
	pl.plan.Left, pl.plan.Inferred = append(pl.plan.Left, p.Left...), p.Inferred
	made := make([][]*Probe, len(pl.d.Routes))
	for _, x := range p.Probes {
		q := pl.family(x)
		made[q.Route] = append(made[q.Route], q)
		if q.IsControl {
			pl.controls[q.Route] = q
		}
	}
	for i := range pl.d.Routes {
		x := access.Evaluate(pl.d, i, access.Caller{State: access.Absent})
		if x.Outcome != access.Admit && x.Outcome != access.Either && len(made[i]) > 0 {
			pl.around(i)
		}
		pl.raised(i, made[i])
	}
}

// around plans the ways around the guard of a protected route, as nobody.
func (pl *planner) around(i int) {
	rt := pl.d.Routes[i]
	for _, way := range Detours {
		p, why := pl.draft(i, nil, access.NoRecord, true)
		if p == nil {
			pl.leave(rt.Key(), "", way, why)
			continue
		}
		p.Kind, p.Way = Around, way
		if ok, why := pl.turn(p, rt, way); !ok {
			if why != "" {
				pl.leave(rt.Key(), "", way, why)
			}
			continue
		}
		p.State, p.Expect = access.Absent, turnedAway
		if c := pl.controls[i]; c != nil {
			p.Control = c.ID
		}
		pl.add(p)
	}
}

// turn makes a probe one that steps around the guard; ok is false when the way
// does not exist here, with the reason where somebody might expect it.
func (pl *planner) turn(p *Probe, rt *declaration.Route, way string) (ok bool, why string) {
	switch way {
	case TrailingSlash:
		p.Path = strings.TrimSuffix(rt.Path(), "/") + "/"
		if strings.HasSuffix(rt.Path(), "/") {
			p.Path = strings.TrimSuffix(rt.Path(), "/")
		}
		return p.Path != "" && !pl.declaresPath(rt, p.Path), ""
	case DoubledSlash:
		p.Path = "/" + rt.Path()
	case LetterCase:
		p.Path = swapCase(rt)
		return p.Path != rt.Path() && !pl.declaresPath(rt, p.Path), ""
	case DotSegments:
		cut := strings.LastIndexByte(rt.Path(), '/')
		p.Path = rt.Path()[:cut] + "/" + nowhere + "/../." + rt.Path()[cut:]
	case PercentEncoded:
		p.Path = encodeLetter(rt)
		return p.Path != rt.Path(), ""
	case HeadMethod, OptionsMethod:
		p.Method = way
		return rt.Method() == "GET" && !pl.declares(rt, way), ""
	case PastGateway:
		p.Host = DirectHost
		return pl.t.Direct != "" && rt.Host == "", ""
	case MethodOverride:
		carrier := "POST"
		if rt.Method() == "POST" {
			carrier = "GET"
		}
		if pl.openTo(carrier, rt) || rt.Method() == "HEAD" || rt.Method() == "OPTIONS" {
			return false, ""
		}
		if declaration.UnsafeMethod(carrier) && pl.t.Unsafe != declaration.UnsafeAllowed && !p.Record.Made {
			return false, overrideUnsafe
		}
		if p.Method = carrier; carrier == "POST" && p.Phase == Safe {
			p.Phase = UnsafeTurnedAway
		}
	}
	return true, ""
}

// DirectHost names the target's direct address among its hosts.
const DirectHost = "(direct)"

func (pl *planner) declares(rt *declaration.Route, method string) bool {
	return slices.ContainsFunc(pl.d.Inventory.Siblings(pl.d.RouteNamed(rt.Key())),
		func(j int) bool { return pl.d.Routes[j].Method() == method })
}

// encodeLetter writes the first letter of the last fixed segment as %XX, which
// names the same resource.
func encodeLetter(rt *declaration.Route) string {
	for k := len(rt.Segments) - 1; k >= 0; k-- {
		if g := rt.Segments[k]; !g.Any && g.Literal != "" && g.Literal[0] != '%' {
			parts := strings.Split(rt.Path()[1:], "/")
			parts[k] = fmt.Sprintf("%%%02X%s", g.Literal[0], g.Literal[1:])
			return "/" + strings.Join(parts, "/")
		}
	}
	return rt.Path()
}

func (pl *planner) declaresPath(rt *declaration.Route, path string) bool {
	s, err := route.ParseTemplate(rt.Method() + " " + route.Hosted(rt.Host, path))
	return err != nil || len(pl.d.Inventory.Named(s)) > 0
}

// openTo says whether nobody may call the template with another method.
func (pl *planner) openTo(method string, rt *declaration.Route) bool {
	for _, j := range pl.d.Inventory.Siblings(pl.d.RouteNamed(rt.Key())) {
		if pl.d.Routes[j].Method() == method {
			x := access.Evaluate(pl.d, j, access.Caller{State: access.Absent})
			return x.Outcome == access.Admit
		}
	}
	return false
}

func swapCase(rt *declaration.Route) string {
	var b strings.Builder
	for _, g := range rt.Segments {
		b.WriteByte('/')
		if g.Any {
			b.WriteString("{" + g.Name + "}")
			continue
		}
		for _, c := range g.Literal {
			if u := strings.ToUpper(string(c)); u != string(c) {
				b.WriteString(u)
			} else {
				b.WriteString(strings.ToLower(string(c)))
			}
		}
	}
	return b.String()
}

// raised plans a body that claims a role, sent by the least of the callers
// that the route admits.
func (pl *planner) raised(i int, made []*Probe) {
	rt := pl.d.Routes[i]
	var body map[string]json.RawMessage
	if rt.Effect != declaration.Create && rt.Effect != declaration.Update ||
		json.Unmarshal(rt.Send.JSON, &body) != nil || len(body) == 0 {
		return
	}
	claim := ""
	for _, s := range pl.d.Schemes {
		if p := s.Claims["roles"]; p != "" {
			claim = p[strings.LastIndexByte(p, '/')+1:]
			break
		}
	}
	if _, there := body[claim]; claim == "" || there {
		return
	}
	var least *Probe
	size := 0
	for _, p := range made {
		if p.Expect.Outcome != access.Admit || p.State == access.Broken || pl.usesSession(i) {
			continue
		}
		n := 0
		if id := pl.d.IdentityNamed(p.Identity); id != nil {
			n = 1 + len(pl.d.RolesOf(id))
		}
		if least == nil || n < size {
			least, size = p, n
		}
	}
	if least == nil {
		return
	}
	role := HighestRole(pl.d, least.Identity)
	if role == "" {
		return
	}
	p := *least
	p.Check, p.shown = nil, nil
	p.Kind, p.Claim, p.Role, p.Phase, p.IsControl, p.StandsFor = RaisedRole, claim, role, Raising, false, nil
	p.Control = least.ID
	pl.add(&p)
}

// HighestRole is the role that includes most, and that the identity does not
// have.
func HighestRole(d *declaration.Document, identity string) string {
	have := map[string]bool{}
	if id := d.IdentityNamed(identity); id != nil {
		have = d.RolesOf(id)
	}
	best, size := "", -1
	for _, r := range d.Roles {
		n := len(r.Includes)
		for _, inc := range r.Includes {
			if o := d.RoleNamed(inc.Name); o != nil {
				n += len(o.Includes)
			}
		}
		if !have[r.Name] && n > size {
			best, size = r.Name, n
		}
	}
	return best
}
