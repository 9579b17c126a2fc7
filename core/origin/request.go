package origin

import (
	"slices"
	"time"

	"millgate/core/field"
)

// Credentials says whether cookies go with a request (section 2.2.5).
type Credentials string

const (
	Omit       Credentials = "omit"
	SameOrigin Credentials = "same-origin" // what fetch() does when nothing is said
	Include    Credentials = "include"
)

// Mode of a request (section 2.2.5).
type Mode string

const (
	CORS           Mode = "" // the default of fetch()
	NoCORS         Mode = "no-cors"
	SameOriginOnly Mode = "same-origin" // refused where the address is another origin's
)

// CacheMode says how a browser's HTTP cache takes part (section 2.2.5, cache mode); "" is the
// default of fetch(). It decides what may be asked for at all; what a cache holds is not looked at.
type CacheMode string

const (
	NoStore      CacheMode = "no-store"
	Reload       CacheMode = "reload"
	NoCache      CacheMode = "no-cache"
	OnlyIfCached CacheMode = "only-if-cached" // for requests to the page's own origin alone
)

// Redirect mode of a request.
type Redirect string

const (
	Follow       Redirect = "" // the default of fetch()
	RefuseAll    Redirect = "error"
	ManualFollow Redirect = "manual"
)

// Null is the origin of a sandboxed frame, and of a request that a redirect
// carried across origins (section 2.2.5, serializing a request origin).
const Null = "null"

// Request is what a script of a page asks for with fetch(). The zero value is
// refused: it has no URL.
type Request struct {
	Page        string      // the page's origin as a browser serialises it, or Null
	Method      string      // as the script writes it; "" is GET
	URL         string      // as the script writes it; a relative one is of the page's origin
	Headers     field.List  // as the script sets them: text, of which it can send what is Latin-1
	Body        bool        // whether there is one
	Credentials Credentials // "" is SameOrigin
	Mode        Mode
	Redirect    Redirect
	Cache       CacheMode
	Public      bool // the page came from the public network
}

// Sent is one request that the browser sends.
type Sent struct {
	Method    string
	URL       string
	Preflight bool
	Origin    string     // the Origin header, "" when none is sent
	Headers   field.List // those of the script, and of the protocol
	AsUser    bool       // the user's cookies go with it
}

// Answer is the head of what a service answered.
type Answer struct {
	Status  int
	Headers field.List
}

// Ask gives the answer to a request that the browser sends; ok is false when
// there is none to look at.
type Ask func(Sent) (a Answer, ok bool)

// Step is one decision of the browser, in the order it takes them.
type Step struct {
	Name    string `json:"name"`
	Text    string `json:"text"`
	Header  string `json:"header,omitempty"` // the header field that decided, "" without
	Failed  bool   `json:"failed"`
	Section string `json:"section"` // of the Fetch standard
}

// Outcome is what comes of a request.
type Outcome struct {
	Resolved   bool          // the script has its answer
	Opaque     bool          // and cannot read anything of it
	Status     int           // as the script sees it
	Readable   []string      // names of the header fields that the script can read, sorted
	Sent       []Sent        // what went out, preflights among it
	Steps      []Step        // every decision; a failed one is the last
	Unknown    bool          // an answer was missing, so nothing is known from there on
	CachedFor  time.Duration // how long the browser remembers the last preflight; 0 without
	Preflights int
}

// Blocked is the step that stopped the request, nil when nothing did.
func (o *Outcome) Blocked() *Step {
	if n := len(o.Steps); n > 0 && o.Steps[n-1].Failed {
		return &o.Steps[n-1]
	}
	return nil
}

// Executed says whether the request itself went out, so that the service
// carried it out, whatever the page may read.
func (o *Outcome) Executed() bool {
	return slices.ContainsFunc(o.Sent, func(s Sent) bool { return !s.Preflight })
}
