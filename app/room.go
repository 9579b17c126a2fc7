package app

// Rule: A sweep keeps inside the quotas that count it.

import (
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// room keeps a sweep inside the declared quotas of a target that counts it, so
// that probing does not use up what it is to look at.
type room struct {
	doc    *declaration.Document
	target *declaration.Target
	start  time.Time

	mu    sync.Mutex
	gates map[string]*quota.Gate // by quota, and what it counts by
}

// newRoom is nil for a target with a pass, and where nothing is counted.
func newRoom(d *declaration.Document, t *declaration.Target, now time.Time) *room {
	if t.Pass.Header != "" || len(d.Quotas) == 0 {
		return nil
	}
	return &room{doc: d, target: t, start: now, gates: map[string]*quota.Gate{}}
}

// counting is a room of which only the counters are asked.
func counting(d *declaration.Document, t *declaration.Target) *room { return &room{doc: d, target: t} }

// count is one counter that a probe is counted by.
type count struct {
	name  string // of the counter
	quota string
	stack quota.Stack
}

// counted is a request as quotas count it.
type counted struct {
	route          int // in the document; -1 is counted by none
	identity, host string
}

// countedOf is a probe's request as quotas count it.
func (r *room) countedOf(p *check.Probe) counted {
	i := r.doc.RouteNamed(p.Route)
	if i < 0 {
		return counted{-1, p.Caller.Identity, ""}
	}
	return counted{i, p.Caller.Identity, r.doc.Routes[i].Host}
}

// counts are the counters of a request, by the declaration.
func (r *room) counts(p counted) (out []count) {
	if p.route < 0 {
		return nil
	}
	id := r.doc.IdentityNamed(p.identity)
	c := quota.Caller{Target: r.target.Name, Address: "here", Identity: p.identity, Key: p.identity, Host: p.host}
	if id != nil {
		c.Roles = r.doc.RolesOf(id)
	}
	for _, k := range r.doc.QuotasAt[p.route] {
		q, _ := r.target.Quota(r.doc.Quotas[k])
		key, counted := quota.KeyOf(q, c)
		amounts, ok := q.AmountsFor(r.doc, id)
		if !counted || !ok || q.Model == declaration.Concurrency { // how long calls take is not known
			continue
		}
		name := q.Name + "\x00" + key
		if q.PerRoute {
			name += "\x00" + r.doc.Routes[p.route].Key()
		}
		out = append(out, count{name, q.Name, quota.Of(q, amounts)})
	}
	return out
}

// wait is how long a request must wait until all quotas have room for it, and the
// quota that is full; 0 when it was counted and can go.
func (r *room) wait(p counted, now time.Time) (time.Duration, string) {
	if r == nil {
		return 0, ""
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	at := quota.Ticks(now.Sub(r.start))
	var gates []*quota.Gate
	for _, c := range r.counts(p) {
		g := r.gates[c.name]
		if g == nil {
			for i := range c.stack {
				c.stack[i].Queue = 0 // nothing of a sweep should wait in a queue
			}
			g = quota.NewGate(c.stack)
			r.gates[c.name] = g
		}
		if next := g.Next(at); next > at {
			return quota.Span(next - at), c.quota
		}
		gates = append(gates, g)
	}
	for _, g := range gates {
		g.Call(at, 1)
	}
	return 0, ""
}

// quotaTime is how long a plan takes at least by the quotas that count it, and
// the quota that takes longest; 0 where none holds it up.
func quotaTime(d *declaration.Document, t *declaration.Target, pl *check.Plan) (longest time.Duration, by string) {
	r := newRoom(d, t, time.Time{})
	if r == nil {
		return 0, ""
	}
	calls := map[string]int64{}
	counters := map[string]count{}
	for _, p := range pl.Probes {
		for _, c := range r.counts(r.countedOf(p)) {
			calls[c.name]++
			counters[c.name] = c
		}
	}
	for n, k := range calls {
		if ticks, _ := counters[n].stack.Within(k); quota.Span(ticks) > longest {
			longest, by = quota.Span(ticks), counters[n].quota
		}
	}
	return longest, by
}

// others are the counters of a request on a target, but those of one quota.
func others(d *declaration.Document, t *declaration.Target, at counted, but string) (out []count) {
	for _, n := range counting(d, t).counts(at) {
		if n.quota != but {
			n.name = t.Name + "\x00" + n.name
			out = append(out, n)
		}
	}
	return out
}
