package app

import (
	"sync"
	"time"
)

// pulse beats while a drill runs, and remembers when it stood still: where the
// processor was taken away, how long an answer took is not what the service took.
type pulse struct {
	mu   sync.Mutex
	gaps [][2]time.Time
	stop chan struct{}
	done chan struct{}
}

const (
	beat = 5 * time.Millisecond
	// stoodStill is how much later than due a beat must come. Limiters are told from
	// each other as if calls were known to 8 ms, so that it must be less.
	stoodStill = 6 * time.Millisecond
)

func newPulse() *pulse {
	p := &pulse{stop: make(chan struct{}), done: make(chan struct{})}
	go p.run()
	return p
}

func (p *pulse) run() {
	defer close(p.done)
	t := time.NewTimer(beat)
	defer t.Stop()
	for {
		from := time.Now()
		t.Reset(beat)
		select {
		case <-p.stop:
			return
		case <-t.C:
		}
		if now := time.Now(); now.Sub(from) > beat+stoodStill {
			p.mu.Lock()
			p.gaps = append(p.gaps, [2]time.Time{from, now})
			p.mu.Unlock()
		}
	}
}

func (p *pulse) end() {
	close(p.stop)
	<-p.done
}

// broke says whether it stood still when a call was sent or when its answer came: the
// time between may be long, as long as both ends are exact. A gap is known when it
// is over, so that it is asked once the drill has ended.
func (p *pulse) broke(from, to time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, g := range p.gaps {
		for _, at := range []time.Time{from, to} {
			if !at.Before(g[0]) && at.Before(g[1].Add(beat)) {
				return true
			}
		}
	}
	return false
}

// during says whether it stood still between two instants.
func (p *pulse) during(from, to time.Time) bool {
	if p == nil { // nothing is measured
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, g := range p.gaps {
		if g[0].Before(to) && from.Before(g[1]) {
			return true
		}
	}
	return false
}
