package quotas

import (
	"time"

	"millgate/core/check"
)

const (
	fillTime   = time.Minute
	startTries = 10 // while the service is still starting
	startWait  = 500 * time.Millisecond
)

// Fill calls until the quota of a probe refuses, and tries nothing else. Its Measured has the
// calls.
func Fill(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		x := begin(c, p, t)
		if x == nil {
			return
		}
		t.Measured(x.m)
		x.ends = fillTime
		x.m.Waits = true // no call is given up before that
		for range 4*x.stack.Moment() + 10 {
			if ok, err := x.plain(); err != nil || !ok {
				break
			}
		}
		x.m.Calls = x.drill.Calls
		t.Keep(x.last)
	})
}

// OneMore sends one call more, once the service answers.
func OneMore(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		x := begin(c, p, t)
		if x == nil {
			return
		}
		r := x.send(x.what)[0]
		for n := 0; n < startTries && r.Fate == check.Lost; n++ {
			t.Wait(startWait)
			r = x.send(x.what)[0]
		}
		t.Keep(r)
	})
}
