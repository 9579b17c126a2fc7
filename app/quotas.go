package app

import (
	"bufio"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/quota"
)

// Spans are the intervals for which ceilings are shown.
var Spans = []time.Duration{time.Second, time.Minute, time.Hour, 24 * time.Hour}

// Attempts are numbers of calls that somebody would like to make, with why.
type Attempts struct {
	N   int64
	Why string
}

// QuotaMember is one amount of a quota.
type QuotaMember struct {
	Amount     string
	Limit      quota.Limit
	Ceiling    int64 // of an interval of its own length
	NeverBinds bool
}

// QuotaFor is a quota as it holds for some callers.
type QuotaFor struct {
	Who      string // "" is everybody whom no other is for
	Members  []QuotaMember
	Moment   int64   // calls that get through at once
	Ceilings []int64 // of Spans; quota.Unlimited where nothing limits it
	Exact    bool    // some pattern reaches the ceilings
	Nodes    int64   // what three nodes that count alone let through in the first member's window
	Restart  int64   // what one restart lets through in it
	Wait     time.Duration
	WaitOK   bool // false where it depends on how long calls take
	Attempts []time.Duration
	Possible []bool
}

// QuotaView is a quota with what it comes to.
type QuotaView struct {
	Name      string
	Place     declaration.Place
	CountedBy string
	Model     declaration.Model
	Routes    []string
	PerRoute  bool
	Exempt    []string
	For       []QuotaFor
}

// QuotasView is everything about how often.
type QuotasView struct {
	Quotas   []QuotaView
	Without  []string // routes that no quota counts
	Attempts []Attempts
}

// Quotas says what the declared quotas come to.
func (a *App) Quotas() QuotasView {
	a.mu.Lock()
	d := a.doc
	a.mu.Unlock()
	out := QuotasView{Attempts: []Attempts{{int64(d.Assume.Guesses), "passwords to guess"},
		{10_000, "codes of four digits"}, {1_000_000, "ids to go through"}}, Without: []string{}}
	routes := make([][]string, len(d.Quotas))
	for i, rt := range d.Routes {
		if len(d.QuotasAt[i]) == 0 {
			out.Without = append(out.Without, rt.Key())
		}
		for _, q := range d.QuotasAt[i] {
			routes[q] = append(routes[q], rt.Key())
		}
	}
	for k, q := range d.Quotas {
		v := QuotaView{Name: q.Name, Place: q.Place, Model: q.Model, Routes: routes[k], PerRoute: q.PerRoute,
			CountedBy: countedBy(q)}
		for _, e := range q.Exempt {
			v.Exempt = append(v.Exempt, e.Name)
		}
		v.For = append(v.For, quotaFor("", quota.Of(q, q.Allow), q.Allow, out.Attempts))
		for _, f := range q.For {
			v.For = append(v.For, quotaFor(f.Name, quota.Of(q, f.Amounts), f.Amounts, out.Attempts))
		}
		out.Quotas = append(out.Quotas, v)
	}
	return out
}

func countedBy(q *declaration.Quota) string {
	keys := make([]string, len(q.CountedBy))
	for k, x := range q.CountedBy {
		keys[k] = x.String()
	}
	return strings.Join(keys, " or ")
}

func quotaFor(who string, s quota.Stack, amounts []declaration.Amount, tries []Attempts) QuotaFor {
	f := QuotaFor{Who: who}
	f.Moment, f.Exact = s.Ceiling(2) // two ticks: an edge lies between them
	for k, l := range s {
		if l.Kind == quota.Concurrent {
			f.Moment = min(f.Moment, l.N) // that run at the same time
		}
		m := QuotaMember{Amount: amounts[k].String(), Limit: l, Ceiling: quota.Unlimited, NeverBinds: s.NeverBinds(k)}
		if l.W > 0 {
			m.Ceiling, _ = s.Ceiling(l.W)
		}
		f.Members = append(f.Members, m)
	}
	for _, d := range Spans {
		c, _ := s.Ceiling(quota.Ticks(d))
		f.Ceilings = append(f.Ceilings, c)
	}
	f.Nodes, f.Restart = quota.Unlimited, quota.Unlimited
	if len(s) > 0 && s[0].W > 0 {
		f.Nodes = s.CeilingOf(quota.Nodes{N: 3, Sync: quota.Never}, s[0].W)
		f.Restart = s.Restarted(s[0].W)
	}
	wait, ok := s.LongestWait()
	f.Wait, f.WaitOK = quota.Span(wait), ok
	for _, t := range tries {
		ticks, ok := s.Within(t.N)
		f.Attempts, f.Possible = append(f.Attempts, quota.Span(ticks)), append(f.Possible, ok)
	}
	return f
}

