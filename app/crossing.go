package app

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/probe"
	"millgate/core/verdict"
	"millgate/store"
)

// ProbeView is one probe of a crossing, judged.
type ProbeView struct {
	Probe    *probe.Probe
	Label    string // what it is, in words
	Verdict  verdict.Verdict
	Fact     *Fact
	Control  *Fact
	ControlP *probe.Probe
	Expect   access.Expectation
	Page     *pages.View        // for a page
	Quota    *verdict.QuotaSeen // for a quota drill
	Steps    []ScriptStep       // of a family of its own: what was sent, in order
}

// CrossingView is everything about one cell.
type CrossingView struct {
	Route    string
	Caller   string
	Label    string
	Expect   access.Expectation
	Place    declaration.Place // the deciding entry
	Probes   []ProbeView       // worst first
	Left     []probe.Omission
	Finding  *finding.Finding
	Inferred string // the identity that was sent in its place
	History  []Past
	Unsafe   bool
	Target   string
}

// Past is what a crossing was in an earlier sweep.
type Past struct {
	Sweep  uint
	At     time.Time
	Probe  string
	Status int
}

// Crossing returns everything about one cell for a target.
func (a *App) Crossing(target, route, caller string) (CrossingView, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	d := a.doc
	v := CrossingView{Route: route, Caller: caller}
	i := d.RouteNamed(route)
	id := d.IdentityNamed(caller)
	way, tokens := strings.CutPrefix(caller, wayCaller)
	who, drill := strings.CutPrefix(caller, drillCaller)
	if drill {
		id = d.IdentityNamed(who)
	}
	page, isPage := strings.CutPrefix(caller, probe.PageCaller)
	if isPage && !slices.ContainsFunc(pages.Columns(d), func(p origin.Page) bool { return p.ID == page }) {
		return v, fmt.Errorf("%w: there is no page %q", ErrNotFound, page)
	}
	kind, isCounted := strings.CutPrefix(caller, CountedCaller)
	name, isQuota := strings.CutPrefix(caller, probe.QuotaCaller)
	if isCounted && !slices.Contains(kindsOfCaller(d), kind) || isQuota && d.QuotaNamed(name) == nil {
		return v, fmt.Errorf("%w: no quota counts by %q", ErrNotFound, caller)
	}
	if caller != "" && id == nil && !tokens && !isPage && !isCounted && !isQuota {
		return v, fmt.Errorf("%w: there is no identity %q", ErrNotFound, caller)
	}
	state := access.Sound
	v.Label = "nobody · no credential"
	switch {
	case drill && id != nil:
		v.Label = id.Name + " · session drill"
	case isCounted:
		v.Label = "counted by " + kind
	case isQuota:
		v.Label = "quota " + name
	case isPage:
		state, v.Label = access.Absent, "a page of "+page
		if at, ok := pages.At(d, i, page); i >= 0 && ok {
			v.Label = "a page of " + at.Origin
		}
	case tokens:
		state, v.Label = access.Broken, "credential: "+way
	case id == nil:
		state = access.Absent
	default:
		v.Label = identityLabel(d, i, id)
	}
	if i >= 0 {
		v.Expect = access.Evaluate(d, i, access.Caller{Identity: id, State: state})
		v.Unsafe = d.Routes[i].Unsafe()
		if v.Expect.Entry != nil {
			v.Place = v.Expect.Entry.Place
		} else {
			v.Place = d.Routes[i].Place
		}
		if isPage {
			v.Place = d.Routes[i].Place
			if e := d.OriginEntry(i); e != nil {
				v.Place = e.Place
			}
		}
	}
	t := a.pickTarget(target)
	if t == nil || declaration.Failed(a.messages) {
		return v, nil
	}
	v.Target = t.Name
	o, err := a.judged(t)
	if err != nil {
		return v, err
	}
	sent := caller
	pl := a.planned(o, t)
	for _, p := range pl.Probes {
		if p.RouteKey == route && p.Kind == probe.Crossing && slices.Contains(p.StandsFor, caller) {
			sent, v.Inferred = p.Identity, p.Identity
		}
	}
	known := i >= 0
	counted := map[*probe.Probe]bool{}
	if isCounted {
		for _, p := range drillsAt(d, pl, route, kind) {
			counted[p] = true
		}
	}
	for _, p := range pl.Probes {
		here := counted[p] || p.RouteKey == route || p.Kind == probe.UnknownPath && route == verdict.AnyPath
		if !here {
			continue
		}
		known = true
		if !counted[p] && !belongs(p, sent) {
			continue
		}
		if p.Widens != "" && o.view[p.ID] == nil {
			continue // only what a gap led to in a sweep is there to be seen
		}
		v.Unsafe = v.Unsafe || p.Unsafe()
		pv := ProbeView{Probe: p, Label: probeLabel(p), Expect: withLadder(d, p),
			Verdict: verdict.Verdict{Kind: finding.Unprobed, Reason: "not probed yet"}}
		if isPage {
			of := pages.Of(pl.Context(), p.Check)
			pv.Page = &of
			v.Unsafe = false
		}
		if q := d.QuotaNamed(p.Way); p.Kind == probe.QuotaDrill && q != nil {
			pv.Quota = quotaSeenOf(d, t, q, p.Identity, nil)
			v.Place = q.Place
		}
		if it, ok := o.items[p.ID]; ok {
			if pv.Quota != nil && o.view[p.ID] != nil {
				f := o.view[p.ID]
				if pv.Quota.Measured = f.Quota; f.Earlier != nil { // shown with its date, and no verdict
					pv.Quota.Measured, pv.Quota.Earlier = f.Earlier.Measured, f.Earlier.At
				}
			}
			if isPage {
				seen := pages.Look(pl.Context(), p.Check, o.view[p.ID].seen(), o.view[p.Control].seen())
				pv.Page = &seen
			}
			pv.Verdict, pv.Fact = it.Verdict, o.view[p.ID]
			pv.Steps = stepsOf(pl, p, pv.Fact)
			if c := pl.Find(p.Control); c != nil {
				pv.ControlP, pv.Control = c, o.view[c.ID]
			}
		}
		v.Probes = append(v.Probes, pv)
	}
	if !known {
		return v, fmt.Errorf("%w: there is no route %q", ErrNotFound, route)
	}
	sort.SliceStable(v.Probes, func(x, y int) bool {
		return finding.Worse(v.Probes[x].Verdict.Kind,
			v.Probes[y].Verdict.Kind)
	})
	for _, l := range pl.Left {
		if l.Route == route && l.Caller == sent {
			v.Left = append(v.Left, l)
		}
		// Why a quota is not measured stands by its name.
		if q, ok := strings.CutPrefix(l.Route, "quota "); ok && i >= 0 && isCounted {
			if k := slices.IndexFunc(d.Quotas, func(u *declaration.Quota) bool { return u.Name == q }); k >= 0 &&
				slices.Contains(d.QuotasAt[i], k) && countedBy(d.Quotas[k]) == kind {
				v.Left = append(v.Left, l)
			}
		}
	}
	if tokens && len(v.Probes) > 0 {
		v.Expect = v.Probes[0].Expect // some ways must be admitted
	}
	if isPage && len(v.Probes) == 0 && i >= 0 {
		if at, ok := pages.At(d, i, page); ok {
			why := "a page sends this without asking, and it is unsafe, so that it is not sent"
			if at.Hostile && at.ID != origin.Unrelated {
				why = "tried on one route of each origins entry; here only if a page gets in there"
			}
			v.Left = append(v.Left, probe.Omission{Route: route, What: "the page", Why: why})
		}
	}
	if len(v.Probes) > 0 && v.Probes[0].Verdict.Kind.IsGap() {
		for k := range o.findings {
			if slices.Contains(o.findings[k].Probes, v.Probes[0].Probe.ID) {
				v.Finding = &o.findings[k]
				break
			}
		}
	}
	if who, ok := strings.CutPrefix(sent, drillCaller); ok {
		sent = who
	}
	if isPage && len(v.Probes) > 0 {
		sent = v.Probes[0].Probe.Identity
	}
	if tokens {
		sent = "" // such probes are sent as nobody
	}
	return v, a.past(&v, t.Name, sent)
}

