package check

import (
	"time"

	"millgate/core/session"
	"millgate/core/token"
)

// Look asks for what a caller is given: by the login that it has behind it, or begins for
// this. Of a link, Params are what it is asked for with.
type Look struct {
	Name   string
	Caller Caller
	Params map[string]string
	// Sender asks, in place of that, how what sends the calls fares. It is watched from the
	// first such look on; Host is the host of the target to which a round trip is measured.
	Sender bool
	Host   string
}

// Pulse is how what sends the calls fared since it is watched. It beats, and where a beat
// comes late it stood still: the processor was taken away. How long an answer took is not
// what the service took then.
type Pulse struct {
	Trip  time.Duration      // of a round trip to the host; 0 where it could not be measured
	Beat  time.Duration      // between its beats
	Still [][2]time.Duration // from when to when, since the script began
}

// Broke says whether it stood still when a call left or when its answer came: the time
// between may be long, as long as both ends are exact. A nil Pulse never stood.
func (p *Pulse) Broke(left, came time.Duration) bool {
	if p == nil {
		return false
	}
	for _, g := range p.Still {
		for _, at := range []time.Duration{left, came} {
			if at >= g[0] && at < g[1]+p.Beat {
				return true
			}
		}
	}
	return false
}

// During says whether it stood still between two times.
func (p *Pulse) During(from, to time.Duration) bool {
	if p == nil {
		return false
	}
	for _, g := range p.Still {
		if g[0] < to && from < g[1] {
			return true
		}
	}
	return false
}

// Given is what was seen of what a login gave, without it: no judgement, so that another
// declaration judges it anew.
type Given struct {
	Fingerprint string          `json:"fingerprint,omitempty"` // of a token
	Kind        string          `json:"kind"`
	Algorithm   string          `json:"algorithm,omitempty"`
	At          time.Time       `json:"at"`
	Shown       *token.Shown    `json:"shown,omitempty"`
	Cookie      *session.Cookie `json:"cookie,omitempty"`
	Link        *GivenLink      `json:"link,omitempty"`
	// Judged is all that versions before kept.
	Judged []session.Judged `json:"judged,omitempty"`
}

// GivenLink is a link that was given out, without what signs it.
type GivenLink struct {
	Ends time.Time `json:"ends"` // zero where it cannot be read
	Said string    `json:"said"` // as it stands in the link
	Path string    `json:"path,omitempty"`
}

// Call is the login that gives it, as people would send it; nil where there is none.
func (l Look) Call(c *Context) *Call {
	s := c.Doc.SchemeNamed(l.Caller.Scheme)
	if s == nil || s.Login == nil {
		return nil
	}
	return &Call{Name: l.Name, Request: Template(s.Login, FillsOf(c.Doc, c.Target, l.Caller.Identity, s.Name))}
}
