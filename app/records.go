package app

// Rule: What a sweep made is removed, or listed as left behind.

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/route"
	"millgate/store"
	"millgate/wire"
)

// lease is a throwaway record that a probe is sent on.
type lease struct {
	id   string
	back func(gone bool) error // it is not as it was
}

// leaseFor lends the record of a probe that is no family's; nil where it needs none.
func (r *run) leaseFor(p *probe.Probe) (*lease, error) {
	if !p.Record.Made {
		return nil, nil
	}
	l, ok := check.Lending(r.plan.Context(), &check.Probe{ID: check.ID{Route: p.RouteKey}, Record: check.Record{
		Name: p.Record.Name, Param: p.Record.Param, Owner: p.Record.Owner, Shared: p.Phase == probe.UnsafeTurnedAway}})
	if !ok {
		return nil, fmt.Errorf("nothing says how a %s is made", p.Record.Name)
	}
	id, back, err := r.runner(p).Lend(r.ctx, l)
	if err != nil {
		return nil, err
	}
	return &lease{id, back}, nil
}

// making keeps the account of a record that is made.
type making struct {
	r  *run
	id uint // in the journal
}

func (r *run) making(p *probe.Probe, l check.Lend) (wire.Making, error) {
	m := store.Made{SweepID: r.sweep.ID, Record: l.Record, Owner: l.Owner, Route: p.RouteKey, State: "making"}
	if err := r.addMade(&m); err != nil {
		return nil, err
	}
	return making{r, m.ID}, nil
}

func (m making) Made(id string) error  { return m.r.nameMade(m.id, id) }
func (m making) None(why string) error { return m.r.setMade(m.id, "none", why) }
func (m making) Gone() error           { return m.r.setMade(m.id, "removed", "") }

// as sends a request written in the declaration as an identity.
func (r *run) as(ctx context.Context, q *declaration.Request, identity string,
	values map[string]string) (check.Exchange, error) {
	o := wire.FillRequest(q, values)
	o.Params = values
	id := r.doc.IdentityNamed(identity)
	if id != nil && len(id.Credentials) > 0 {
		c := &id.Credentials[0]
		if i := access.RouteOf(r.doc, q); i >= 0 {
			c = access.Credential(r.doc, i, id)
		}
		if s := r.doc.SchemeNamed(c.Scheme.Name); s != nil {
			if _, err := r.keys.Present(ctx, &o, identity, s.Name); err != nil {
				return check.Exchange{}, err
			}
		}
	}
	return r.client.Send(ctx, o)
}

