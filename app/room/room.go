// Package room says when a request has room in the declared quotas, so that probing keeps inside them
// and no quota refuses in another's place.
//
// A Room counts what a sweep sends, as the declared models would. Spent remembers what drills used of
// quotas beside the one they fill. Both are asked with the time as an argument.
//
// Rule: A sweep keeps inside the quotas that count it.
package room

import (
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/core/route"
)

// Room keeps a sweep inside the declared quotas of a target that counts it, so
// that probing does not use up what it is to look at.
type Room struct {
	doc    *declaration.Document
	target *declaration.Target
	start  time.Time
	shares Shares

	mu    sync.Mutex
	gates map[string]*quota.Gate // by quota, and what it counts by
}

// New is nil for a target with a pass, and where nothing is counted.
func New(d *declaration.Document, t *declaration.Target, now time.Time) *Room {
	if t.Pass.Header != "" || len(d.Quotas) == 0 {
		return nil
	}
	return &Room{doc: d, target: t, start: now, gates: map[string]*quota.Gate{}}
}

// Counting is a room of which only the counters are asked.
func Counting(d *declaration.Document, t *declaration.Target) *Room { return &Room{doc: d, target: t} }

// Shares says among how many senders a counter is shared that send at the same time, by its name. Nil is none.
type Shares func(counter string) int

// Among is a room that keeps to its share of counters that others send to as well.
func (r *Room) Among(shares Shares) *Room {
	if r != nil {
		r.shares = shares
	}
	return r
}

// Counter is one counter that a probe is counted by.
type Counter struct {
	Name  string // of the counter
	Quota string
	stack quota.Stack
}

// Gate is the counter as it counts a sweep: nothing of one should wait in a queue.
func (c Counter) Gate() *quota.Gate {
	stack := slices.Clone(c.stack)
	for i := range stack {
		stack[i].Queue = 0
	}
	return quota.NewGate(stack)
}

// Request is a request as quotas count it.
type Request struct {
	Route          int // in the document; -1 is counted by none
	Identity, Host string
}

// Of is a probe's request as quotas count it.
func (r *Room) Of(p *check.Probe) Request {
	method, path, _ := strings.Cut(p.Route, " ")
	host := ""
	if h, rest, ok := strings.Cut(path, ":/"); ok {
		host, path = h, "/"+rest
	}
	i := RouteAt(r.doc, method, host, path, p.Route)
	if i < 0 {
		return Request{-1, p.Caller.Identity, ""}
	}
	return Request{i, p.Caller.Identity, r.doc.Routes[i].Host}
}

// RouteAt is the route by which quotas count a request, which a probe at a route of sends: the
// one that serves it; for another way to what is counted, the probe's; for a method that is not
// declared, another one there. -1 where none is.
func RouteAt(d *declaration.Document, method, host, path, of string) int {
	at := d.Inventory.Find(method, host, path)
	if at < 0 {
		at = d.RouteNamed(of)
	}
	for _, m := range route.Common {
		if at < 0 {
			at = d.Inventory.Find(m, host, path)
		}
	}
	return at
}

// Counters are the counters of a request, by the declaration.
func (r *Room) Counters(p Request) (out []Counter) {
	if p.Route < 0 {
		return nil
	}
	id := r.doc.IdentityNamed(p.Identity)
	c := quota.Caller{Target: r.target.Name, Address: "here", Identity: p.Identity, Key: p.Identity, Host: p.Host}
	if id != nil {
		c.Roles = r.doc.RolesOf(id)
	}
	for _, k := range r.doc.QuotasAt[p.Route] {
		q, _ := r.target.Quota(r.doc.Quotas[k])
		if q.ByAccount() {
			continue // the few logins of an account are not held back
		}
		key, counted := quota.KeyOf(q, c)
		amounts, ok := q.AmountsFor(r.doc, id)
		if !counted || !ok || q.Model == declaration.Concurrency { // how long calls take is not known
			continue
		}
		name := q.Name + "\x00" + key
		if q.PerRoute {
			name += "\x00" + r.doc.Routes[p.Route].Key()
		}
		stack := quota.Of(q, amounts)
		if r.shares != nil {
			stack = stack.Share(r.shares(name))
		}
		out = append(out, Counter{name, q.Name, stack})
	}
	return out
}

// Wait is how long a request must wait until all quotas have room for it, and the
// counter that is full; 0 when it was counted and can go.
func (r *Room) Wait(p Request, now time.Time) (time.Duration, Counter) {
	if r == nil {
		return 0, Counter{}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	at := quota.Ticks(now.Sub(r.start))
	var gates []*quota.Gate
	for _, c := range r.Counters(p) {
		g := r.gates[c.Name]
		if g == nil {
			g = c.Gate()
			r.gates[c.Name] = g
		}
		if next := g.Next(at); next > at {
			return quota.Span(next - at), c
		}
		gates = append(gates, g)
	}
	for _, g := range gates {
		g.Call(at, 1)
	}
	return 0, Counter{}
}

// Others are the counters of a request on a target, but those of one quota.
func Others(d *declaration.Document, t *declaration.Target, at Request, but string) (out []Counter) {
	for _, n := range Counting(d, t).Counters(at) {
		if n.Quota != but {
			n.Name = t.Name + "\x00" + n.Name
			out = append(out, n)
		}
	}
	return out
}

// Places are a drill and the same at the other routes that it sends calls to.
func Places(p *check.Probe) []*check.Probe {
	out := []*check.Probe{p}
	if d, ok := p.Detail.(check.Elsewhere); ok {
		for _, id := range d.Elsewhere() {
			out = append(out, &check.Probe{ID: id})
		}
	}
	return out
}

// Lanes are lists of drills that run beside each other: those that share a counter follow
// each other in one list.
func Lanes(d *declaration.Document, t *declaration.Target, drills []*check.Probe) (out [][]*check.Probe) {
	counters := Counting(d, t)
	lane := map[string]int{} // by counter
	for _, p := range drills {
		at := -1
		var names []Counter
		for _, at := range Places(p) {
			names = append(names, counters.Counters(counters.Of(at))...)
		}
		for _, c := range names {
			k, taken := lane[c.Name]
			switch {
			case !taken || k == at:
			case at < 0:
				at = k
			default: // two lanes become one
				out[at] = append(out[at], out[k]...)
				out[k] = nil
				for n, i := range lane {
					if i == k {
						lane[n] = at
					}
				}
			}
		}
		if at < 0 {
			at = len(out)
			out = append(out, nil)
		}
		out[at] = append(out[at], p)
		for _, c := range names {
			lane[c.Name] = at
		}
	}
	return slices.DeleteFunc(out, func(l []*check.Probe) bool { return len(l) == 0 })
}
