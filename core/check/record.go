package check

// Rule: A refusal that was carried out all the same is seen by who owns the record.

import (
	"cmp"
	"fmt"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
)

// OnRecord is the slot with the id of the record that a probe is sent on.
const OnRecord = "record"

// lentName stands for that id in a template. No name of a declaration has a colon.
const lentName = ":record"

// The reports of a record that is read beside a request.
const (
	readFirst  = "the record before"
	readSecond = "the record before, read again"
	readAfter  = "the record afterwards"
)

// Recorded is what stays of a call on a record beside its reports.
type Recorded struct {
	Record string `json:"record,omitempty"` // the id of the record that it was sent on
	// ReadBack is what became of the record, where the reports do not show it: versions
	// before kept that alone.
	ReadBack Change `json:"readBack,omitempty"`
}

const recordedVersion = 1 // of Recorded

// OnRecords is the part of a family whose probes are one call on a record (Telling.On): how
// its facts are kept.
type OnRecords struct{}

// Version is that of Recorded.
func (OnRecords) Version() int { return recordedVersion }

// Decode reads Recorded.
func (OnRecords) Decode(v int, data []byte) (Data, error) {
	return DecodeAs[Recorded](v, recordedVersion, data, "a call on a record")
}

// Before is the fact of a call on a record as versions before kept it, with what followed.
func (OnRecords) Before(family string, x Exchange, repeats int, m Recorded, then []Report) *Fact {
	r := ReportOf(TheRequest, x)
	r.Repeats = repeats
	if m.ReadBack != Altered && m.ReadBack != Gone {
		m.ReadBack = NotRead
	}
	return &Fact{Family: family, Version: recordedVersion, Began: x.At, Reports: append([]Report{r}, then...), Data: &m}
}

// Unmeasured is embedded by families whose scripts measure nothing: their facts are reports.
type Unmeasured struct{}

const unmeasured = 1

// Version is that of nothing.
func (Unmeasured) Version() int { return unmeasured }

// Decode reads nothing.
func (Unmeasured) Decode(v int, data []byte) (Data, error) {
	if v != unmeasured || string(data) != "null" {
		return nil, fmt.Errorf("version %d of what was measured is not known: it is nothing", v)
	}
	return nil, nil
}

// TheRequest names the report of the call that a probe is about.
const TheRequest = "the request"

// Fill puts the record of a probe into a request: for {param} in its path, and into what a
// link for it is asked for with.
func (r Record) Fill(q *Request) {
	if r.Param == "" {
		return
	}
	value := r.Value
	if r.Lent() {
		value = "{" + lentName + "}"
		if q.Fill == nil {
			q.Fill = map[string]Fill{}
		}
		q.Fill[lentName] = Fill{Slot: OnRecord}
	}
	at := value
	if !r.Lent() {
		at = route.EscapeSegment(value)
	}
	q.Path = strings.ReplaceAll(q.Path, "{"+r.Param+"}", at)
	if q.Params != nil {
		q.Params[r.Param], q.Params["id"] = value, value
	}
}

// OnID is a request with the id of a record in the place of one that is lent.
func (q Request) OnID(id string) Request {
	q.Path = strings.ReplaceAll(q.Path, "{"+lentName+"}", route.EscapeSegment(id))
	return q
}

// On sends a call on the record of a probe and keeps its report. A record that is made for
// it is lent first; ok is false where that could not be done. What it measures is Recorded.
// Where the call must be turned away, the record's owner reads it twice before and once after
// (ReadBack): those reports stand behind the call's.
func (t *Telling) On(c *Context, p *Probe, call Call) (r Report, ok bool) {
	m := &Recorded{}
	t.Measured(m)
	if m.Record, ok = t.Borrow(c, p); !ok {
		return Report{}, false
	}
	var read Call
	var before []Report
	if p.Phase == ThenTurnedAway {
		if read, ok = Reading(c, p, readFirst); ok {
			before = t.look(read)
		}
	}
	r = t.One(call)
	how := NotRead
	if len(before) == 2 && r.Fate != Unsent {
		read.Name = readAfter
		after := t.Send(read)[0]
		t.Keep(append(before, after)...)
		_, how = Changed(before[0], before[1], after)
	}
	if !p.Record.Lent() {
		return r, true
	}
	admitted := r.Fate == Answered && r.Class(c.Doc.Answers) == Admitted
	if how == Altered || how == Gone || admitted || !p.Record.Shared {
		t.Return(p, how == Gone || admitted && call.Request.Method == "DELETE" && p.Phase != ThenTurnedAway)
	}
	return r, true
}

