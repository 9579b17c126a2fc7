package quota

import (
	"slices"
)

// wait tells calls that waited for their turn from those that were answered at
// once.
type wait struct {
	usual int64 // ticks that an answer takes by itself
	from  int64 // an answer that takes longer has waited
}

// waitFloor is the least time that an answer must take to count as a wait, where
// nothing else is known: a loaded machine makes some answers slow.
const waitFloor = 80_000

// leastWait is the same where calls after a pause have shown how long an answer
// takes by itself, and all the others take longer.
const leastWait = 8_000

// waitsOf: their answers take far longer than others. Where nearly all wait,
// those that came after a pause tell; where some of those take as long, nothing
// waits, and the service is slow now and then. A slow first answer is no wait.
func waitsOf(calls []Seen) wait {
	var all, idle []int64
	refused := false
	for i, c := range calls {
		refused = refused || !c.OK && c.Batch == 0
		switch {
		case c.Idle && c.OK:
			idle = append(idle, c.Took)
		case i > 0 && c.Batch == 0 && c.OK:
			all = append(all, c.Took)
		}
	}
	if len(all) == 0 {
		return wait{0, never}
	}
	usual := median(all)
	if !refused { // then most may have waited
		slices.Sort(all)
		usual = all[len(all)/10]
	}
	w := wait{usual, 5*usual + waitFloor}
	if len(idle) >= 3 {
		mid := median(all)
		if by := median(idle); mid > by*5/2 && mid > by+leastWait {
			w = wait{by, by + max(leastWait, (mid-by)/2)}
		}
	}
	slow := 0
	for _, took := range idle {
		if took > w.from {
			slow++
		}
	}
	if slow > 2 || w.refuses(calls) { // one or two are the machine
		w.from = never
	}
	return w
}

// refuses says whether a call by itself was refused at once: then none waits, and what is slow
// is slow by itself. One that is refused after it waited gave up.
func (w wait) refuses(calls []Seen) bool {
	return slices.ContainsFunc(alone(calls), func(c Seen) bool { return !c.OK && c.Took <= w.from })
}

// Slow is from which time on an answer is out of the common, whether or not calls wait.
func Slow(calls []Seen) int64 {
	var all []int64
	for _, c := range alone(calls) {
		all = append(all, c.Took)
	}
	if len(all) == 0 {
		return never
	}
	return 5*median(all) + waitFloor
}

// stands says whether late answers stand out of the base line in the way that a queue makes
// them. Behind a queue that lets calls through one by one, who comes right after one that
// waited waits as well. Where they are late now and then, as at the end of each window, calls
// that come rarely must have been answered at once, so many of them that a service which is
// slow as often would have shown.
func (w wait) stands(calls []Seen) bool {
	waited, behind, busy, idle := 0, 0, 0, 0
	list := alone(calls)
	for i, c := range list {
		late := w.waited(i, c)
		switch {
		case c.Idle && late:
			return false
		case c.Idle:
			idle++
		default:
			busy++
			if late {
				if waited++; w.waited(i-1, list[i-1]) {
					behind++
				}
			}
		}
	}
	return waited == 0 || waited > 2 && behind*5 >= (waited-1)*3 || idle*waited >= rarely*busy
}

// rarely: of so many calls over the share of late ones none is late by chance in one of twenty
// cases.
const rarely = 3

func median(list []int64) int64 {
	s := slices.Clone(list)
	slices.Sort(s)
	return s[len(s)/2]
}

// waited says whether a call did.
func (w wait) waited(i int, c Seen) bool { return i > 0 && c.OK && c.Took > w.from }

// quick is how long a call takes at most that did not wait, of those sent at the
// same time.
func (w wait) quick() int64 { return w.usual + max(w.usual/2, leastWait) }

// began turns calls that waited into what a service without a queue would have
// said: refused when they came and right before they began, then admitted.
func began(calls []Seen) (out []Seen, waited bool) {
	w, each := waitsOf(calls), spacing(calls)
	for i, c := range calls {
		if !w.waited(i, c) {
			out = append(out, c)
			continue
		}
		waited = true
		if c.Gap { // it began at some time before its answer was seen
			out = append(out, c)
			continue
		}
		at := c.At + c.Took - w.usual
		// The one after may have come too late itself to wait.
		if i+1 < len(calls) && w.waited(i-1, calls[i-1]) && calls[i+1].OK {
			at = onTime(calls[i-1].At+calls[i-1].Took-w.usual, at, calls[i+1].At+calls[i+1].Took-w.usual, each)
		}
		// As if it had been asked meanwhile: often where few calls waited for long.
		asked := int64(2)
		if at-c.At >= longWait {
			asked = 8
		}
		for k := range asked {
			out = append(out, Seen{At: c.At + max(0, at-stillShut-c.At)*k/(asked-1)})
		}
		out = append(out, Seen{At: at, Took: w.usual, OK: true})
	}
	return out, waited
}

// onTime is when a call began that waited between two others. Its answer may have come
// late: where the one before and the one after are two turns apart, it began between
// them, however late that was seen.
func onTime(before, at, after, each int64) int64 {
	off := max(noise, each/8)
	if each > 0 && at-before > each+off && abs(after-before-2*each) <= off {
		return before + each
	}
	return at
}

// spacing is the usual time between the beginnings of calls that waited, one
// right after the other; 0 where there are none.
func spacing(calls []Seen) int64 {
	list := gapsOf(calls)
	if len(list) < 3 {
		return 0
	}
	return median(list)
}

// gapsOf are the times between the beginnings of calls that waited, one right after the
// other.
func gapsOf(calls []Seen) (out []int64) {
	w := waitsOf(calls)
	for i := 1; i < len(calls); i++ {
		if w.waited(i, calls[i]) && w.waited(i-1, calls[i-1]) {
			out = append(out, calls[i].At+calls[i].Took-calls[i-1].At-calls[i-1].Took)
		}
	}
	return out
}

// scatter is how far three of four of the times are from each by which calls that waited
// began one after the other: so far a machine makes answers late.
func scatter(calls []Seen, each int64) int64 {
	list := gapsOf(calls)
	for i, gap := range list {
		list[i] = abs(gap - each)
	}
	slices.Sort(list)
	return list[len(list)*3/4]
}

// stillShut is how long before a call began it had certainly not its turn yet;
// noise comes on top.
const stillShut = 2_000
