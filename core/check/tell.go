package check

import (
	"fmt"
	"iter"
	"time"
)

// Telling is a script under way, for the function that tells it.
type Telling struct {
	yield func(Step) bool
	now   time.Duration
	last  []Report
	kept  []Report
	data  Data
}

// givenUp unwinds a function whose script was given up.
type givenUp struct{}

type told struct {
	t    *Telling
	next func() (Step, bool)
	stop func()
}

// Tell makes a script of a function that is written from top to bottom. It runs as far
// as its next step at each Next; where the script is given up it ends there, and what it
// kept and measured so far is its Data.
func Tell(f func(t *Telling)) Script {
	t := &Telling{}
	next, stop := iter.Pull(func(yield func(Step) bool) {
		t.yield = yield
		defer func() {
			if e := recover(); e != nil {
				if _, ok := e.(givenUp); !ok {
					panic(e)
				}
			}
		}()
		f(t)
	})
	return &told{t, next, stop}
}

func (s *told) Next(now time.Duration, last []Report) Step {
	s.t.now, s.t.last = now, last
	step, ok := s.next()
	if !ok {
		return Step{}
	}
	return step
}

func (s *told) Data() (Data, []Report) {
	s.stop()
	return s.t.data, s.t.kept
}

// step gives a step and comes back when it was reported.
func (t *Telling) step(s Step) []Report {
	if s.Ends() {
		return nil // what sends nothing is no step
	}
	if !t.yield(s) {
		panic(givenUp{})
	}
	return t.last
}

// Send sends calls at the same time and gives their reports, in this order.
func (t *Telling) Send(calls ...Call) []Report { return t.step(Step{Send: calls}) }

// One sends a call and keeps its report.
func (t *Telling) One(c Call) Report {
	list := t.Send(c)
	if t.kept == nil {
		t.kept = list[:1:1] // nobody else has it
	} else {
		t.Keep(list[0])
	}
	return list[0]
}

// Wait waits for some time from now.
func (t *Telling) Wait(d time.Duration) { t.WaitFor(d, "") }

// WaitFor waits for some time from now, and tells people why.
func (t *Telling) WaitFor(d time.Duration, why string) {
	if d > 0 {
		t.step(Step{Wait: t.now + d, Why: why})
	}
}

// Lend asks for a throwaway record, and gives the report of its making.
func (t *Telling) Lend(l Lend) Report { return t.step(Step{Lend: &l})[0] }

// Look looks at what a caller is given.
func (t *Telling) Look(l Look) Report { return t.step(Step{Look: &l})[0] }

// Back says that what was lent is not as it was.
func (t *Telling) Back(b Back) { t.step(Step{Back: &b}) }

// Left says that something was made that nothing can remove.
func (t *Telling) Left(l Left) { t.step(Step{Left: &l}) }

// Bury hands over a credential that was ended.
func (t *Telling) Bury(b Bury) { t.step(Step{Bury: &b}) }

// Recall gives the slots of credentials that were buried. Where there are none its report is kept.
func (t *Telling) Recall(r Recall) (slots []string) {
	x := t.step(Step{Recall: &r})[0]
	if len(x.Took) == 0 {
		t.Keep(x)
	}
	for n := range len(x.Took) {
		slots = append(slots, fmt.Sprint(r.Slot, n))
	}
	return slots
}

// Now is the time since the script began.
func (t *Telling) Now() time.Duration { return t.now }

// Keep keeps reports with the fact.
func (t *Telling) Keep(r ...Report) { t.kept = append(t.kept, r...) }

// Measured says what the script measures: a pointer to what it goes on filling.
func (t *Telling) Measured(d Data) { t.data = d }