// Borrow lends the record of a probe where it is made for it, and gives its id; ok is false
// where that could not be done.
func (t *Telling) Borrow(c *Context, p *Probe) (id string, ok bool) {
	if !p.Record.Lent() {
		return p.Record.Value, true
	}
	l, can := lending(c, p)
	if !can {
		return "", false
	}
	id = t.Lend(l).Took[OnRecord]
	return id, id != ""
}

// Return says that what a probe borrowed is not as it was; gone, that nothing is left of it.
func (t *Telling) Return(p *Probe, gone bool) {
	if p.Record.Lent() {
		t.Back(Back{Slot: OnRecord, Gone: gone})
	}
}

// look reads the record twice before a request; fewer reports are of one that could not be
// read.
func (t *Telling) look(read Call) (list []Report) {
	for _, name := range []string{readFirst, readSecond} {
		read.Name = name
		r := t.Send(read)[0]
		if _, ok := RecordIn(AnswerOf(r.Exchange)); !ok {
			return list
		}
		list = append(list, r)
	}
	return list
}

// Reading is how the owner reads the record of a probe; ok is false where nothing says that.
func Reading(c *Context, p *Probe, name string) (call Call, ok bool) {
	q := reader(c.Doc, c.Doc.RouteNamed(p.Route), p.Record.Param)
	if q == nil {
		return Call{}, false
	}
	out := Request{Method: q.Method, Host: q.Host, Path: q.Path, Params: map[string]string{}}
	r := p.Record
	r.Param = "id"
	r.Fill(&out)
	return Call{Name: name, Request: out, As: As(c.Doc, q, cmp.Or(r.Owner, readerOf(c.Doc, q, r))), Effect: Safe}, true
}

// readerOf is an identity that may read a record that has no owner; "" without one.
func readerOf(d *declaration.Document, q *declaration.Request, r Record) string {
	s, err := route.ParseTemplate(q.Method + " " + route.Hosted(q.Host, q.Path))
	if err != nil {
		return ""
	}
	for _, i := range d.Inventory.Named(s) {
		for id := range d.Ranked() {
			if access.Decide(d, i, access.Caller{Identity: id, State: access.Sound,
				Record: Standing(d, i, r, id)}).Outcome == access.Admit {
				return id.Name
			}
		}
	}
	return ""
}

// ReadBack is what became of the record of a probe whose call must be turned away: NotRead
// where that is not known. Where a version before kept that alone, it speaks for it.
func ReadBack(f *Fact) (Proof, Change) {
	at := func(name string) Report { r, _ := f.Named(name); return r }
	if proof, how := Changed(at(readFirst), at(readSecond), at(readAfter)); how != NotRead {
		return proof, how
	}
	if m, ok := f.Data.(*Recorded); ok && m.ReadBack != NotRead && len(f.Reports) > 0 {
		return Speaks(Head(f.Reports[0])), m.ReadBack
	}
	return Proof{}, NotRead
}

// carriedOut is the row of a refusal whose work went on; its kind is that of who was
// refused.
func carriedOut(k finding.Kind) *finding.Row {
	r := &finding.Row{Cause: "carried out", Kind: k, Title: "Refused and carried out all the same",
		Means:  "The answer says no, and the record is changed or gone afterwards.",
		Advice: "Stop the handler after a refusal: the guard writes its answer and the work goes on.",
		OWASP:  finding.API5, CWE: 696, // incorrect behavior order
		Shown: "The owner read the record before and after the request that was turned away."}
	if k != finding.Unprotected { // where nobody can, it is no matter of who was refused
		r.PartOf = []string{r.Cause}
	}
	return r
}

// CarriedOutRows are the causes of CarriedOut: of nobody, and of somebody.
var CarriedOutRows = []*finding.Row{carriedOut(finding.Unprotected), carriedOut(finding.OverPermissive)}

// CarriedOut is the gap of a request that was turned away and done all the same; ok is
// false where that was not seen. who sent it, where x was expected.
func CarriedOut(c *Context, p *Probe, f *Fact, who string, x access.Expectation) (g Gap, ok bool) {
	proof, how := ReadBack(f)
	if how != Altered && how != Gone || x.Outcome == access.Admit || f.Reports[0].Class(c.Doc.Answers) == Admitted {
		return Gap{}, false
	}
	g = Gap{Cause: CarriedOutRows[0], Rung: x.Decider, Proof: proof,
		Says: fmt.Sprintf("%s was answered %s, and it was carried out all the same: the record is %s afterwards.", who,
			AnswerOf(f.Reports[0].Exchange).Code(), how)}
	if p.Caller.Identity != "" {
		g.Cause = CarriedOutRows[1]
	}
	return g, true
}

