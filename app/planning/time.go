package planning

import (
	"cmp"
	"time"

	"millgate/app/room"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// Times are how long a sweep is expected to take, and what of it what takes. They add up no
// more than what runs beside each other does.
type Times struct {
	Whole  time.Duration
	Pace   time.Duration // all requests at the declared pace
	Quota  time.Duration // the counter that holds the sweep up most
	By     string        // its quota; empty where none does
	Drills time.Duration // the longest list of drills that follow each other
}

// LongestRoom is how long a request waits for room in a quota at most; then it is sent all the
// same, and the service says what it thinks of it.
const LongestRoom = 90 * time.Second

// TimesOf goes through a plan as a sweep does, phase by phase: within one, the requests keep the
// pace, what shares a counter waits for it, and drills that share one follow each other; what of
// these takes longest is what the phase takes. A service that does what is declared is assumed.
// Shares are of counters that others send to as well; nil without others.
func TimesOf(d *declaration.Document, t *declaration.Target, pl *check.Plan, shares room.Shares) (out Times) {
	x := course{d: d, t: t, pl: pl, every: time.Second, gates: map[string]*counter{}, signedIn: map[[2]string]bool{}}
	if s := t.Pace.PerSecond(); s > 0 {
		x.every = time.Duration(float64(time.Second) / s)
	}
	if t.Pass.Header == "" {
		x.counting = room.Counting(d, t).Among(shares)
	}
	phases := map[check.Phase][]*check.Probe{}
	for _, p := range pl.Probes {
		phases[p.Phase] = append(phases[p.Phase], p)
	}
	for ph := check.SafeFirst; ph <= check.LastPhase; ph++ {
		from := x.now
		requests, drills := x.phase(phases[ph])
		pace, longest := time.Duration(requests)*x.every, x.drills(drills)
		if ph == check.ThenFollowing && len(phases[ph]) > 0 { // they wait beside each other
			pace += pl.Family(phases[ph][0]).Cost(pl.Context, phases[ph][0]).Waits
		}
		out.Pace, out.Drills = out.Pace+pace, max(out.Drills, longest)
		x.now = from + max(pace, longest)
		for _, c := range x.gates {
			x.now = max(x.now, c.now)
		}
	}
	out.Whole = x.now
	var most *counter
	for _, c := range x.gates {
		if c.waited > 0 && (most == nil || c.waited > most.waited || c.waited == most.waited && c.quota < most.quota) {
			most = c
		}
	}
	if most != nil {
		out.Quota, out.By = most.now, most.quota
	}
	return out
}

// course is a sweep on its way through a plan.
type course struct {
	d        *declaration.Document
	t        *declaration.Target
	pl       *check.Plan
	every    time.Duration // between two requests, by the pace
	now      time.Duration
	counting *room.Room // nil where nothing counts the sweep
	gates    map[string]*counter
	signedIn map[[2]string]bool // identities and schemes
}

// counter is one that counts the sweep, and how far it got there.
type counter struct {
	quota  string
	gate   *quota.Gate
	now    time.Duration // of its last call
	waited time.Duration
}

// phase counts the requests of probes, and lets their counters count them. Drills come apart.
func (x *course) phase(probes []*check.Probe) (requests int, drills []*check.Probe) {
	for _, p := range probes {
		n := x.pl.Family(p).Cost(x.pl.Context, p).Requests
		requests += n + x.login(p)
		if p.Is(quotas.Family{}) { // it fills its quota, whatever that counts
			drills = append(drills, p)
			continue
		}
		requests += x.lent(p)
		if x.counting == nil {
			continue
		}
		for range n {
			x.count(x.counted(p))
		}
	}
	return requests, drills
}

// login counts the request with which the caller of a probe comes to its credential.
func (x *course) login(p *check.Probe) int {
	s := x.d.SchemeNamed(p.Caller.Scheme)
	k := [2]string{p.Caller.Identity, p.Caller.Scheme}
	if s == nil || s.Login == nil || p.Caller.Identity == "" || x.signedIn[k] {
		return 0
	}
	x.signedIn[k] = true
	for _, at := range x.at(s.Login, "") {
		x.count(at)
	}
	return 1
}

// lending is how many requests a throwaway record takes: making, reading and removing it.
const lending = 3

// lent counts making, reading and removing a throwaway record.
func (x *course) lent(p *check.Probe) int {
	if !p.Record.Lent() {
		return 0
	}
	for _, at := range x.lends(p) {
		x.count(at)
	}
	return lending
}

// lends are the requests that make and remove the throwaway record of a probe.
func (x *course) lends(p *check.Probe) (out []room.Request) {
	rec := x.d.RecordNamed(p.Record.Name)
	if rec == nil || !p.Record.Lent() {
		return nil
	}
	return append(x.at(rec.Make, p.Record.Owner), x.at(rec.Remove, cmp.Or(rec.RemoveAs.Name, p.Record.Owner))...)
}

// counted is the request of a probe as quotas count it: by who presents no sound credential they count nobody.
func (x *course) counted(p *check.Probe) room.Request {
	at := x.counting.Of(p)
	if p.Caller.State != "" && p.Caller.State != access.Sound {
		at.Identity = ""
	}
	return at
}

// sends are the requests of a probe as quotas count them: its own, with those by which its caller comes to its
// credential and its record is lent.
func (x *course) sends(p *check.Probe) []room.Request {
	out := x.lends(p)
	for _, q := range room.Places(p) {
		out = append(out, x.counted(q))
	}
	if s := x.d.SchemeNamed(p.Caller.Scheme); s != nil && s.Login != nil && p.Caller.Identity != "" {
		out = append(out, x.at(s.Login, "")...)
	}
	return out
}

// at is a request of the declaration as quotas count it; none where no route of the inventory serves it.
func (x *course) at(q *declaration.Request, identity string) (out []room.Request) {
	if q == nil {
		return nil
	}
	if i := x.d.Inventory.Find(q.Method, q.Host, q.Path); i >= 0 {
		out = append(out, room.Request{Route: i, Identity: identity, Host: q.Host})
	}
	return out
}

// count lets a request wait for all its counters, as a sweep does.
func (x *course) count(at room.Request) {
	if x.counting == nil {
		return
	}
	for _, c := range x.counting.Counters(at) {
		g := x.gates[c.Name]
		if g == nil {
			g = &counter{quota: c.Quota, gate: c.Gate()}
			x.gates[c.Name] = g
		}
		g.now = max(g.now, x.now)
		next := quota.Span(g.gate.Next(quota.Ticks(g.now)))
		if next-g.now > LongestRoom {
			continue // it is sent all the same
		}
		if next > g.now {
			g.waited += next - g.now
		}
		g.now = max(g.now, next)
		g.gate.Call(quota.Ticks(g.now), 1)
	}
}

// drills is the longest list of drills that share counters.
func (x *course) drills(list []*check.Probe) (longest time.Duration) {
	for _, lane := range room.Lanes(x.d, x.t, list) {
		var took time.Duration
		for _, p := range lane {
			c := x.pl.Family(p).Cost(x.pl.Context, p)
			took += c.Waits + time.Duration(c.Requests)*x.every
		}
		longest = max(longest, took)
	}
	return longest
}
