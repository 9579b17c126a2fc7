package app

import (
	"errors"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/probe"
	"millgate/core/review"
	"millgate/core/token"
	"millgate/core/verdict"
)

// Column is one caller of the Access lens.
type Column struct {
	Key     string // "" is nobody
	Label   string
	Sub     string
	Class   int      // columns of one class cannot be told apart
	Roles   []string // with all that they include
	Members int      // of its class
}

// Row is one route of the board.
type Row struct {
	Key         string
	Method      string
	Host        string
	Path        string
	Prefix      string
	Group       string
	Effect      string
	Sensitivity string
	Summary     string
	Line        int
	File        string
	Worst       string // the worst kind on the route, also of findings without a cell
	Expect      string // one letter for each column: r f h a d c
	Verdict     string // one letter for each column: the gap's, "=" agrees, "?" unproven, "." unprobed
	Inferred    string // "1" where another of the class was sent
	Declared    bool
	Tokens      string // one letter for each way of the board: the expectation, "-" where the way means nothing here
	TokenSeen   string // one letter for each way, as Verdict
	// one letter for each page of the board: what is declared (n s r u), "-" where there is no such page
	Pages       string
	PageSeen    string // one letter for each page, as Verdict
	PageDoes    string // one letter for each page: what a browser lets it do, "." where that is not known
	Counted     []int  // the quotas that count it, as indexes of the board's
	TokenCaller string // whose sound credential the ways are made of; the caller of the way "sound"
}

// Board is the whole Access lens.
type Board struct {
	Title    string
	File     string
	Revision uint
	KeptAt   time.Time
	Target   string
	Targets  []string
	Columns  []Column
	Ways     []string      // the columns of the Tokens lens: sound, absent, and every way of being broken
	Pages    []origin.Page // the columns of the Origins lens
	Kinds    []string      // the columns of the Quotas lens: what quotas count by
	Quotas   []QuotaSeen
	Rows     []Row
	Counts   finding.Counts
	Review   int // messages about the declaration
	Errors   int
	Sweep    *Run // the last whole one of the target
	Empty    bool // there is no declaration yet
}

func verdictLetter(k finding.Kind) byte {
	switch k {
	case finding.Agrees:
		return '='
	case finding.Unproven:
		return '?'
	case finding.Unprobed, "":
		return '.'
	default:
	}
	return k[0]
}

func (a *App) pickTarget(name string) *declaration.Target {
	if t := a.doc.TargetNamed(name); t != nil {
		return t
	}
	if len(a.doc.Targets) > 0 {
		return a.doc.Targets[0]
	}
	return nil
}

