package probe

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
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
	for i := range d.Routes {
		pl.route(i)
	}
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
	controls []*Probe
	keys     []string // of the routes
	paths    []string
}

// What the target's rules do not let be sent is left out with a reason that begins
// with one of these.
const (
	byTarget       = "the target "
	wouldDelete    = "it would delete "
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

// draft fills in what all probes at route i share. ok is false when a
// parameter has no value or the target does not allow it; why says so.
func (pl *planner) draft(i int, id *declaration.Identity, rel access.Relation, turnedAway bool) (p *Probe, why string) {
	rt := pl.d.Routes[i]
	p = &Probe{Kind: Crossing, Route: i, RouteKey: pl.keys[i], Method: rt.Method(), Host: rt.Host, Path: pl.paths[i],
		State: access.Absent, WithBody: true}
	set := func(name, value string) {
		if p.Params == nil { // most routes have none
			p.Params = map[string]string{}
		}
		p.Params[name] = value
	}
	if id != nil {
		p.Identity = id.Name
	}
	unsafe := rt.Unsafe()
	if unsafe && pl.t.Unsafe == declaration.UnsafeRefused {
		return nil, "the target does not allow unsafe methods"
	}
	deciding := pl.d.Record(i)
	makes := pl.makerOf(i)
	if pl.usesSession(i) {
		// A login, a renewal or a logout touches a session, not a record.
		makes = true
	}
	covered := makes
	for _, name := range rt.Parameters() {
		rec := pl.fills(i, name, deciding)
		sample, sampled := rt.Send.Path[name]
		switch {
		case rec == nil && !sampled:
			return nil, fmt.Sprintf("no sample for {%s}", name)
		case rec == nil, sampled && !(unsafe && rec.Make != nil) && (rel == access.NoRecord || rec != deciding):
			// A sample will do where ownership does not count, and where
			// nothing better can be made for an unsafe request.
			set(name, sample)
			continue
		}
		use, why := pl.useRecord(i, rec, name, id, rel, unsafe, turnedAway)
		if why != "" {
			return nil, why
		}
		if p.Record.Name != "" && !use.Made {
			set(name, use.ID)
			continue
		}
		p.Record = use
		covered = covered || use.Made
	}
	if unsafe && pl.t.Unsafe == declaration.UnsafeMade && !covered {
		return nil, "the target allows unsafe methods on made records only, and this route has none"
	}
	switch {
	case !unsafe:
		p.Phase = Safe
	case turnedAway:
		p.Phase = UnsafeTurnedAway
	case rt.Effect == declaration.Delete:
		p.Phase = UnsafeDeleting
	default:
		p.Phase = UnsafeAdmitted
	}
	return p, ""
}

// makerOf says whether route i is the one that makes a record, whose product
// can be removed again.
func (pl *planner) makerOf(i int) bool {
	rt := pl.d.Routes[i]
	return slices.ContainsFunc(pl.d.Records, func(r *declaration.Record) bool {
		return r.Remove != nil && access.Serves(rt, r.Make)
	})
}

func (pl *planner) usesSession(i int) bool {
	_, q := access.SessionAt(pl.d, i)
	return q != nil
}

// fills is the record that fills a parameter of route i.
func (pl *planner) fills(i int, param string, deciding *declaration.Record) *declaration.Record {
	if deciding != nil && pl.d.FillParam(i, deciding) == param {
		return deciding
	}
	for _, r := range pl.d.Records {
		if pl.d.FillParam(i, r) == param {
			return r
		}
	}
	return nil
}

// useRecord chooses the record behind a parameter.
func (pl *planner) useRecord(i int, rec *declaration.Record, param string, id *declaration.Identity,
	rel access.Relation, unsafe, turnedAway bool) (RecordUse, string) {
	use := RecordUse{Name: rec.Name, Param: param, Relation: rel}
	var owners []string
	switch {
	case rel == access.Own:
		owners = []string{id.Name}
	default:
		for _, o := range pl.ownersOf(rec) {
			if id == nil || o != id.Name {
				owners = append(owners, o)
			}
		}
		if rel == access.NoRecord && len(owners) == 0 {
			owners = pl.ownersOf(rec)
		}
	}
	if unsafe && rec.Make != nil {
		for _, o := range owners {
			if pl.canMake(rec, o) {
				use.Owner, use.Made = o, true
				return use, ""
			}
		}
	}
	if unsafe && pl.t.Unsafe == declaration.UnsafeMade {
		return use, fmt.Sprintf("the target allows unsafe methods on made records only, and no %s can be made here",
			rec.Name)
	}
	for _, o := range owners {
		if ids := rec.OwnedBy[o]; len(ids) > 0 {
			if unsafe && !turnedAway && pl.d.Routes[i].Effect == declaration.Delete {
				return use, fmt.Sprintf(wouldDelete+"%s %s, and no throwaway one can be made", rec.Name, ids[0])
			}
			use.Owner, use.ID = o, ids[0]
			return use, ""
		}
	}
	if rel == access.Own {
		return use, fmt.Sprintf("%s owns no %s", id.Name, rec.Name)
	}
	return use, fmt.Sprintf("no %s is known that belongs to somebody else", rec.Name)
}

// ownersOf lists who owns records of the kind, those first that are sent for
// their class: their own answer is then there to compare with.
func (pl *planner) ownersOf(rec *declaration.Record) []string {
	reps := map[string]bool{}
	for _, c := range pl.classes {
		reps[pl.d.Identities[c.Members[0]].Name] = true
	}
	var out, later []string
	for _, o := range rec.Owners {
		if len(rec.OwnedBy[o.Name]) == 0 && rec.Make == nil {
			continue
		}
		if reps[o.Name] {
			out = append(out, o.Name)
		} else {
			later = append(later, o.Name)
		}
	}
	return append(out, later...)
}

// canMake says whether the declaration lets the owner make a record.
func (pl *planner) canMake(rec *declaration.Record, owner string) bool {
	id := pl.d.IdentityNamed(owner)
	if id == nil || len(id.Credentials) == 0 {
		return false
	}
	for i, rt := range pl.d.Routes {
		if access.Serves(rt, rec.Make) {
			return access.Evaluate(pl.d, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit
		}
	}
	return true // the making route is not in the inventory: trying shows
}

// presentable says whether this version can present what the identity would
// use on route i.
func (pl *planner) presentable(i int, id *declaration.Identity) (*declaration.Scheme, string) {
	c := access.Credential(pl.d, i, id)
	if c == nil {
		return nil, id.Name + " has no credential"
	}
	s := pl.d.SchemeNamed(c.Scheme.Name)
	if s == nil {
		return nil, fmt.Sprintf("there is no scheme %s", c.Scheme.Name)
	}
	if s.Kind == declaration.Link && s.Issue != nil {
		rt := pl.d.Routes[i]
		for _, n := range s.Issue.Placeholders() {
			_, given := c.Fill[n]
			if !given && !slices.Contains(rt.Parameters(), n) && pl.t.Values[n] == "" {
				return nil, fmt.Sprintf("what issues links of %s needs {%s}, which this route does not have", s.Name, n)
			}
		}
	}
	return s, ""
}

// route plans the crossings of one route.
func (pl *planner) route(i int) {
	rt := pl.d.Routes[i]
	var made []*Probe
	keep := func(p *Probe, id *declaration.Identity, state access.State, rel access.Relation) *Probe {
		p.State = state
		p.Expect = access.Evaluate(pl.d, i, access.Caller{Identity: id, State: state, Record: rel}).Brief()
		p = pl.add(p)
		made = append(made, p)
		return p
	}
	open := pl.nobody(i, keep)
	for _, c := range pl.classes {
		rep, rest := check.Members(pl.d, c)
		s, why := pl.presentable(i, rep)
		if s == nil {
			pl.leave(rt.Key(), rep.Name, "the crossing", why)
			continue
		}
		x := access.Evaluate(pl.d, i, access.Caller{Identity: rep, State: access.Sound})
		rels := []access.Relation{access.NoRecord}
		switch {
		case x.Depends:
			rels = []access.Relation{access.Own, access.Foreign}
		case x.Outcome != access.Admit && x.Decider == scopeRung && pl.ownsAt(i, rep):
			// On somebody else's record ownership would answer in place of what is asked.
			rels = []access.Relation{access.Own}
		}
		sent := false
		for _, rel := range rels {
			x := access.Evaluate(pl.d, i, access.Caller{Identity: rep, State: access.Sound, Record: rel})
			p, why := pl.draft(i, rep, rel, x.Outcome != access.Admit)
			if p == nil {
				if strings.Contains(why, " owns no ") {
					continue // there is no such crossing
				}
				what := "the crossing"
				if rel != access.NoRecord {
					what = "the crossing with a record of its " + map[access.Relation]string{access.Own: "own",
						access.Foreign: "neighbour"}[rel]
				}
				pl.leave(rt.Key(), rep.Name, what, why)
				continue
			}
			p.Scheme, p.StandsFor = s.Name, rest
			keep(p, rep, access.Sound, rel)
			sent = true
		}
		if sent {
			pl.plan.Inferred += len(rest)
		}
	}
	ctl := pickControl(made)
	pl.controls[i] = ctl
	if ctl != nil {
		ctl.IsControl = true
		for _, p := range made {
			if p != ctl {
				p.Control = ctl.ID
			}
		}
	} else if e := pl.d.Entry(i); e != nil && len(made) > 0 && made[0].Expect.Outcome != access.Closed {
		pl.leave(rt.Key(), "", "the control", "no caller that must be admitted can be presented, so refusals stay "+
			"unproven")
	}
	if !open && len(made) > 0 {
		pl.around(i)
	}
	pl.raised(i, made)
}

// nobody plans who has no credential, and a broken one. open says that the first is
// admitted.
func (pl *planner) nobody(i int, keep func(*Probe, *declaration.Identity, access.State,
	access.Relation) *Probe) (open bool) {
	rt := pl.d.Routes[i]
	for _, st := range []access.State{access.Absent, access.Broken} {
		x := access.Evaluate(pl.d, i, access.Caller{State: st})
		turned := x.Outcome != access.Admit && x.Outcome != access.Either
		open = open || st == access.Absent && !turned
		p, why := pl.draft(i, nil, access.NoRecord, turned)
		if p == nil {
			pl.leave(rt.Key(), "", "nobody, "+string(st)+" credential", why)
			continue
		}
		if st == access.Broken {
			s := pl.brokenScheme(i)
			if s == "" {
				continue
			}
			p.Scheme = s
		}
		keep(p, nil, st, access.NoRecord)
	}
	return open
}

// scopeRung is the rung of scope and attributes.
const scopeRung = 5

// ownsAt says whether an identity has a record of its own for route i.
func (pl *planner) ownsAt(i int, id *declaration.Identity) bool {
	rec := pl.d.Record(i)
	if rec == nil {
		return false
	}
	_, why := pl.useRecord(i, rec, pl.d.FillParam(i, rec), id, access.Own, pl.d.Routes[i].Unsafe(), true)
	return why == ""
}

// brokenScheme is the scheme of which a broken credential is presented at
// route i.
func (pl *planner) brokenScheme(i int) string {
	if e := pl.d.Entry(i); e != nil {
		if acc := pl.d.Accepted(e); len(acc) > 0 {
			return acc[0].Name
		}
	}
	if len(pl.d.Schemes) > 0 {
		return pl.d.Schemes[0].Name
	}
	return ""
}

// pickControl prefers nobody on an open route, then a caller admitted whatever
// the record, then an owner with its own record.
func pickControl(made []*Probe) *Probe {
	for _, good := range []func(*Probe) bool{
		func(p *Probe) bool { return p.Identity == "" && p.State == access.Absent },
		func(p *Probe) bool { return p.Identity != "" && p.Record.Relation == access.NoRecord },
		func(p *Probe) bool { return p.Identity != "" },
	} {
		for _, p := range made {
			if p.Expect.Outcome == access.Admit && good(p) {
				return p
			}
		}
	}
	return nil
}

var turnedAway = access.Expectation{Outcome: access.Closed, Decider: 2, Subject: "credential"}

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
