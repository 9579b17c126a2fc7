// Package declaration is the language in which an engineer says what should
// be: who may call which route, with what, and how a refusal looks.
//
// The text is YAML 1.2, in a version of the language that each file says at its top
// ("millgate: 1.1"). Parse reads it with positions, reports everything that is wrong with it at once, and
// returns a Document whose meaning is settled: every route of the inventory
// has its deciding access entry, or none and is closed.
//
// Rules:
//
//   - Order never decides. Where several entries match a route, the one whose
//     selector is contained in all the others wins. Where there is no such
//     entry and the candidates say different things, that is an error.
//   - Closed by default. A route without an entry is for nobody.
//   - The winning entry speaks alone; what it leaves out takes its default.
//   - Nothing secret in the text: secrets are env:NAME, kept:NAME or file:PATH.
//
// The package knows no file system: files named in the text come in through
// an Importer.
package declaration

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"millgate/core/field"
	"millgate/core/pointer"
	"millgate/core/route"
)

// Place is where something stands; lines and columns count from 1.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Place) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Level of a message.
type Level string

const (
	Error   Level = "error"   // the declaration has no meaning until it is mended
	Warning Level = "warning" // it has one, but look here
)

// Message is one thing to say about the text.
type Message struct {
	Place
	EndColumn int    `json:"endColumn"` // first column behind the word, on the same line
	Level     Level  `json:"level"`
	Code      string `json:"code"`              // stable, for example "unknown-word"
	Text      string `json:"text"`              // what is wrong
	Hint      string `json:"hint"`              // what to do
	Suggest   string `json:"suggest,omitempty"` // the known word that is nearest to the one that stands here
}

func (m Message) String() string {
	s := fmt.Sprintf("%s: %s: %s", m.Place, m.Level, m.Text)
	if m.Hint != "" {
		s += "; " + m.Hint
	}
	return s
}

// Ref is a name used somewhere, with the place of its use.
type Ref struct {
	Name string
	Place
}

// Effect is what a route does.
type Effect string

const (
	Read    Effect = "read"
	Create  Effect = "create"
	Update  Effect = "update"
	Delete  Effect = "delete"
	Command Effect = "command"
)

// Sensitivity of a route: low, medium or high.
type Sensitivity string

const (
	Low    Sensitivity = "low"
	Medium Sensitivity = "medium"
	High   Sensitivity = "high"
)