func (a *App) past(v *CrossingView, target, sent string) error {
	at := [][2]string{{v.Route, sent}}
	for _, p := range v.Probes {
		// A quota is drilled at one route, and its cell stands at all that it counts.
		if k := [2]string{p.Probe.RouteKey, p.Probe.Identity}; p.Probe.Kind == probe.QuotaDrill &&
			!slices.Contains(at, k) {
			at = append(at, k)
		}
	}
	var rows []store.Probe
	for _, k := range at {
		more, err := a.store.Past(target, k[0], k[1], 60)
		if err != nil {
			return err
		}
		rows = append(rows, more...)
	}
	for _, r := range rows {
		if strings.Contains(v.Caller, ":") && !slices.ContainsFunc(v.Probes,
			func(p ProbeView) bool { return p.Probe.ID == sameProbe(r.ProbeID) }) {
			continue
		}
		v.History = append(v.History, Past{Sweep: r.SweepID, At: r.Sent, Probe: sameProbe(r.ProbeID), Status: r.Status})
	}
	return nil
}

func identityLabel(d *declaration.Document, i int, id *declaration.Identity) string {
	s := id.Name
	if len(id.Roles) > 0 {
		var r []string
		for _, x := range id.Roles {
			r = append(r, x.Name)
		}
		s += " (" + strings.Join(r, ", ") + ")"
	}
	if i >= 0 {
		if c := access.Credential(d, i, id); c != nil {
			s += " · sound " + c.Scheme.Name
		}
	}
	return s
}

