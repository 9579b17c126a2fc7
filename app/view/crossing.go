package view

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/check/pages"
	"millgate/core/check/quotas"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/store"
)

// ProbeView is one probe of a crossing, judged.
type ProbeView struct {
	Probe     *check.Probe
	Label     string // what it is, in words
	Verdict   finding.Verdict
	Fact      *snapshot.Fact
	Control   *snapshot.Fact
	ControlBy string // who sends it
	Expect    access.Expectation
	Page      *pages.View     // for a page
	Quota     *QuotaDrillView // for a quota drill
	Steps     []ScriptStep    // of a family of its own: what was sent, in order
	Rows      []check.Row     // of a list, that are not as declared
	// Declares are words of an access entry with their text by which what was seen is as declared.
	Declares map[string]string
}

// CrossingView is everything about one cell.
type CrossingView struct {
	Route    string
	Caller   string
	Label    string
	Expect   access.Expectation
	Place    declaration.Place // the deciding entry
	Probes   []ProbeView       // worst first, and last what was not sent
	Left     []check.Omission
	Finding  *finding.Finding
	Inferred string // the identity that was sent in its place
	History  []Past
	Unsafe   bool
	Target   string
	Order    []check.Sequence // in which its guard was seen to look
}

// Past is what a crossing was in an earlier sweep.
type Past struct {
	Sweep  uint
	At     time.Time
	Probe  string
	Status int
}

// Crossing returns everything about one cell for a target.
func (vw *View) Crossing(ctx context.Context, target, route, caller string) (CrossingView, error) {
	now := vw.ws.Present()
	x := crossingView{CrossingView: CrossingView{Route: route, Caller: caller}, d: now.Doc,
		i: now.Doc.RouteNamed(route)}
	if err := x.ask(); err != nil {
		return x.CrossingView, err
	}
	x.declared()
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return x.CrossingView, nil
	}
	x.Target = t.Name
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return x.CrossingView, err
	}
	sent := x.observed(s)
	if !x.known {
		return x.CrossingView, fmt.Errorf("%w: there is no route %q", fault.ErrNotFound, route)
	}
	x.Order = s.Plan().Order(route, check.NewEvidence(func(k string) *check.Fact { return s.Facts.Of(k).Seen() }))
	for _, p := range x.Probes {
		if p.Quota != nil && p.Quota.Measured != nil && p.Quota.Broken && !p.Verdict.Kind.IsGap() {
			vw.measuredBefore(ctx, t.Name, p.Probe.Key(), p.Quota)
		}
	}
	return x.CrossingView, vw.past(ctx, &x.CrossingView, t.Name, sent)
}

// QuotaDrillView is a quota as a probe fills it.
type QuotaDrillView struct {
	quotas.View
	Earlier time.Time // when it was measured, where the last drill measured nothing; zero: by this sweep
}

// measuredBefore shows what an earlier sweep measured of a quota where the last drill measured nothing: it
// is shown with its date, and no verdict.
func (vw *View) measuredBefore(ctx context.Context, target, id string, v *QuotaDrillView) {
	rows, err := vw.store.PastOf(ctx, target, id, 20)
	if err != nil {
		return // then there is nothing to show
	}
	for _, row := range rows {
		f, err := snapshot.Decode(row.ProbeID, row.Identity, row.Fact, vw.targets.Families)
		if err != nil || f.Check == nil {
			continue
		}
		if m, ok := f.Check.Data.(*quotas.Measured); ok && m.Whole() {
			v.Measured, v.Earlier = &m.Measured, row.Sent
			return
		}
	}
}

// crossingView is a cell that is put together.
type crossingView struct {
	CrossingView
	d     *declaration.Document
	i     int // of the route, -1 where the inventory has none
	id    *declaration.Identity
	page  string // of the Origins lens
	kind  string // of caller that quotas count by
	known bool   // there is something to see

	isPage, isCounted, isWay bool
}