// Sample is what to send to a route so that an admitted caller is admitted.
type Sample struct {
	As      Ref               `json:"as,omitzero"` // the identity whose values fill {placeholders}
	Path    map[string]string `json:"path,omitempty"`
	Query   map[string]string `json:"query,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	JSON    json.RawMessage   `json:"json,omitempty"`
	Form    map[string]string `json:"form,omitempty"`
	Parts   Parts             `json:"multipart,omitempty"`
	Text    string            `json:"text,omitempty"`
	Type    string            `json:"type,omitempty"` // content type of Text
	// Imported: its body comes from a description of the API, not from the declaration.
	Imported bool `json:"-"`
}

// HasBody says whether something is sent after the header.
func (s *Sample) HasBody() bool {
	return len(s.JSON) > 0 || len(s.Form) > 0 || len(s.Parts) > 0 || s.Text != ""
}

// DropBody takes away what is sent after the header.
func (s *Sample) DropBody() { s.JSON, s.Form, s.Parts, s.Text, s.Type = nil, nil, nil, "", "" }

// Shape is what a response schema lists, as far as leaking fields are
// concerned.
type Shape struct {
	Fields map[string]*Shape `json:"fields,omitempty"`
	Items  *Shape            `json:"items,omitempty"`
	Closed bool              `json:"closed,omitempty"` // additionalProperties: false
	Open   bool              `json:"open,omitempty"`   // nothing is known: any value
}

// Route is one route of the inventory.
type Route struct {
	route.Selector
	Place
	Effect      Effect
	Sensitivity Sensitivity
	Summary     string
	Group       string // what it belongs to, in words; "" goes by its path
	Owner       string // who mends it, in words
	Send        Sample
	Then        []*FollowUp
	Changes     map[string]any // what its admission does to attributes of the caller; nil where nothing
	Answers     map[int]*Shape // by status; 0 is "default"
	From        string         // the file it was imported from; "" when written by hand
	Requires    *Required      // as that file says; nil where it says nothing

	key string // of its selector, once it is settled
}

// FollowUp is a request that shows whether an admitted answer had its effect.
type FollowUp struct {
	Request
	As     Ref                     // the identity that sends it; none is nobody
	With   map[string]pointer.JSON // name → into the admitted answer; fills {name}
	Status int                     // what it must be answered with; 0 is any 2xx
	Has    []pointer.JSON          // must be there
	Lacks  []pointer.JSON          // must not
}

// Key names a route: "GET /v1/proposals/{id}".
func (r *Route) Key() string {
	if r.key == "" {
		return r.Selector.String()
	}
	return r.key
}

// Unsafe says whether the method is unsafe (RFC 9110 section 9.2.1).
func (r *Route) Unsafe() bool { return UnsafeMethod(r.Method()) }

// UnsafeMethod says whether a method is unsafe (RFC 9110 section 9.2.1).
func UnsafeMethod(m string) bool {
	return m != "GET" && m != "HEAD" && m != "OPTIONS" && m != "TRACE"
}

// Role has all that the roles it includes have.
type Role struct {
	Name string
	Place
	Includes []Ref
}

// Request is a request written in the text, with {placeholders}.
type Request struct {
	Place
	Method  string
	Host    string
	Path    string
	JSON    json.RawMessage
	Form    [][2]string
	Headers field.List
	Take    map[string]pointer.JSON // name → into the answer
}

// Kind of a scheme.
type Kind string

const (
	Bearer    Kind = "bearer"
	APIKey    Kind = "api-key"
	Cookie    Kind = "cookie"
	Basic     Kind = "basic"
	Signature Kind = "signature"
	Link      Kind = "link"
)

// Scheme is a way to prove who is calling.
type Scheme struct {
	Name string
	Place
	Kind       Kind
	Token      string // jwt or opaque, for bearer
	Issuer     string
	Audience   string
	Algorithms []string // nil where nothing is said; an empty list means none
	Challenge  string   // the auth-scheme that a 401 names (RFC 9110, section 11.6.1); "" where nothing is said
	Refuses    int      // with what status it turns away who presents none, or a broken one; 0 is 401
	Typ        string   // what the header says it is (RFC 7515 section 4.1.9); "" is any of an access token
	Requires   []string // claims that must be there
	Keys       Keys
	SigningKey Value                   // what test tokens are signed with, where the target is a test environment
	Claims     map[string]pointer.JSON // what → into the claims
	In         string                  // header, query or cookie, for api-key
	Field      string                  // the header, query parameter or cookie
	Lifetime   map[string]Ref          // access, refresh
	Login      *Request
	Refresh    *Request
	Logout     *Request
	EndsAll    bool             // a logout ends all sessions of its caller
	Cookie     CookieAttributes // for cookie
	Signing    Signing          // for signature
	Expires    string           // for link: the query parameter with the end (RFC 3339 or Unix seconds)
	Issue      *Request         // for link: what gives one out
	Arrives    *Arrival         // for link: where it arrives; nil where the answer of Issue has it
	Once       bool             // for link: the second use must fail
	TestsOnly  *TestsOnly       // what only the machine of a developer may issue; nil where nothing is said
	Account    *SignUp          // how an account comes to be; nil where nothing is said
	// For link: one that worked once and has expired, as it was mailed.
	ExpiredLink Value
	// For bearer: asks the issuer about a token (RFC 7662), with {token}; sent
	// with the values of IntrospectAs.
	Introspect   *Request
	IntrospectAs Ref
}

// TestsOnly is how tokens differ that only the machines of developers may issue. What is zero
// is as elsewhere.
type TestsOnly struct {
	Issuer, KeyID string
	SigningKey    Value
}

// Keys say where the keys are that tokens are verified with; one of them.
type Keys struct {
	JWKS   string // a path at a host of the target, "id:/.well-known/jwks.json"
	File   string // a JWK set (RFC 7517) or PEM beside the declaration
	Secret Value  // for HMAC algorithms
}

// CookieAttributes of a session cookie (RFC 6265 section 4.1.2).
type CookieAttributes struct {
	Path     string
	HTTPOnly bool
	Secure   bool
	SameSite string // strict, lax or none
}

// Signing says how a request is signed.
type Signing struct {
	Algorithm string        // hmac-sha256, hmac-sha512
	Encoding  string        // of the signature: hex or base64
	Prefix    string        // stands before the signature in its header
	Timestamp string        // the header with the time in Unix seconds; "" without
	Covers    string        // what is signed, with {timestamp}, {method}, {path}, {query} and {body}
	Tolerance time.Duration // how far the timestamp may be off
}

// SameLock says whether a service cannot tell the two schemes apart before it
// looks at what the credential says: both are bearer tokens of one issuer for
// one audience, or both are the same field.
func (s *Scheme) SameLock(o *Scheme) bool {
	if s == o {
		return true
	}
	if s.Kind != o.Kind {
		return false
	}
	switch s.Kind {
	case Bearer:
		return s.Token == o.Token && s.Issuer == o.Issuer && s.Audience == o.Audience
	case APIKey:
		return s.In == o.In && s.Field == o.Field
	case Cookie, Signature:
		return s.Field == o.Field
	case Link:
		return s.Field == o.Field && s.Expires == o.Expires
	default:
	}
	return true // basic has one place
}

// Lifetime is a declared bound on a credential's life.
type Lifetime struct {
	Name string
	Place
	Max, Skew, Idle, EndedWithin time.Duration
	EndedSaid                    bool // ended_within is in the text
	Rotates                      bool
	Reuse                        string
}

// Value is a literal or a reference to a secret.
type Value struct {
	Place
	Literal string
	Env     string // env:NAME
	Kept    string // kept:NAME
	File    string // file:PATH, of what is mounted where Mill Gate runs
}

// Secret says whether the value must never be shown.
func (v Value) Secret() bool { return v.Env != "" || v.Kept != "" || v.File != "" }

// Text is the value as it is written: a reference, or what stands there.
func (v Value) Text() string {
	switch {
	case v.Env != "":
		return "env:" + v.Env
	case v.Kept != "":
		return "kept:" + v.Kept
	case v.File != "":
		return "file:" + v.File
	}
	return v.Literal
}

// Credential is a scheme and what it is filled with.
type Credential struct {
	Scheme Ref
	Fill   map[string]Value
}

// Secret says whether the part of a name is a secret: a reference, or by its name.
func (c Credential) Secret(part string) bool {
	return c.Fill[part].Secret() || part == "password" || part == "client_secret"
}

// Identity is a caller that the service knows.
type Identity struct {
	Name string
	Place
	Roles       []Ref
	Scopes      []string
	Attributes  map[string]any // string, bool, int64 or float64
	Credentials []Credential
	Within      []Within // the records of other kinds that it stands in: its team
}

// Credential is what it holds of a scheme, nil without.
func (id *Identity) Credential(scheme string) *Credential {
	for i := range id.Credentials {
		if id.Credentials[i].Scheme.Name == scheme {
			return &id.Credentials[i]
		}
	}
	return nil
}

// Record is a kind of thing behind a path parameter, with its owners.
type Record struct {
	Name string
	Place
	Fills   []route.Selector // templates whose last parameter it fills
	Param   string           // or: a parameter name, everywhere
	OwnedBy map[string][]string
	Owners  []Ref // keys of OwnedBy, in the order written
	Within  []Within
	Groups  []Group
	Listed  []*List
	Make    *Request
	ID      pointer.JSON // the made record's id, in the answer
	Remove  *Request
	// RemoveAs is who removes it; its owner where nothing is said.
	RemoveAs Ref
}

// WhoKind is what one word of `who` stands for.
type WhoKind uint8

const (
	WhoNobody WhoKind = iota // the zero Who admits nobody
	WhoAnyone
	WhoSignedIn
	WhoRole
	WhoIdentity
	WhoUndecided // nobody has decided yet
)

// undecided is its word.
const undecided = "undecided"

// Who is one alternative of `who`: a caller, and on which records. `owner` is short for whoever is signed in, on its
// own.
type Who struct {
	Kind WhoKind
	Ref
	On On
}

// Broken says what a broken credential does on an open route.
type Broken string

const (
	BrokenEither  Broken = "either"
	BrokenIgnored Broken = "ignored"
	BrokenRefused Broken = "refused"
)

// Undecided says that nobody has decided yet who may call: nothing is expected, and nothing is checked.
func (e *Entry) Undecided() bool { return e != nil && e.is(WhoUndecided) }

// Entry is one access entry. The zero Entry admits nobody.
type Entry struct {
	Place
	At      []route.Selector
	Who     []Who
	Broken  Broken
	Hide    bool
	Turned  TurnedAway
	Given   map[string]any
	Scope   []string
	By      []Ref
	OwnerOf Ref // the record that `owner` and `on` are about

	of *Entry // that this one is made of, at a list (Admission)
}

// Refusal is how to know an answer that says no with another status.
type Refusal struct {
	Place
	At     []route.Selector // of routes; none is everywhere, also where the inventory has no route
	Status int
	Has    pointer.JSON  // must be there; "" where Equals says it all
	Equals []EqualMember // and are that text
	Is     string        // what such an answer is, one of RefusalWords
	routes map[string]bool
}

// RefusalWords are what an answer that says no with another status can be.
var RefusalWords = []string{"refused", "forbidden", "hidden", "invalid"}

// Serves says whether it is meant for the answers of a route, by its key; "" is none of the inventory.
func (f *Refusal) Serves(route string) bool { return len(f.At) == 0 || f.routes[route] }

// ByRoute says whether what an answer is depends on the route.
func (a *Answers) ByRoute() bool {
	return slices.ContainsFunc(a.RefusedWhen, func(f Refusal) bool { return len(f.At) > 0 })
}

// AnswerRule is what an answer must look like.
type AnswerRule struct {
	Place
	Type    string
	Headers []string
	Has     []pointer.JSON // must be there
	Equals  []EqualMember  // and are that text
}

// EqualMember is a member of an answer and the text that it must be.
type EqualMember struct {
	At   pointer.JSON
	Text string // of a string, a number or a boolean
}

// NeverMember is a member that no answer may show.
type NeverMember struct {
	Place
	At     pointer.Pattern
	Type   string // of its value, as JSON calls it; "" is any but null
	Status string // of the answers: "404", "4xx"; "" is any
}

// Protection is what the answers of a service must protect whoever reads them from.
type Protection string

// The protections.
const (
	Frames    Protection = "frames"    // being shown within any other page
	Sniffing  Protection = "sniffing"  // being taken for another type than they say
	Caching   Protection = "caching"   // being kept and given to others, where they have somebody's data
	Referrer  Protection = "referrer"  // handing on their own address, where a credential stands in it
	Transport Protection = "transport" // being asked for over plain http next time
	Resources Protection = "resources" // being loaded by any page with the user's cookies
)

// Protections are all of them, in the order in which they are said.
var Protections = []Protection{Frames, Sniffing, Caching, Referrer, Transport, Resources}

// Answers is the declared shape of refusals and of what must never be shown.
type Answers struct {
	Status      map[int]AnswerRule
	Errors      AnswerRule // every other 4xx and 5xx
	All         AnswerRule // every answer, beside what its status asks for
	NeverFields []string
	NeverText   []string
	Never       []NeverMember
	Schema      string // "", "exact" or "listed"
	LoginPage   string // glob for the Location of a login page
	Protects    []Protection
	RefusedWhen []Refusal // the first that an answer is like counts
}

// Permission is what pages of one origin may do.
type Permission struct {
	Place
	Origin      string // serialised (RFC 6454 section 6.2), "any" or "null"
	Methods     []string
	Headers     []string // lower case
	Expose      []string // lower case
	Credentials bool
	MaxAge      time.Duration
}

// OriginEntry says which pages may call. The zero OriginEntry permits none.
type OriginEntry struct {
	Place
	At    []route.Selector
	Allow []Permission
}

// Waiver accepts what a check of the review, or a finding, says. One of Check, Finding and Kind is given.
type Waiver struct {
	Place
	Check   string           // the check's id
	Finding string           // the finding's id
	Kind    string           // or findings of a kind, by its letter or name
	At      []route.Selector // the routes it is about
	Of      []string         // or names, of a check: a role, a scheme, a quota, an origin
	Callers []string         // of a finding: identities, roles, nobody; all where none is named
	Reason  string
	By      string    // who accepted it
	Until   time.Time // its last day
}

// Ended says whether the waiver's last day is over.
func (w *Waiver) Ended(now time.Time) bool { return !now.Before(w.Until.AddDate(0, 0, 1)) }

// Accepts is what it accepts, in words.
func (w *Waiver) Accepts() string {
	switch {
	case w.Check != "":
		return w.Check
	case w.Finding != "":
		return "finding " + w.Finding
	}
	return "findings of kind " + w.Kind
}
