package wire

import (
	"sync"
	"time"

	"millgate/core/check"
)

// Pulse beats while a drill runs, and remembers when it stood still.
type Pulse struct {
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

// StartPulse begins to beat, until End.
func StartPulse() *Pulse {
	p := &Pulse{stop: make(chan struct{}), done: make(chan struct{})}
	go p.run()
	return p
}

func (p *Pulse) run() {
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

// End ends it.
func (p *Pulse) End() {
	close(p.stop)
	<-p.done
}

// Since is how it fared since an instant. A gap is known when it is over, so that it is
// asked once what was measured has ended.
func (p *Pulse) Since(began time.Time) *check.Pulse {
	out := &check.Pulse{Beat: beat}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, g := range p.gaps {
		out.Still = append(out.Still, [2]time.Duration{g[0].Sub(began), g[1].Sub(began)})
	}
	return out
}
