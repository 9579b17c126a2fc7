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

// GivenLink is the end of a link that was given out.
type GivenLink struct {
	Ends time.Time `json:"ends"` // zero where it cannot be read
	Said string    `json:"said"` // as it stands in the link
}

// Call is the login that gives it, as people would send it; nil where there is none.
func (l Look) Call(c *Context) *Call {
	s := c.Doc.SchemeNamed(l.Caller.Scheme)
	if s == nil || s.Login == nil {
		return nil
	}
	return &Call{Name: l.Name, Request: Template(s.Login, FillsOf(c.Doc, c.Target, l.Caller.Identity, s.Name))}
}
