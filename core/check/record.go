package check

// Rule: A refusal that was carried out all the same is seen by who owns the record.

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
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

// On sends a call on the record of a probe and keeps its report. A record that is made for
// it is lent first; ok is false where that could not be done. id is that of the record, ""
// without one. Where the call must be turned
// away, the record's owner reads it twice before and once after (ReadBack): those reports
// stand behind the call's.
func (t *Telling) On(c *Context, p *Probe, call Call) (r Report, id string, ok bool) {
	id = p.Record.Value
	if p.Record.Lent() {
		l, can := Lending(c, p)
		if can {
			id = t.Lend(l).Took[OnRecord]
		}
		if id == "" {
			return Report{}, "", false
		}
	}
	var before []Report
	if q := Reader(c.Doc, c.Doc.RouteNamed(p.Route), p.Record.Param); q != nil && p.Phase == ThenTurnedAway {
		before = t.look(c, p, q)
	}
	r = t.One(call)
	how := NotRead
	if len(before) == 2 && r.Fate != Unsent {
		after := t.Send(reading(c, p, Reader(c.Doc, c.Doc.RouteNamed(p.Route), p.Record.Param), readAfter))[0]
		t.Keep(append(before, after)...)
		_, how = Changed(before[0], before[1], after)
	}
	if !p.Record.Lent() {
		return r, id, true
	}
	admitted := r.Fate == Answered && r.Class(c.Doc.Answers) == Admitted
	if how == Altered || how == Gone || admitted || !p.Record.Shared {
		t.Back(Back{Slot: OnRecord,
			Gone: how == Gone || admitted && call.Request.Method == "DELETE" && p.Phase != ThenTurnedAway})
	}
	return r, id, true
}

// look reads the record twice before a request; fewer reports are of one that could not be
// read.
func (t *Telling) look(c *Context, p *Probe, q *declaration.Request) (list []Report) {
	for _, name := range []string{readFirst, readSecond} {
		r := t.Send(reading(c, p, q, name))[0]
		if _, ok := RecordIn(AnswerOf(r.Exchange)); !ok {
			return list
		}
		list = append(list, r)
	}
	return list
}

// reading is how the owner reads the record of a probe.
func reading(c *Context, p *Probe, q *declaration.Request, name string) Call {
	out := Request{Method: q.Method, Host: q.Host, Path: q.Path, Params: map[string]string{}}
	r := p.Record
	r.Param = "id"
	r.Fill(&out)
	return Call{Name: name, Request: out, As: As(c.Doc, q, r.Owner), Effect: Safe}
}

// ReadBack is what became of the record of a probe whose call must be turned away: NotRead
// where that is not known.
func ReadBack(f *Fact) (Proof, Change) {
	at := func(name string) Report {
		if i := slices.IndexFunc(f.Reports, func(r Report) bool { return r.Name == name }); i >= 0 {
			return f.Reports[i]
		}
		return Report{}
	}
	return Changed(at(readFirst), at(readSecond), at(readAfter))
}

// Lending is how the record of a probe is made; ok is false where nothing says that.
func Lending(c *Context, p *Probe) (l Lend, ok bool) {
	rec := c.Doc.RecordNamed(p.Record.Name)
	if rec == nil || rec.Make == nil {
		return Lend{}, false
	}
	l = Lend{Record: rec.Name, Owner: p.Record.Owner, Slot: OnRecord}
	if p.Record.Shared {
		l.Key = LendKey(p.Route, p.Record)
	}
	l.Make = Call{Name: rec.Make.Method + " " + rec.Make.Path + " as " + p.Record.Owner,
		Request: Template(rec.Make, FillsOf(c.Doc, c.Target, "", "")), As: As(c.Doc, rec.Make, p.Record.Owner),
		Take: []Take{{Slot: OnRecord, At: rec.ID, Plain: true}}, Effect: Again} // who lends it keeps account of it
	return l, true
}

// LendKey is the key by which a record is lent at a route.
func LendKey(route string, r Record) string { return route + "\x00" + r.Name + "\x00" + r.Owner }

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

// Reader is the request that reads the record behind a parameter of route i, with {id} in
// its place; nil where the inventory has none.
func Reader(d *declaration.Document, i int, param string) *declaration.Request {
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

// Creating says what an admitted call at route i makes, and how its id is taken, where that
// is something to remove again: nil where it makes nothing.
func Creating(d *declaration.Document, i int) (m *Makes, take []Take) {
	if i < 0 || d.Routes[i].Method() != "POST" || d.Routes[i].Effect != declaration.Create {
		return nil, nil
	}
	const made = "made"
	m = &Makes{Slot: made}
	take = []Take{{Slot: made, From: FromPlace, Plain: true}, {Slot: made, At: "/id", Plain: true}}
	for _, rec := range d.Records {
		if rec.Make != nil && rec.Make.Method == "POST" && access.RouteOf(d, rec.Make) == i {
			m.Record = rec.Name
			take = append(take, Take{Slot: made, At: rec.ID, Plain: true})
		}
	}
	return m, take
}
