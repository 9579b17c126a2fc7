package quota

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
)

// Of is the stack of a declared quota with these amounts. The burst of a bucket
// that says none is its count; of a leaky bucket with a queue it is one, since
// what comes faster than it leaks waits.
func Of(q *declaration.Quota, amounts []declaration.Amount) Stack {
	var s Stack
	for _, a := range amounts {
		l := Limit{N: int64(a.Count), W: Ticks(a.Per), Queue: int64(q.Queue), Timeout: Ticks(q.QueueFor)}
		switch q.Model {
		case declaration.FixedWindow:
			l.Kind = FixedFirst
			if q.Starts == "clock" {
				l.Kind = FixedClock
			}
		case declaration.SlidingWindow:
			l.Kind, l.CountAll = SlidingLog, q.Counts == "all"
		case declaration.TokenBucket, declaration.LeakyBucket:
			l.Kind, l.Burst = Bucket, int64(q.Burst)
			if l.Burst == 0 {
				l.Burst = l.N
				if q.Model == declaration.LeakyBucket && q.Queue > 0 {
					l.Burst = 1
				}
			}
		case declaration.Concurrency:
			l.Kind, l.W = Concurrent, 0
		}
		s = append(s, l)
	}
	return s
}

// Caller is what a call is counted by. What it does not have is "".
type Caller struct {
	Target   string
	Address  string
	Identity string
	Account  string // that a login names
	Key      string // the credential it presents, where that is an API key
	Role     string // the most inclusive one
	Roles    map[string]bool
	Host     string
	Header   func(name string) string // nil when it sends none
}

// KeyOf is what a quota counts a call by: the first of its counting keys that
// the caller has. counted is false for a caller who is exempt. A caller who has
// none of the keys is counted with all others who have none, so that leaving a
// key out is no way around the quota.
func KeyOf(q *declaration.Quota, c Caller) (key string, counted bool) {
	if Exempt(q, c) {
		return "", false
	}
	for _, k := range q.CountedBy {
		v := ""
		switch k.By {
		case "address":
			v = c.Address
		case "identity":
			v = c.Identity
		case declaration.Account:
			v = c.Account
		case "key":
			v = c.Key
		case "role":
			v = c.Role
		case "host":
			v = c.Host
		case "header":
			if c.Header != nil {
				v = c.Header(k.Header)
			}
		case "everyone":
			v = "everyone"
		}
		if v != "" {
			return k.String() + "=" + v, true
		}
	}
	return "none", true
}

// LongestFull is how long anything waits at most for a quota that is full.
const LongestFull = 10 * time.Minute

// StackFor is what a quota allows an identity; "" is nobody.
func StackFor(d *declaration.Document, q *declaration.Quota, identity string) Stack {
	amounts, _ := q.AmountsFor(d, d.IdentityNamed(identity)) // a tie is an error of the declaration
	return Of(q, amounts)
}

// Exempt says whether a quota leaves a caller uncounted: by the target, by its
// identity, by any of its roles, or by its address.
func Exempt(q *declaration.Quota, c Caller) bool {
	return slices.ContainsFunc(q.Exempt, func(e declaration.Exemption) bool {
		switch e.Kind {
		case "target":
			return c.Target == e.Name
		case "identity":
			return c.Identity == e.Name
		case "role":
			return c.Roles[e.Name]
		case "address":
			return inRange(e.Name, c.Address)
		}
		return false
	})
}

func inRange(text, address string) bool {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	if !strings.Contains(text, "/") {
		b, err := netip.ParseAddr(text)
		return err == nil && a.Unmap() == b.Unmap()
	}
	p, err := netip.ParsePrefix(text)
	return err == nil && p.Contains(a.Unmap())
}

// Span is a number of ticks as a duration.
func Span(ticks Micros) time.Duration {
	if ticks > int64(1<<63-1)/int64(Tick) {
		return 1<<63 - 1
	}
	return time.Duration(ticks) * Tick
}