// Board returns the Access lens for a target, the first when it is empty.
func (a *App) Board(target string) (Board, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	d := a.doc
	b := Board{Title: d.Title, File: a.name, Revision: a.revision.ID, KeptAt: a.revision.At,
		Empty: strings.TrimSpace(a.text) == "", Review: len(review.Open(a.reviewed))}
	for _, m := range a.messages {
		if m.Level == declaration.Error {
			b.Errors++
		}
	}
	for _, t := range d.Targets {
		b.Targets = append(b.Targets, t.Name)
	}
	board := access.NewBoard(d)
	b.Columns = columns(d, board.Classes)
	b.Ways = append([]string{WaySound, WayAbsent}, probe.AllWays(d)...)
	b.Pages = pages.Columns(d)
	b.Kinds = kindsOfCaller(d)
	b.Quotas = quotasSeen(d, nil, nil, b.Kinds)
	b.Counts = finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	worst, rowWorst, stray := map[string]finding.Kind{}, map[string]finding.Kind{}, []string{}
	inferred := map[string]bool{}
	ways, seen, does := map[string]finding.Kind{}, map[string]finding.Kind{}, map[string]string{}
	if t := a.pickTarget(target); t != nil && b.Errors == 0 {
		b.Target = t.Name
		o, err := a.judged(t)
		if err != nil {
			return b, err
		}
		b.Counts = o.counts
		b.Quotas = quotasSeen(d, t, o, b.Kinds)
		put := func(route, col string, k finding.Kind) {
			c := route + "\x00" + col
			if old, ok := worst[c]; !ok || finding.Worse(k, old) {
				worst[c] = k
			}
			if old, ok := rowWorst[route]; !ok || finding.Worse(k, old) {
				rowWorst[route] = k
			}
		}
		for _, p := range o.sent() {
			it, ok := o.items[p.ID]
			if !ok {
				continue
			}
			if w := wayOf(p); w != "" {
				if k := p.RouteKey + "\x00" + w; ways[k] == "" || finding.Worse(it.Verdict.Kind, ways[k]) {
					ways[k] = it.Verdict.Kind
				}
			}
			if c := p.Cell(); c.Lens == check.Origins {
				k := p.RouteKey + "\x00" + c.Key
				if old, ok := seen[k]; !ok || finding.Worse(it.Verdict.Kind, old) { // several may be alike in this way
					seen[k], does[k] = it.Verdict.Kind, it.Verdict.Does
				}
			}
			route := p.RouteKey
			if p.Kind == probe.UnknownPath {
				route = verdict.AnyPath
			}
			put(route, p.Column(), it.Verdict.Kind)
			for _, s := range p.StandsFor {
				if p.Kind == probe.Crossing {
					put(route, s, it.Verdict.Kind)
					inferred[route+"\x00"+s] = true
				}
			}
			if it.Verdict.Kind.IsGap() && d.RouteNamed(route) < 0 && !slices.Contains(stray, route) {
				stray = append(stray, route)
			}
		}
		if w := o.sweep; w != 0 {
			if s, err := a.store.SweepByID(w); err == nil {
				b.Sweep = runInfo(s)
				if r := a.running; r != nil && r.sweep.ID == w {
					b.Sweep = r.info()
				}
			}
		}
	}
	memo := &pageMemo{d, map[string]string{}}
	letters := func(row *Row, i int) {
		var e, v, inf strings.Builder
		for c, col := range b.Columns {
			letter := byte('c')
			if i >= 0 {
				letter = board.At(i, c).Letter()
			}
			e.WriteByte(letter)
			k := row.Key + "\x00" + col.Key
			v.WriteByte(verdictLetter(worst[k]))
			if inferred[k] {
				inf.WriteByte('1')
			} else {
				inf.WriteByte('0')
			}
		}
		row.Expect, row.Verdict, row.Inferred = e.String(), v.String(), inf.String()
		if w := rowWorst[row.Key]; w.IsGap() {
			row.Worst = string(w)
		}
	}
	for i, rt := range d.Routes {
		row := Row{Key: rt.Key(), Method: rt.Method(), Host: rt.Host, Path: rt.Path(),
			Prefix: probe.Prefix(rt.Selector), Effect: string(rt.Effect), Sensitivity: string(rt.Sensitivity),
			Group: rt.Group, Summary: rt.Summary, Line: rt.Line, File: rt.File, Declared: true}
		letters(&row, i)
		row.TokenCaller = soundCaller(d, i, b.Columns, row)
		row.Tokens, row.TokenSeen = wayLetters(d, i, b.Ways, row, ways)
		row.Pages, row.PageSeen, row.PageDoes = memo.letters(b.Pages, i, row, seen, does)
		row.Counted = d.QuotasAt[i]
		b.Rows = append(b.Rows, row)
	}
	for _, s := range stray {
		row := Row{Key: s, Path: s, Prefix: "not in the inventory", Sensitivity: "medium"}
		if m, p, ok := strings.Cut(s, " "); ok && strings.ToUpper(m) == m {
			row.Method, row.Path = m, p
		}
		letters(&row, -1)
		row.Tokens, row.TokenSeen = strings.Repeat("-", len(b.Ways)), strings.Repeat(".", len(b.Ways))
		row.Pages, row.PageSeen, row.PageDoes = memo.letters(b.Pages, -1, row, seen, does)
		b.Rows = append(b.Rows, row)
	}
	return b, nil
}

// The first two columns of the Tokens lens.
const (
	WaySound  = "sound"
	WayAbsent = "absent"
)

// wayCaller is put before a way where a caller is asked for.
const wayCaller = probe.TokenCaller

// drillCaller is put before an identity where its session drill is asked for.
const drillCaller = "session:"

// wayOf is the column of the Tokens lens that a probe belongs to, "" without.
func wayOf(p *probe.Probe) string {
	switch {
	case p.Kind == probe.Credential:
		return p.Way
	case p.Kind != probe.Crossing:
		return ""
	case p.IsControl && p.Identity != "" && p.State == access.Sound:
		return WaySound
	case p.Identity == "" && p.State == access.Absent:
		return WayAbsent
	case p.Identity == "" && p.State == access.Broken:
		return string(token.Altered)
	}
	return ""
}

// soundCaller is a caller that a route admits with a credential that can be
// sent: whatever its record before an owner, as a control is chosen; "" without,
// and on a route that asks for none.
func soundCaller(d *declaration.Document, i int, columns []Column, row Row) string {
	if row.Expect[0] == 'a' {
		return ""
	}
	for _, letter := range []byte("ad") {
		for c := 1; c < len(columns); c++ {
			if row.Expect[c] != letter {
				continue
			}
			if cr := access.Credential(d, i, d.IdentityNamed(columns[c].Key)); cr != nil {
				if s := d.SchemeNamed(cr.Scheme.Name); s != nil {
					return columns[c].Key
				}
			}
		}
	}
	return ""
}