// ask reads whose cell it is, and names it.
func (x *crossingView) ask() error {
	d, caller := x.d, x.Caller
	x.id = d.IdentityNamed(caller)
	way, tokens := strings.CutPrefix(caller, snapshot.WayCaller)
	who, drill := strings.CutPrefix(caller, snapshot.DrillCaller)
	if drill {
		x.id = d.IdentityNamed(who)
	}
	x.isWay = tokens
	if x.page, x.isPage = strings.CutPrefix(caller, check.PageColumn); x.isPage &&
		!slices.ContainsFunc(pages.Columns(d), func(p origin.Page) bool { return p.ID == x.page }) {
		return fmt.Errorf("%w: there is no page %q", fault.ErrNotFound, x.page)
	}
	x.kind, x.isCounted = strings.CutPrefix(caller, snapshot.CountedCaller)
	name, isQuota := strings.CutPrefix(caller, check.QuotaColumn)
	if x.isCounted && !slices.Contains(snapshot.KindsOfCaller(d), x.kind) || isQuota && d.QuotaNamed(name) == nil {
		return fmt.Errorf("%w: no quota counts by %q", fault.ErrNotFound, caller)
	}
	if caller != "" && x.id == nil && !tokens && !x.isPage && !x.isCounted && !isQuota {
		return fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, caller)
	}
	x.Label = "nobody · no credential"
	switch {
	case drill && x.id != nil:
		x.Label = x.id.Name + " · session drill"
	case x.isCounted:
		x.Label = "counted by " + x.kind
	case isQuota:
		x.Label = "quota " + name
	case x.isPage:
		x.Label = "a page of " + x.page
		if at, ok := pages.At(d, x.i, x.page); x.i >= 0 && ok {
			x.Label = "a page of " + at.Origin
		}
	case tokens:
		x.Label = "credential: " + way
	case x.id != nil:
		x.Label = identityLabel(d, x.i, x.id)
	}
	return nil
}

// declared says what the declaration expects, and which place of it decides.
func (x *crossingView) declared() {
	if x.i < 0 {
		return
	}
	state := access.Sound
	switch {
	case x.isWay:
		state = access.Broken
	case x.isPage, x.id == nil && x.Caller == "":
		state = access.Absent
	}
	x.Expect = access.Evaluate(x.d, x.i, access.Caller{Identity: x.id, State: state})
	x.Unsafe = x.d.Routes[x.i].Unsafe()
	x.Place = x.d.Routes[x.i].Place
	if x.isPage {
		if e := x.d.OriginEntry(x.i); e != nil {
			x.Place = e.Place
		}
	} else if x.Expect.Entry != nil {
		x.Place = x.Expect.Entry.Place
	}
}

// observed adds what is planned and was seen, and says as whom it is sent.
func (x *crossingView) observed(s *snapshot.Snapshot) (sent string) {
	pl := s.Plan()
	sent = x.Caller
	for _, p := range pl.Probes {
		if p.Route == x.Route && p.Is(crossing.Family{}) && slices.Contains(p.StandsFor, x.Caller) {
			sent, x.Inferred = p.Caller.Identity, p.Caller.Identity
		}
	}
	x.known = x.i >= 0
	var drills []*check.Probe
	if x.isCounted {
		drills = snapshot.DrillsAt(x.d, pl, x.Route, x.kind)
	}
	for _, p := range pl.Probes {
		counted := slices.Contains(drills, p)
		if !counted && p.Route != x.Route && (snapshot.KindOf(p) != undeclared.Path || x.Route != finding.AnyPath) {
			continue
		}
		x.known = true
		if !counted && !snapshot.Belongs(pl, p, sent) {
			continue
		}
		if p.Widens != "" && s.Facts.Of(p.Key()) == nil {
			continue // only what a gap led to in a sweep is there to be seen
		}
		x.Probes = append(x.Probes, x.probe(s, p))
	}
	sort.SliceStable(x.Probes, func(i, j int) bool { // what was seen comes before what was not sent
		a, b := x.Probes[i].Verdict.Kind, x.Probes[j].Verdict.Kind
		if (a == finding.Unprobed) != (b == finding.Unprobed) {
			return b == finding.Unprobed
		}
		return finding.Worse(a, b)
	})
	x.left(pl, sent)
	if len(x.Probes) == 0 {
		if x.isWay {
			sent = "" // such probes are sent as nobody
		}
		return strings.TrimPrefix(sent, snapshot.DrillCaller)
	}
	worst := x.Probes[0]
	if k := slices.IndexFunc(s.Findings, func(f finding.Finding) bool {
		return slices.Contains(f.Probes, worst.Probe.Key())
	}); k >= 0 && worst.Verdict.Kind.IsGap() {
		x.Finding = &s.Findings[k]
	}
	switch {
	case x.isWay:
		x.Expect = worst.Expect // some ways must be admitted
		return ""
	case x.isPage:
		return worst.Probe.Caller.Identity
	}
	return strings.TrimPrefix(sent, snapshot.DrillCaller)
}

