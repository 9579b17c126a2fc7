package quotas

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

const (
	// apartBy is how far apart calls begin that are to come in an order, and clearly how far apart
	// their answers are that come in another.
	apartBy = 30 * time.Millisecond
	clearly = 60 * time.Millisecond
	// beyondQueue are the calls beyond those that may wait, which are to be refused.
	beyondQueue = 3
)

// patience is how long a call is given before it counts as one that waits.
func (x *drilling) patience() time.Duration {
	return max(leastPatience, min(mostPatience, x.c.Target.Drill))
}

// turn is how long those are given that wait for their turn: as long as one waits at most by what is
// declared, where the drill has time for that; otherwise until it shows that they wait.
func (x *drilling) turn() time.Duration {
	wait, ok := x.stack.LongestWait()
	if longest := quota.Span(wait) + leastPatience; ok && longest <= x.ends-x.Now() {
		return max(x.patience(), longest)
	}
	return x.patience()
}

// queues says whether it is time to fill the queue: the quota is full by what is declared.
func (x *drilling) queues() bool {
	return x.q.Queue > 0 && x.q.Model != declaration.Concurrency && !x.c.Longer && x.m.Crowd == nil &&
		!x.m.Waits && int64(x.admitted()) >= x.stack.First()
}

// fillQueue sends more calls than may wait, each over a connection of its own, and waits for them as
// long as the queue may. Where none waits they are calls like others. An error ends the drill.
func (x *drilling) fillQueue() error {
	list := x.overflow()
	if x.m.Crowd.Waited > 0 {
		x.m.Waits = true
		return errLate
	}
	for _, r := range list {
		if r.Fate != check.Answered {
			return x.broke(r)
		}
		if err := x.saw(r); err != nil {
			return err
		}
	}
	return nil
}

// overflow sends, while calls wait or are to wait, more than may, so that one is refused; and one of
// another caller, who must not wait for them. Where a later one is answered before an earlier one, or
// more wait than may, that is tried again: a machine that was busy makes answers late once.
func (x *drilling) overflow() []check.Report {
	left := 0
	if x.m.Waits {
		left = 1 // whose answer was not awaited
	}
	list := x.crowd(x.turn())
	x.m.Crowd = x.queue(list)
	if first := x.m.Crowd; first.Overtaken > 0 || x.q.Queue > 0 && first.Waited > x.q.Queue {
		turn := x.turn()
		if first.Overtaken == 0 { // whether they wait shows sooner than who is first
			turn /= 2
		}
		again := x.queue(x.crowd(turn))
		overtaken := min(first.Overtaken, again.Overtaken)
		if again.Waited < first.Waited {
			x.m.Crowd = again
		}
		x.m.Crowd.Overtaken = overtaken
	}
	x.m.Crowd.Left = left
	return list
}

// crowd sends calls that come in order and are given so long, and one of another caller beside them.
func (x *drilling) crowd(turn time.Duration) []check.Report {
	many := max(x.q.Queue, 1) + beyondQueue
	between := min(apartBy, x.patience()/time.Duration(2*many))
	calls := make([]check.Call, many, many+1)
	for i := range calls {
		c := x.what
		c.Apart, c.After = true, time.Duration(i)*between
		c.Within = turn - c.After
		calls[i] = c
	}
	if other, ok := x.another(); ok {
		other.After = max(x.patience()/6, time.Duration(many)*between) // until they wait
		other.Within = max(x.patience(), turn) - other.After
		calls = append(calls, other)
	}
	list := x.send(calls...)
	if len(list) > many {
		x.sawAnother(list[many])
		list = list[:many]
	}
	answered, shut := 0, 0
	for _, r := range list {
		if r.Fate == check.Answered {
			answered++
			if r.Exchange.Status == 503 {
				shut++
			}
		}
	}
	x.shut503 = x.shut503 || shut == answered && shut > 1
	return list
}

// queue reads what calls showed that were sent together.
func (x *drilling) queue(list []check.Report) *quota.Crowd {
	q := &quota.Crowd{Sent: len(list)}
	pulse := x.Look(check.Look{Name: "the sender", Sender: true}).Pulse
	late := quota.Span(quota.Slow(x.drill.Calls))
	var admitted []check.Report // after they had waited
	for _, r := range list {
		long := r.End-r.Begin > late
		if r.Fate == check.Answered && x.refused(r) && x.m.Status == 0 {
			x.refusedWith(r)
		}
		switch {
		case pulse.Broke(r.Begin, r.End): // it was us, or may have been
			q.Stood++
		case r.Fate == check.Late: // it waited until nobody waited for it any more
			q.Late, q.Waited = q.Late+1, q.Waited+1
		case r.Fate != check.Answered:
		case x.refused(r) && long: // it waited in vain, or the service was busy
			q.Waited, q.Vain = q.Waited+1, q.Vain+1
		case x.refused(r):
			q.Refused++
		case long && !x.failed(r):
			q.Waited++
			admitted = append(admitted, r)
		}
	}
	slices.SortFunc(admitted, func(a, b check.Report) int { return cmp.Compare(a.Begin, b.Begin) })
	for i, a := range admitted {
		for _, b := range admitted[i+1:] {
			if a.End > b.End+clearly {
				q.Overtaken++
			}
		}
	}
	return q
}

// queue holds how many calls waited at the same time, and in which order they were answered, against
// what is declared. That they waited for their turn is concluded from how long they took, beside
// those before that took none.
func (j *judging) queue() {
	m, q := j.m.Crowd, j.Quota
	if m == nil || q.Queue == 0 {
		return
	}
	most := ""
	switch {
	case m.Late > 0 && m.Late == m.Waited:
		most = ", each for longer than the drill waits"
	case m.Late > 0:
		most = fmt.Sprintf(", %d of them for longer than the drill waits", m.Late)
	}
	switch {
	case m.Sure() > q.Queue:
		j.gap(longer, j.speaks(), "%d of %d calls that were sent together waited for their turn%s; %s lets %d wait, "+
			"and the next is to be refused at once.", m.Waited, m.Sent, most, q.Name, q.Queue)
	case m.Waited+m.Stood+m.Left < q.Queue && m.Refused >= beyondQueue:
		j.gap(shorter, j.speaks(), "%d of %d calls that were sent together were refused at once, and %d waited for "+
			"their turn; %s lets %d wait.", m.Refused, m.Sent, m.Waited+m.Left, q.Name, q.Queue)
	}
	if m.Overtaken > 0 {
		j.gap(overtaken, j.speaks(), "Of calls that waited for their turn, %d were answered after one that had come "+
			"later, and when that was tried again too; who waits longest is to be first.", m.Overtaken)
	}
}

var queueRows = []*finding.Row{
	limited(longer, finding.Unthrottled, "More calls wait than declared",
		"Calls that wait hold connections and memory: who sends many takes them from everybody.",
		"Bound how many may wait, and refuse the next at once."),
	limited(shorter, finding.OverRestrictive, "Fewer calls wait than declared",
		"Callers are refused who were promised a place in the queue.",
		"Let as many wait as declared; or declare as many as may."),
	limited(overtaken, finding.OverRestrictive, "Who waits longest is not answered first",
		"While others come, one who waits may wait without end.",
		"Let those who wait go in the order in which they came."),
}