// wayLetters are a row's cells in the Tokens lens.
func wayLetters(d *declaration.Document, i int, all []string, row Row, seen map[string]finding.Kind) (expect,
	found string) {
	var e, v strings.Builder
	mean := map[string]bool{}
	if entry := d.Entry(i); entry != nil &&
		access.Evaluate(d, i, access.Caller{State: access.Broken}).Outcome == access.Refuse {
		for _, s := range d.Accepted(entry) {
			for _, w := range probe.Ways(s) {
				mean[w] = true
			}
		}
	}
	for _, w := range all {
		letter := byte('-')
		switch {
		case w == WaySound && row.TokenCaller != "":
			letter = 'a'
		case w == WayAbsent:
			letter = row.Expect[0]
		case mean[w] && probe.MustEnter(w):
			letter = 'a'
		case mean[w]:
			letter = 'r'
		}
		e.WriteByte(letter)
		k := verdictLetter(seen[row.Key+"\x00"+w])
		if letter == '-' {
			k = '.'
		}
		v.WriteByte(k)
	}
	return e.String(), v.String()
}

// belongs says whether a probe belongs to what a cell is asked for with caller: an
// identity, "" for nobody, or a way of the Tokens lens.
func belongs(p *probe.Probe, caller string) bool {
	if w, ok := strings.CutPrefix(caller, wayCaller); ok {
		return wayOf(p) == w
	}
	if id, ok := strings.CutPrefix(caller, drillCaller); ok {
		return p.Kind == sessionKind && p.Identity == id
	}
	return p.Column() == caller
}

// sent are the planned probes; none when nothing is known of the target.
func (o *observed) sent() []*probe.Probe {
	if o.plan == nil {
		return nil
	}
	return o.plan.Probes
}

func columns(d *declaration.Document, classes []access.Class) []Column {
	class := make([]int, len(d.Identities))
	for c, cl := range classes {
		for _, m := range cl.Members {
			class[m] = c
		}
	}
	out := []Column{{Label: "nobody", Sub: "signed out", Class: -1, Members: 1, Roles: []string{}}}
	for i, id := range d.Identities {
		c := Column{Key: id.Name, Label: id.Name, Class: class[i], Members: len(classes[class[i]].Members),
			Roles: []string{}}
		var roles []string
		for _, r := range id.Roles {
			roles = append(roles, r.Name)
		}
		c.Sub = strings.Join(roles, ", ")
		if c.Sub == "" && len(id.Credentials) > 0 {
			c.Sub = id.Credentials[0].Scheme.Name
		}
		for r := range d.RolesOf(id) {
			c.Roles = append(c.Roles, r)
		}
		sort.Strings(c.Roles)
		out = append(out, c)
	}
	return out
}

// Ticks returns the verdicts known of a target, in the order of sending.
func (a *App) Ticks(target string) ([]Tick, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t := a.pickTarget(target)
	if t == nil || declaration.Failed(a.messages) {
		return []Tick{}, nil
	}
	o, err := a.judged(t)
	if err != nil {
		return nil, err
	}
	list := make([]verdict.Item, 0, len(o.items))
	for _, it := range o.items {
		list = append(list, it)
	}
	sort.Slice(list, func(i, j int) bool {
		return o.view[list[i].Probe.ID].Exchange.At.Before(o.view[list[j].Probe.ID].Exchange.At)
	})
	out := make([]Tick, len(list))
	for i, it := range list {
		out[i] = tickOf(it.Probe, it.Verdict)
	}
	return out, nil
}

// Findings returns the findings of a target by the current declaration.
func (a *App) Findings(target string) ([]finding.Finding, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t := a.pickTarget(target)
	if t == nil || declaration.Failed(a.messages) {
		return []finding.Finding{}, nil
	}
	o, err := a.judged(t)
	if err != nil {
		return nil, err
	}
	return o.findings, nil
}

// ErrNoProbe is returned by Curl for a probe that was not planned.
var ErrNoProbe = errors.New("no such probe")

// Planned finds a planned probe by its id.
func (a *App) Planned(target, id string) (*declaration.Document, *declaration.Target, *probe.Probe, *Fact, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t := a.pickTarget(target)
	if t == nil {
		return nil, nil, nil, nil, ErrNoProbe
	}
	o, err := a.judged(t)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	p := a.planned(o, t).Find(id)
	if p == nil {
		return nil, nil, nil, nil, ErrNoProbe
	}
	return a.doc, t, p, o.view[id], nil
}