// probe is one probe of the cell, judged.
func (x *crossingView) probe(s *snapshot.Snapshot, p *check.Probe) ProbeView {
	pl := s.Plan()
	x.Unsafe = x.Unsafe || p.Unsafe
	pv := ProbeView{Probe: p, Label: pl.Says(p), Expect: withLadder(pl, p),
		Verdict: finding.Verdict{Kind: finding.Unprobed, Reason: "not probed yet"}}
	if x.isPage {
		of := pages.Of(pl.Context, p)
		pv.Page = &of
		x.Unsafe = false
	}
	if p.Is(quotas.Family{}) {
		if v, ok := quotas.Of(pl.Context, p, s.Facts.Of(p.Key()).Seen()); ok {
			pv.Quota, x.Place = &QuotaDrillView{View: v}, v.Quota.Place
		}
	}
	it, ok := s.Items[p.Key()]
	if !ok {
		return pv
	}
	f := s.Facts.Of(p.Key())
	if x.isPage {
		seen := pages.Look(pl.Context, p, f.Seen(), s.Facts.Of(p.Control).Seen())
		pv.Page = &seen
	}
	pv.Verdict, pv.Fact = it.Verdict, f
	if f != nil && f.Exchange != nil {
		pv.Declares = declares(x.d.Answers, pv.Expect, it.Verdict, check.AnswerOf(*f.Exchange))
	}
	pv.Steps, pv.Rows = stepsOf(pl, p, f), rowsOf(pl, p, f)
	if c := pl.Find(p.Control); c != nil {
		pv.ControlBy, pv.Control = pl.Who(c), s.Facts.Of(c.Key())
	}
	return pv
}

// left says what of the cell is not sent, and why.
func (x *crossingView) left(pl *check.Plan, sent string) {
	for _, l := range pl.Left {
		if l.Route == x.Route && l.Caller == sent {
			x.Left = append(x.Left, l)
		}
		// Why a quota is not measured stands by its name.
		if q, ok := strings.CutPrefix(l.Route, "quota "); ok && x.i >= 0 && x.isCounted {
			if k := slices.IndexFunc(x.d.Quotas, func(u *declaration.Quota) bool { return u.Name == q }); k >= 0 &&
				slices.Contains(x.d.QuotasAt[x.i], k) && snapshot.CountedBy(x.d.Quotas[k]) == x.kind {
				x.Left = append(x.Left, l)
			}
		}
	}
	if !x.isPage || len(x.Probes) > 0 || x.i < 0 {
		return
	}
	if at, ok := pages.At(x.d, x.i, x.page); ok {
		why := "a page sends this without asking, and it is unsafe, so that it is not sent"
		if at.Hostile && at.ID != origin.Unrelated {
			why = "tried on one route of each origins entry; here only if a page gets in there"
		}
		x.Left = append(x.Left, check.Omission{Route: x.Route, What: "the page", Why: why})
	}
}

func (vw *View) past(ctx context.Context, v *CrossingView, target, sent string) error {
	at := [][2]string{{v.Route, sent}}
	for _, p := range v.Probes {
		// A quota is drilled at one route, and its cell stands at all that it counts.
		if k := [2]string{p.Probe.Route, p.Probe.Caller.Identity}; p.Probe.Is(quotas.Family{}) &&
			!slices.Contains(at, k) {
			at = append(at, k)
		}
	}
	var rows []store.Probe
	for _, k := range at {
		more, err := vw.store.Past(ctx, target, k[0], k[1], 60)
		if err != nil {
			return err
		}
		rows = append(rows, more...)
	}
	for _, r := range rows {
		if strings.Contains(v.Caller, ":") && !slices.ContainsFunc(v.Probes,
			func(p ProbeView) bool { return p.Probe.Key() == snapshot.SameProbe(r.ProbeID) }) {
			continue
		}
		v.History = append(v.History, Past{Sweep: r.SweepID, At: r.Sent, Probe: snapshot.SameProbe(r.ProbeID),
			Status: r.Status})
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
func withLadder(pl *check.Plan, p *check.Probe) access.Expectation {
	e, d := pl.Expect(p), pl.Context.Doc
	i := d.RouteNamed(p.Route)
	if i < 0 || e.Ladder != nil {
		return e
	}
	x := access.Evaluate(d, i, p.CallerIn(d))
	if x.Outcome != e.Outcome || x.Decider != e.Decider || x.Reason() != e.Reason() {
		return e // of another question than who may enter
	}
	return x
}
