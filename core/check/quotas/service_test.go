package quotas

import (
	"fmt"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/quota"
	"millgate/testkit/play"
)

// service counts calls with a limiter for each counter. count names the counter of a call,
// "" where it is not counted.
type service struct {
	limit  []quota.Limit
	count  func(c check.Call) string
	refuse int
	retry  string
	says   [][2]string           // fields of its refusals
	slow   time.Duration         // that a call takes
	fails  map[int]int           // by number of the call, what it is answered in place of anything else
	takes  map[int]time.Duration // by number of the call, how long it waits and is served then
	late   map[int]time.Duration // by number of the call, how much longer it takes, however it is answered
	lost   map[int]bool
	unsent string // why nothing is sent
	guards bool   // it refuses tokens that do not hold and nobody, once it has counted them
	gates  map[string]*quota.Gate
	n      int
	ran    map[time.Duration]int
	atOnce int
}

func who(c check.Call) string {
	if len(c.As) == 0 {
		return "nobody"
	}
	return c.As[0].Identity
}

func (s *service) answer(c check.Call, at time.Duration) check.Report {
	r := s.served(c, at)
	r.Exchange.Took += s.late[s.n]
	return r
}

func (s *service) served(c check.Call, at time.Duration) check.Report {
	if s.n++; s.unsent != "" {
		return check.Report{Fate: check.Unsent, Why: s.unsent}
	}
	if s.lost[s.n] {
		return check.Report{Fate: check.Lost, Why: "connection reset"}
	}
	r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200, Took: max(s.slow, play.Took)}}
	if st := s.fails[s.n]; st != 0 {
		r.Exchange.Status = st
		return r
	}
	if took := s.takes[s.n]; took > 0 {
		r.Exchange.Took = took
		return r
	}
	if s.atOnce > 0 {
		if s.ran == nil {
			s.ran = map[time.Duration]int{}
		}
		if s.ran[at]++; s.ran[at] > s.atOnce {
			r.Exchange.Status, r.Exchange.Took = 429, play.Took
		}
		return r
	}
	name := "all"
	if s.count != nil {
		name = s.count(c)
	}
	if s.guards && (len(c.As) == 0 || c.As[0].State == access.Broken) {
		r.Exchange.Status = 401
	}
	if s.limit == nil || name == "" {
		return r
	}
	if s.gates == nil {
		s.gates = map[string]*quota.Gate{}
	}
	if s.gates[name] == nil {
		s.gates[name] = quota.NewGate(s.limit)
	}
	switch d := s.gates[name].Call(1_000_000+at.Microseconds(), 1); {
	case !d.OK:
		r.Exchange.Status = max(s.refuse, 429)
		if s.refuse != 0 {
			r.Exchange.Status = s.refuse
		}
		r.Exchange.Answer = s.says
		if s.retry != "" {
			r.Exchange.Answer = [][2]string{{"Retry-After", s.retry}}
		}
	case d.At > 1_000_000+at.Microseconds():
		r.Exchange.Took += quota.Span(d.At - 1_000_000 - at.Microseconds())
	}
	return r
}

// free counts callers but one, and what comes to a host.
func free(whom, host string) func(check.Call) string {
	return func(c check.Call) string {
		if who(c) == whom || host != "" && c.Request.Host == host {
			return ""
		}
		return who(c)
	}
}

// verified counts who shows a token that holds.
func verified(c check.Call) string {
	if len(c.As) == 0 || c.As[0].State == access.Broken {
		return ""
	}
	return who(c)
}

// often counts everybody together from the third token on that does not hold.
func often() func(check.Call) string {
	broken := 0
	return func(c check.Call) string {
		if len(c.As) > 0 && c.As[0].State == access.Broken {
			broken++
		}
		if broken > 2 {
			return "ann"
		}
		return who(c)
	}
}

// nodes share the calls out among so many counts, one after the other.
func nodes(many int) func(check.Call) string {
	n := 0
	return func(check.Call) string { n++; return fmt.Sprint(n % many) }
}

// balanced shares the calls out among counts as the letters say, and then to the last.
func balanced(letters string) func(check.Call) string {
	return func(check.Call) string {
		first := letters[:1]
		if len(letters) > 1 {
			letters = letters[1:]
		}
		return first
	}
}

// allOf makes calls from one number to another late.
func allOf(from, to int, by time.Duration) map[int]time.Duration {
	out := map[int]time.Duration{}
	for n := from; n <= to; n++ {
		out[n] = by
	}
	return out
}

const (
	second = int64(1_000_000)
	busy   = 700 * time.Millisecond
)