// withLadder is what is expected of a probe, with the ladder that leads to it where it has
// one: a plan keeps none.
func withLadder(d *declaration.Document, p *probe.Probe) access.Expectation {
	if p.Route < 0 || p.Expect.Ladder != nil {
		return p.Expect
	}
	x := access.Evaluate(d, p.Route, access.Caller{Identity: d.IdentityNamed(p.Identity), State: p.State,
		Record: p.Record.Relation})
	if x.Outcome != p.Expect.Outcome || x.Decider != p.Expect.Decider || x.Reason() != p.Expect.Reason() {
		return p.Expect // of another question than who may enter
	}
	return x
}

func probeLabel(p *probe.Probe) string {
	if p.Check != nil {
		return p.Says()
	}
	switch p.Kind {
	case probe.QuotaDrill:
		return "the drill of quota " + p.Way + " at " + p.RouteKey
	case probe.Around:
		return "around the guard: " + p.Way
	case probe.Malformed:
		return "malformed {" + p.Param + "}"
	case probe.UnknownPath:
		return "unknown path " + p.Path
	case probe.OtherMethod:
		return "a method that is not declared"
	case probe.Neighbour:
		return "an address that is not declared"
	case probe.Accept:
		return "no credential, " + p.Way
	case probe.Credential:
		return "credential " + p.Way
	case probe.Issued:
		return "what it is given"
	case probe.RaisedRole:
		return fmt.Sprintf("a body that claims %s: %s", p.Claim, p.Role)
	default:
	}
	switch {
	case p.Record.Relation == access.Own:
		return "own " + p.Record.Name
	case p.Record.Relation == access.Foreign:
		return "somebody else's " + p.Record.Name
	case p.Identity == "" && p.State == access.Broken:
		return "broken credential"
	case p.Identity == "":
		return "no credential"
	}
	return "sound credential"
}
