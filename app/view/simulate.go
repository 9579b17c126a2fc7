package view

import (
	"bufio"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// Simulation is what is asked of a simulation. Durations are in seconds.
type Simulation struct {
	Text     string // that is not kept yet; "" is the kept one
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
func (vw *View) Simulate(q Simulation) (quota.Simulated, error) {
	d, err := vw.beside(q.Text)
	if err != nil {
		return quota.Simulated{}, err
	}
	u := d.QuotaNamed(q.Quota)
	if u == nil {
		return quota.Simulated{}, fmt.Errorf("%w: there is no quota %q", fault.ErrNotFound, q.Quota)
	}
	amounts := u.Allow
	if q.Who != "" {
		k := slices.IndexFunc(u.For, func(f declaration.QuotaFor) bool { return f.Name == q.Who })
		if k < 0 {
			return quota.Simulated{}, fmt.Errorf("%w: the quota %q has no amounts for %q", fault.ErrNotFound,
				q.Quota, q.Who)
		}
		amounts = u.For[k].Amounts
	}
	ticks := func(seconds float64) int64 { return quota.Ticks(time.Duration(seconds * float64(time.Second))) }
	for _, v := range []float64{q.Every, q.For, q.Restart, q.Hold} {
		if v < 0 || v > 366*86400 {
			return quota.Simulated{}, fmt.Errorf("%w: a duration must be between 0 and a year", fault.ErrInput)
		}
	}
	arr := quota.Arrivals{Pattern: q.Pattern, Count: q.Count, Every: ticks(q.Every), For: ticks(q.For)}
	switch {
	case q.Pattern == quota.FromLog:
		if arr.Times, err = instants(q.Recorded); err != nil {
			return quota.Simulated{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
	case arr.For < 1:
		return quota.Simulated{}, fmt.Errorf("%w: say for how long the calls go on", fault.ErrInput)
	case q.Pattern != quota.Edges && (q.Count < 1 || arr.Every < 1):
		return quota.Simulated{}, fmt.Errorf("%w: say how many calls come in how long", fault.ErrInput)
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
