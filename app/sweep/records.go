package sweep

// Rule: What a sweep made is removed, or listed as left behind.

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"millgate/app/coverage"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/route"
	"millgate/store"
	"millgate/wire"
)

// making keeps the account of a record that is made.
type making struct {
	r  *run
	id uint // in the journal
}

func (r *run) making(p *check.Probe, l check.Lend) (wire.Making, error) {
	m := store.Made{SweepID: r.sweep.ID, Record: l.Record, Owner: l.Owner, Route: p.Route, State: "making"}
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
	for _, p := range check.As(r.doc, q, identity) {
		if _, err := r.keys.Present(ctx, &o, p.Identity, p.Scheme); err != nil {
			return check.Exchange{}, err
		}
	}
	return r.client.Send(ctx, o)
}

// addMade, nameMade and setMade keep what the sweep made in the journal and in
// memory: a journal that can no longer be written must not hide what is left behind.
func (r *run) addMade(m *store.Made) error {
	if err := r.sweeps.store.AddMade(r.lasting(), m); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

// tellMade is addMade for what there is already: what the journal cannot take is
// remembered, and the next write to it reports that it is broken.
func (r *run) tellMade(m store.Made) {
	if r.sweeps.store.AddMade(r.lasting(), &m) == nil {
		return
	}
	r.madeMu.Lock()
	defer r.madeMu.Unlock()
	m.ID = math.MaxInt - uint(len(r.unkept)) // no row has it
	r.unkept = append(r.unkept, m)
}

func (r *run) nameMade(id uint, rid string) error {
	r.noteMade(id, func(m *store.Made) { m.State, m.RID = "made", rid })
	if err := r.sweeps.store.NameMade(r.lasting(), id, rid); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

func (r *run) setMade(id uint, state, why string) error {
	r.noteMade(id, func(m *store.Made) { m.State, m.Why = state, why })
	if err := r.sweeps.store.SetMade(r.lasting(), id, state, why); err != nil {
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
	list, err := r.sweeps.store.MadeOf(r.lasting(), r.sweep.ID)
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

// tellUnseen tells of what a request may have made whose answer was never seen:
// without the answer its id is not known, so it cannot be removed.
func (r *run) tellUnseen(p *check.Probe) {
	i := r.doc.RouteNamed(p.Route)
	if i < 0 || r.doc.Routes[i].Method() != "POST" || r.doc.Routes[i].Effect != declaration.Create ||
		r.plan.Expect(p).Outcome != access.Admit {
		return
	}
	m := store.Made{SweepID: r.sweep.ID, Owner: p.Caller.Identity, Route: p.Route, State: "left",
		Why: "sent when the sweep was interrupted; whether it made something is not known"}
	r.tellMade(m)
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
	made := m.Route
	rec := r.doc.RecordNamed(m.Record)
	add := func(q *declaration.Request, as declaration.Ref) {
		if who := cmp.Or(as.Name, m.Owner); q != nil && who != "" {
			out = append(out, remover{q, who})
		}
	}
	if rec != nil {
		add(rec.Remove, rec.RemoveAs)
	}
	if rec != nil && rec.Make != nil {
		made = "POST " + route.Hosted(rec.Make.Host, rec.Make.Path)
	}
	for _, s := range r.doc.Schemes {
		if s.Account == nil {
			continue
		}
		of, _ := check.AccountScheme(m.Record)
		key := check.KeyOf(r.doc, &s.Account.Request)
		if of == s.Name {
			made = key
		}
		if made == key {
			add(s.Account.Remove, s.Account.RemoveAs)
		}
	}
	var q *declaration.Request
	at := -1
	for i, rt := range r.doc.Routes {
		if rt.Method() != "DELETE" || len(rt.Parameters()) != 1 {
			continue
		}
		base := rt.Path()[:strings.LastIndexByte(rt.Path(), '/')]
		if made == "POST "+route.Hosted(rt.Host, base) {
			q, at = &declaration.Request{Method: "DELETE", Host: rt.Host, Path: base + "/{id}"}, i
		}
	}
	if q == nil {
		return out
	}
	for _, id := range r.doc.Identities {
		x := access.Decide(r.doc, at, access.Caller{Identity: id, State: access.Sound})
		if x.Outcome == access.Admit && (!x.Depends || id.Name == m.Owner) {
			out = append(out, remover{q, id.Name})
		}
	}
	return out
}

func (r *run) leftovers() []coverage.Leftover {
	list, err := r.madeOf()
	out := []coverage.Leftover{}
	if err != nil {
		return out
	}
	for _, m := range list {
		if m.State == "left" || m.State == "made" || m.State == "making" {
			what := m.RID
			if m.Record != "" {
				what = m.Record + " " + m.RID
			}
			out = append(out, coverage.Leftover{Route: m.Route, What: strings.TrimSpace(what), Why: m.Why})
		}
	}
	return out
}