// addMade, nameMade and setMade keep what the sweep made in the journal and in
// memory: a journal that can no longer be written must not hide what is left behind.
func (r *run) addMade(m *store.Made) error {
	if err := r.app.store.AddMade(m); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

// tellMade is addMade for what there is already: what the journal cannot take is
// remembered, and the next write to it reports that it is broken.
func (r *run) tellMade(m store.Made) {
	if r.app.store.AddMade(&m) == nil {
		return
	}
	r.madeMu.Lock()
	defer r.madeMu.Unlock()
	m.ID = math.MaxInt - uint(len(r.unkept)) // no row has it
	r.unkept = append(r.unkept, m)
}

func (r *run) nameMade(id uint, rid string) error {
	r.noteMade(id, func(m *store.Made) { m.State, m.RID = "made", rid })
	if err := r.app.store.NameMade(id, rid); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

func (r *run) setMade(id uint, state, why string) error {
	r.noteMade(id, func(m *store.Made) { m.State, m.Why = state, why })
	if err := r.app.store.SetMade(id, state, why); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

func (r *run) noteMade(id uint, change func(*store.Made)) {
	r.madeMu.Lock()
	defer r.madeMu.Unlock()
	m := r.made[id]
	change(&m)
	r.made[id] = m
}

// madeOf lists what the sweep made, with what the journal could not take.
func (r *run) madeOf() ([]store.Made, error) {
	list, err := r.app.store.MadeOf(r.sweep.ID)
	r.madeMu.Lock()
	defer r.madeMu.Unlock()
	list = append(list, r.unkept...)
	for i := range list {
		if n, ok := r.made[list[i].ID]; ok {
			list[i].State, list[i].Why = n.State, n.Why
			if n.RID != "" {
				list[i].RID = n.RID
			}
		}
	}
	return list, err
}

// watched is a record as it was before an unsafe probe, read twice.
type watched struct {
	read          *declaration.Request
	owner         string
	id            string
	first, second any
}

// watch reads the record of a probe that must be turned away, so that it can
// be seen whether a refusal was carried out all the same.
func (r *run) watch(p *probe.Probe, id string) *watched {
	if p.Phase != probe.UnsafeTurnedAway || p.Record.Name == "" || id == "" || p.Kind == probe.Malformed {
		return nil
	}
	q := check.Reader(r.doc, p.Route, p.Record.Param)
	if q == nil {
		return nil
	}
	w := &watched{read: q, owner: p.Record.Owner, id: id}
	var ok bool
	if w.first, ok = r.look(w); !ok {
		return nil
	}
	if w.second, ok = r.look(w); !ok {
		return nil
	}
	return w
}

func (r *run) look(w *watched) (any, bool) {
	x, err := r.as(r.ctx, w.read, w.owner, map[string]string{"id": w.id})
	if err != nil {
		return nil, false
	}
	return check.RecordIn(check.AnswerOf(x))
}

func (r *run) compare(w *watched) string {
	after, ok := r.look(w)
	if !ok {
		return ""
	}
	return string(check.Compare(w.first, w.second, after))
}

// putAway notes what an admitted request created, to be removed at the end.
func (r *run) putAway(p *probe.Probe, f *Fact) {
	if p.Route < 0 || p.Method != "POST" || r.doc.Routes[p.Route].Effect != declaration.Create {
		return
	}
	m := store.Made{SweepID: r.sweep.ID, Owner: p.Identity, Route: p.RouteKey, State: "made"}
	for _, rec := range r.doc.Records {
		if rec.Make != nil && rec.Make.Method == "POST" && access.RouteOf(r.doc, rec.Make) == p.Route {
			m.Record = rec.Name
			m.RID, _ = check.Pointer([]byte(f.Exchange.Content), rec.ID)
		}
	}
	if m.RID == "" {
		m.RID, _ = check.Pointer([]byte(f.Exchange.Content), "/id")
	}
	if loc := f.answer().Header("Location"); m.RID == "" && loc != "" {
		if u, err := url.Parse(loc); err == nil {
			m.RID = u.Path[strings.LastIndexByte(u.Path, '/')+1:]
		}
	}
	r.tellMade(m)
}

// tellUnseen tells of what a request may have made whose answer was never seen:
// without the answer its id is not known, so it cannot be removed.
func (r *run) tellUnseen(p *probe.Probe) {
	if p.Route < 0 || p.Method != "POST" || r.doc.Routes[p.Route].Effect != declaration.Create ||
		p.Expect.Outcome != access.Admit {
		return
	}
	m := store.Made{SweepID: r.sweep.ID, Owner: p.Identity, Route: p.RouteKey, State: "left",
		Why: "sent when the sweep was interrupted; whether it made something is not known"}
	r.tellMade(m)
}

// claimBefore reads the member that a raised role will claim.
func (r *run) claimBefore(p *probe.Probe, id string) string {
	q := check.Reader(r.doc, p.Route, p.Record.Param)
	if q == nil || id == "" {
		return ""
	}
	x, err := r.as(r.ctx, q, p.Record.Owner, map[string]string{"id": id})
	if err != nil || x.Status != 200 {
		return ""
	}
	return member(x.Content, p.Claim)
}

// member returns a member of a JSON object as JSON text.
func member(body, name string) string {
	var m map[string]json.RawMessage
	if json.Unmarshal([]byte(body), &m) != nil {
		return ""
	}
	return string(m[name])
}

func holds(claim, role string) bool {
	var list []string
	if json.Unmarshal([]byte(claim), &list) == nil {
		return slices.Contains(list, role)
	}
	var one string
	return json.Unmarshal([]byte(claim), &one) == nil && slices.Contains(strings.Fields(one), role)
}

// sawRaised looks for the claimed role in the answer and in the record, and
// puts back what was there.
func (r *run) sawRaised(p *probe.Probe, f *Fact, id, before string) {
	if holds(before, p.Role) {
		return
	}
	if holds(member(f.Exchange.Content, p.Claim), p.Role) {
		f.Raised = "the answer"
	}
	if after := r.claimBefore(p, id); holds(after, p.Role) {
		f.Raised = "the record, read again"
	}
	if f.Raised == "" || before == "" || id == "" {
		return
	}
	back := *p
	back.Kind = probe.Crossing
	o, err := r.outgoing(&back, id)
	if err == nil {
		var body map[string]json.RawMessage
		if err = json.Unmarshal(o.Body, &body); err == nil {
			body[p.Claim] = json.RawMessage(before)
			o.Body, err = json.Marshal(body)
		}
	}
	if err == nil {
		_, err = r.present(p, &o)
	}
	if err == nil {
		_, err = r.client.Send(r.ctx, o)
	}
	if after := r.claimBefore(p, id); err != nil || holds(after, p.Role) {
		m := store.Made{SweepID: r.sweep.ID, Owner: p.Identity, Route: p.RouteKey, RID: id, Record: p.Record.Name,
			State: "left", Why: fmt.Sprintf("%s was raised to %s and could not be put back to %s", p.Claim, p.Role,
				before)}
		r.tellMade(m)
	}
}

// cleanUp removes what the sweep made. It has its own time, so that a stopped
// sweep leaves nothing behind that can be removed quickly.
func (r *run) cleanUp() {
	ctx, cancel := context.WithTimeout(context.Background(), cleanUpTime(r.stopping.Err() != nil && !r.failed.Load()))
	defer cancel()
	list, err := r.madeOf()
	if err != nil {
		return
	}
	for _, m := range list {
		switch m.State {
		case "making":
			_ = r.setMade(m.ID, "left", "the answer to making it was never seen, so it may exist")
		case "made":
			state, why := r.removeMade(ctx, m)
			_ = r.setMade(m.ID, state, why)
		}
	}
}

func cleanUpTime(stopped bool) time.Duration {
	if stopped {
		return 250 * time.Millisecond
	}
	return 2 * time.Minute
}

func (r *run) removeMade(ctx context.Context, m store.Made) (state, why string) {
	if m.RID == "" {
		return "left", "the answer does not say what was created"
	}
	tries := r.removers(m)
	if len(tries) == 0 {
		return "left", "no route of the inventory removes it, or nobody may"
	}
	for _, t := range tries {
		x, err := r.as(ctx, t.q, t.who, map[string]string{"id": m.RID})
		switch {
		case ctx.Err() != nil:
			return "made", "stopped before it could be removed"
		case err != nil:
			why = err.Error()
		case x.Status >= 200 && x.Status < 300 || x.Status == 404 || x.Status == 410:
			return "removed", ""
		default:
			why = fmt.Sprintf("%s %s as %s was answered %d", t.q.Method, t.q.Path, t.who, x.Status)
		}
	}
	return "left", why
}

type remover struct {
	q   *declaration.Request
	who string
}

// removers are the ways to remove what was made: as its owner where the
// declaration says how, or by a caller who may remove any.
func (r *run) removers(m store.Made) []remover {
	var out []remover
	rec := r.doc.RecordNamed(m.Record)
	if rec != nil && rec.Remove != nil && m.Owner != "" {
		out = append(out, remover{rec.Remove, m.Owner})
	}
	var q *declaration.Request
	at := -1
	for i, rt := range r.doc.Routes {
		if rt.Method() != "DELETE" || len(rt.Parameters()) != 1 {
			continue
		}
		base := rt.Path()[:strings.LastIndexByte(rt.Path(), '/')]
		made := m.Route
		if rec != nil && rec.Make != nil {
			made = "POST " + route.Hosted(rec.Make.Host, rec.Make.Path)
		}
		if made == "POST "+route.Hosted(rt.Host, base) {
			q, at = &declaration.Request{Method: "DELETE", Host: rt.Host, Path: base + "/{id}"}, i
		}
	}
	if q == nil {
		return out
	}
	for _, id := range r.doc.Identities {
		x := access.Evaluate(r.doc, at, access.Caller{Identity: id, State: access.Sound})
		if x.Outcome == access.Admit && (!x.Depends || id.Name == m.Owner) {
			out = append(out, remover{q, id.Name})
		}
	}
	return out
}

func (r *run) leftovers() []Leftover {
	list, err := r.madeOf()
	out := []Leftover{}
	if err != nil {
		return out
	}
	for _, m := range list {
		if m.State == "left" || m.State == "made" || m.State == "making" {
			what := m.RID
			if m.Record != "" {
				what = m.Record + " " + m.RID
			}
			out = append(out, Leftover{Route: m.Route, What: strings.TrimSpace(what), Why: m.Why})
		}
	}
	return out
}