// Simulation is what is asked of a simulation. Durations are in seconds.
type Simulation struct {
	Quota    string
	Who      string // of its `for`; "" for everybody else
	Pattern  quota.Pattern
	Count    int64
	Every    float64
	For      float64
	Nodes    int64
	Sync     float64 // negative is never
	Restart  float64
	Hold     float64
	Recorded string // for the pattern log: an instant on each line
}

// Simulate runs a pattern of calls through a declared quota.
func (a *App) Simulate(q Simulation) (quota.Simulated, error) {
	a.mu.Lock()
	d := a.doc
	a.mu.Unlock()
	u := d.QuotaNamed(q.Quota)
	if u == nil {
		return quota.Simulated{}, fmt.Errorf("%w: there is no quota %q", ErrNotFound, q.Quota)
	}
	amounts := u.Allow
	if q.Who != "" {
		k := slices.IndexFunc(u.For, func(f declaration.QuotaFor) bool { return f.Name == q.Who })
		if k < 0 {
			return quota.Simulated{}, fmt.Errorf("%w: the quota %q has no amounts for %q", ErrNotFound, q.Quota, q.Who)
		}
		amounts = u.For[k].Amounts
	}
	ticks := func(seconds float64) int64 { return quota.Ticks(time.Duration(seconds * float64(time.Second))) }
	for _, v := range []float64{q.Every, q.For, q.Restart, q.Hold} {
		if v < 0 || v > 366*86400 {
			return quota.Simulated{}, fmt.Errorf("%w: a duration must be between 0 and a year", ErrInput)
		}
	}
	arr := quota.Arrivals{Pattern: q.Pattern, Count: q.Count, Every: ticks(q.Every), For: ticks(q.For)}
	switch {
	case q.Pattern == quota.FromLog:
		var err error
		if arr.Times, err = instants(q.Recorded); err != nil {
			return quota.Simulated{}, fmt.Errorf("%w: %w", ErrInput, err)
		}
	case arr.For < 1:
		return quota.Simulated{}, fmt.Errorf("%w: say for how long the calls go on", ErrInput)
	case q.Pattern != quota.Edges && (q.Count < 1 || arr.Every < 1):
		return quota.Simulated{}, fmt.Errorf("%w: say how many calls come in how long", ErrInput)
	}
	opt := quota.Options{Nodes: quota.Nodes{N: min(max(q.Nodes, 1), 100), Sync: ticks(max(0, q.Sync))},
		Restart: ticks(q.Restart), Hold: ticks(q.Hold)}
	if q.Sync < 0 {
		opt.Nodes.Sync = quota.Never
	}
	return quota.Simulate(quota.Of(u, amounts), arr, opt), nil
}

// timeForms are the forms of an instant that logs have.
var timeForms = []string{time.RFC3339Nano, "2006-01-02 15:04:05", "02/Jan/2006:15:04:05 -0700", "2006-01-02T15:04:05"}

// instants reads an instant from each line: seconds, or a date and time as logs
// write it, also in brackets within a line. They count from the first.
func instants(text string) ([]int64, error) {
	var out []int64
	sc := bufio.NewScanner(strings.NewReader(text))
	sc.Buffer(make([]byte, 0, 64<<10), 1<<20)
	for n := 1; sc.Scan(); n++ {
		line := strings.TrimSpace(sc.Text())
		if line == "" {
			continue
		}
		t, ok := instant(line)
		if !ok {
			return nil, fmt.Errorf("line %d has no instant: %q; write seconds, or a time like 2026-11-25T10:00:00Z", n,
				cutTo(line, 60))
		}
		out = append(out, t)
	}
	if err := sc.Err(); err != nil {
		return nil, fmt.Errorf("the log cannot be read: %w", err)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("the log has no lines")
	}
	slices.Sort(out)
	first := out[0]
	for i := range out {
		out[i] -= first
	}
	return out, nil
}

func instant(line string) (int64, bool) {
	if v, err := strconv.ParseFloat(strings.Fields(line)[0], 64); err == nil && v >= 0 && v < 1e11 {
		return int64(v * float64(time.Second/quota.Tick)), true
	}
	candidates := []string{line, strings.Fields(line)[0]}
	if i := strings.IndexByte(line, '['); i >= 0 {
		if j := strings.IndexByte(line[i:], ']'); j > 0 {
			candidates = append(candidates, line[i+1:i+j])
		}
	}
	for _, c := range candidates {
		for _, f := range timeForms {
			if t, err := time.Parse(f, c); err == nil {
				return t.UnixMicro(), true
			}
		}
	}
	return 0, false
}

func cutTo(s string, n int) string {
	if len(s) > n {
		return s[:n] + "…"
	}
	return s
}