// lending is how the record of a probe is made; ok is false where nothing says that.
func lending(c *Context, p *Probe) (l Lend, ok bool) {
	rec := c.Doc.RecordNamed(p.Record.Name)
	if rec == nil || rec.Make == nil {
		return Lend{}, false
	}
	l = Lend{Record: rec.Name, Owner: p.Record.Owner, Slot: OnRecord}
	if p.Record.Shared {
		l.Key = p.Route + "\x00" + rec.Name + "\x00" + p.Record.Owner
	}
	l.Make = Call{Name: rec.Make.Method + " " + rec.Make.Path + " as " + p.Record.Owner,
		Request: Template(rec.Make, FillsOf(c.Doc, c.Target, "", "")), As: As(c.Doc, rec.Make, p.Record.Owner),
		Take:   []Take{{Slot: OnRecord, At: string(rec.ID), Plain: true}},
		Effect: Again} // who lends it keeps account of it
	return l, true
}

// Bears is the credential of a probe's caller for its route. What ends a session is given one
// of its own to end.
func Bears(c *Context, p *Probe) []Present {
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if s == nil {
		return nil
	}
	as := Present{Caller: p.Caller}
	if i := c.Doc.RouteNamed(p.Route); i >= 0 && p.Caller.Identity != "" && s.Login != nil && s.Logout != nil {
		rt := c.Doc.Routes[i]
		as.Fresh = s.Logout.Host == rt.Host && s.Logout.Path == rt.Path()
	}
	return []Present{as}
}

// WhoOf names a caller who presents what is its own, or nothing.
func WhoOf(c Caller) string {
	switch {
	case c.Identity != "":
		return c.Identity
	case c.State == access.Broken:
		return "nobody (broken credential)"
	}
	return "nobody (no credential)"
}

// Parameters is a detail that knows the values of its route's parameters, but for the
// record's.
type Parameters interface{ Parameters() map[string]string }

// Elsewhere is a detail whose script sends calls at other routes or as others too: quotas count them there.
type Elsewhere interface{ Elsewhere() []ID }

// ParamsOf are those of a probe, nil where it has none.
func ParamsOf(p *Probe) map[string]string {
	if d, ok := p.Detail.(Parameters); ok {
		return d.Parameters()
	}
	return nil
}

// As presents the sound credential of an identity for a request of the declaration: the one
// that its route accepts, or else its first. Nobody presents none.
func As(d *declaration.Document, q *declaration.Request, identity string) []Present {
	id := d.IdentityNamed(identity)
	if id == nil || len(id.Credentials) == 0 {
		return nil
	}
	cr := &id.Credentials[0]
	if i := access.RouteOf(d, q); i >= 0 {
		cr = access.Credential(d, i, id) // it has one
	}
	return []Present{{Caller: Caller{Identity: identity, Scheme: cr.Scheme.Name, State: access.Sound}}}
}

// reader is the request that reads the record behind a parameter of route i, with {id} in
// its place; nil where the inventory has none.
func reader(d *declaration.Document, i int, param string) *declaration.Request {
	if i < 0 || param == "" {
		return nil
	}
	rt := d.Routes[i]
	mark := "{" + param + "}"
	at := strings.Index(rt.Path(), mark)
	if at < 0 {
		return nil
	}
	path := rt.Path()[:at+len(mark)]
	s, err := route.ParseTemplate("GET " + route.Hosted(rt.Host, path))
	if err != nil || len(d.Inventory.Named(s)) == 0 || len(s.Parameters()) != 1 {
		return nil
	}
	return &declaration.Request{Method: "GET", Host: rt.Host, Path: path[:at] + "{id}"}
}

const made = "made"

// accounts stands before the scheme in the name of a record that is an account.
const accounts = "account of "

// AccountOf is the record of an account of a scheme; AccountScheme gives the scheme back.
func AccountOf(scheme string) string { return accounts + scheme }

// AccountScheme is the scheme whose account a record is; ok is false where it is none.
func AccountScheme(record string) (scheme string, ok bool) {
	return strings.CutPrefix(record, accounts)
}

// Made is something that is no declared record, and how its id is taken.
func Made() (m *Makes, take []Take) {
	return &Makes{Slot: made}, []Take{{Slot: made, From: FromPlace, Plain: true}, {Slot: made, At: "/id", Plain: true}}
}

// Creating says what an admitted call at route i makes, and how its id is taken, where that
// is something to remove again: nil where it makes nothing.
func Creating(d *declaration.Document, i int) (m *Makes, take []Take) {
	if i < 0 || d.Routes[i].Method() != "POST" || d.Routes[i].Effect != declaration.Create {
		return nil, nil
	}
	m, take = Made()
	for _, rec := range d.Records {
		if rec.Make != nil && rec.Make.Method == "POST" && access.RouteOf(d, rec.Make) == i {
			m.Record = rec.Name
			take = append(take, Take{Slot: made, At: string(rec.ID), Plain: true})
		}
	}
	return m, take
}
