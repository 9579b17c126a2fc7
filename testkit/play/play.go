// Package play runs scripts of checks without a network: a function answers their calls,
// and time is what the calls take.
package play

import (
	"time"

	"millgate/core/check"
)

// Took is how long a call takes.
const Took = 10 * time.Millisecond

// Longest is how many steps a script may have: one that goes on is a mistake.
const Longest = 10000

// Recalled names the call that a Recall is answered as: what it took is what was buried.
const Recalled = "recall"

// Run plays a script. answer says what comes of a call that begins at a time; what it
// leaves out of a report (name, times) is filled in, and what took longer than the call may
// is Late. It gives the fact, and the calls in the order in which they were sent. stop, where
// it is not negative, is the number of steps after which the script is given up.
func Run(s check.Script, stop int, answer func(c check.Call, at time.Duration) check.Report) (check.Fact,
	[]check.Call) {
	f := check.Fact{Began: time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)}
	var sent []check.Call
	var last []check.Report
	now := time.Duration(0)
	for n := 0; ; n++ {
		if n == Longest {
			panic("the script does not end")
		}
		if n == stop {
			f.Cut = "given up"
			break
		}
		step := s.Next(now, last)
		if step.Ends() {
			break
		}
		last = nil
		if step.Lend != nil {
			step.Send = []check.Call{step.Lend.Make}
		}
		if step.Look != nil {
			last = []check.Report{{Name: step.Look.Name, Fate: check.Answered, Begin: now, Pulse: &check.Pulse{},
				Exchange: check.Exchange{At: f.Began.Add(now)}}}
		}
		if step.Recall != nil {
			last = []check.Report{answer(check.Call{Name: Recalled}, now)}
		}
		ends := now
		for _, c := range step.Send {
			sent = append(sent, c)
			begin := now + c.After
			r := answer(c, begin)
			took := r.Exchange.Took
			if took == 0 {
				took = Took
			}
			if c.Within > 0 && took > c.Within { // nobody waited for it
				r, took = check.Report{Fate: check.Late, Why: "late"}, c.Within
			}
			r.Name, r.Begin, r.End, r.Exchange.At = c.Name, begin, begin+took, f.Began.Add(begin)
			last, ends = append(last, r), max(ends, r.End)
		}
		now = max(ends, step.Wait)
	}
	f.Data, f.Reports = s.Data()
	return f, sent
}
