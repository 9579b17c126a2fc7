// Package check says what a family of checks is: the unit in which Mill Gate grows.
//
// A family plans probes. A probe's Script says what to send next, from what was reported
// of what was sent before; what sends it (package wire) knows no family. The Fact that
// stays holds what was seen and no judgement, so that it can be judged again, against
// another declaration, at any time.
//
//	family.Script → Step → sent and masked → Report → Script … → Fact → family.Judge → Verdict
//
// Nothing here sends, waits, reads a clock or holds a secret. Times count from the
// beginning of a script. A secret is the name of a slot: a Call says what of an answer
// goes into one (Take) and where a slot stands in a later request (Fill, Present); a
// Report has the mark of what was taken, and equal marks are equal secrets.
//
// # Writing a script
//
// A script is easiest read from top to bottom. Tell makes one of a function:
//
//	check.Tell(func(t *check.Telling) {
//		in := t.One(check.Call{Name: "log in", Request: login, Take: []check.Take{{Slot: "access", At: "/t"}}})
//		if in.Took["access"] == "" {
//			return
//		}
//		as := []check.Present{{Slot: "access", Caller: check.Caller{Scheme: "s"}}}
//		t.One(check.Call{Name: "use", Request: use, As: as})
//	})
//
// # Being careful
//
// The zero values of a Call are the careful ones: it is unsafe, is on disk before it is
// sent, is not sent again, and bears no credential.
package check

import (
	"time"

	"millgate/core/access"
	"millgate/core/field"
)

// Caller is who calls. Without an identity it is nobody, without a scheme it presents
// no credential.
type Caller struct {
	Identity, Scheme string
	State            access.State
}

// Script says what is next. The same times and reports give the same steps.
type Script interface {
	// Next is the step after what was reported of the last one.
	Next(now time.Duration, last []Report) Step
	// Data is what it measured, and the reports that the fact keeps. It is called once,
	// at the script's end or where it is given up.
	Data() (Data, []Report)
}

// Data is what a script measured: plain values, as JSON in the store.
type Data any

// Measuring is data that may have come to nothing, for reasons that are not the service's own. Then it
// does not stand in place of what was measured before.
type Measuring interface{ Whole() bool }

// Step is what is done next; one of its parts is set. The zero Step ends the script.
type Step struct {
	Send []Call        // at the same time; reported in this order
	Wait time.Duration // until then, since the script began
	Why  string        // of a Wait that people are to know of: "the drill of login found it full"
	Lend *Lend         // reported as its Make
	Look *Look         // reported with what was given
	Back *Back         // not reported
	Left *Left         // not reported
	Bury *Bury         // not reported
	// Recall is reported with what was taken, by slots.
	Recall *Recall
}

// Ends says whether a step ends its script.
func (s Step) Ends() bool {
	return len(s.Send) == 0 && s.Wait == 0 && s.Lend == nil && s.Look == nil && s.Back == nil && s.Left == nil &&
		s.Bury == nil && s.Recall == nil
}

// Lend asks for a throwaway record. What is lent under a Key is shared with the scripts
// that ask for it by the same, as long as it is as it was; "" is one of its own. It is
// removed at the end of the sweep, whatever becomes of the script.
type Lend struct {
	Key    string
	Record string // the name of its kind
	Owner  string // the identity that makes it
	Slot   string // takes its id, which Make takes
	Make   Call
}

// Back says that what was lent into a slot is not as it was: nobody else is lent it.
type Back struct {
	Slot string
	Gone bool // nothing is left to remove
}

// Left is something that was made and that nothing can remove.
type Left struct {
	What string // "account"
	Name string // its id, or:
	Made string // the word whose made-up text names it
	Why  string
}

// Bury hands over a credential that was ended, and refused since. It is kept, sealed, until it ends
// by itself, and can be recalled until then: also by a later sweep.
type Bury struct {
	Slot   string
	Caller Caller
}

// Recall asks for the credentials of a caller that were buried, the newest first. The slots that
// they are in are named by number behind Slot.
type Recall struct {
	Caller Caller
	Slot   string
}

// Call is one request.
type Call struct {
	Name    string // as people read it
	Request Request
	As      []Present // whose credentials it bears: none, one or two
	Take    []Take
	Must    bool // must be admitted: refused (401), its credential is renewed once, and it is sent again
	// Unsound is the status that is declared for a credential that does not hold; 0 is 401, or that of its
	// scheme.
	Unsound int
	Retry   bool // a 429 is waited out; else it is an answer like others
	Effect  Effect
	// Makes says what an admitted answer (2xx) made, where that is to be removed at the
	// sweep's end.
	Makes *Makes
	// Counts is the quota that it fills: it is sent without the target's pass, whatever it is
	// answered is an answer, and room is awaited in the other quotas alone. Where those have
	// none in time it is Unsent, and Crowded says why.
	Counts string
	// Apart is over a connection of its own: where several nodes stand behind one address, that may
	// lead to another of them.
	Apart bool
	// After is how long after the others of its step it begins. Within is how long its answer
	// may take once it left, 0 as long as any: what comes later is Late.
	After, Within time.Duration
	// Undo is owed once it was admitted, whatever becomes of the script: what is tried in
	// turn until one is answered 2xx, 404 or 410.
	Undo []Call
}

// Crowded is why a call that fills a quota is not sent where another quota has no room for it.
const Crowded = "another quota would refuse it"

// Makes is something that a call makes.
type Makes struct {
	Record string // the name of its kind; "" where it is no declared record
	Slot   string // takes its id
}

// Effect is how careful a call has to be sent.
type Effect int

// The effects. An Unsafe call, and one that Creates, is on disk before it is sent and is
// sent again only after a 401 or 429. Again touches only what its script began, or is
// not carried out. A script of the last two begins again after a kill.
const (
	Unsafe Effect = iota
	Creates
	Again
	Safe
)

// Request is a template: only the names in Fill are filled, once, each as its place
// asks: escaped in a path, a query, a form or a JSON string, and as it is elsewhere.
// Other braces stay.
type Request struct {
	Method, Host, Path, Query string
	Headers                   field.List
	Body                      []byte
	Fill                      map[string]Fill
	Params                    map[string]string // what a link for it is asked for with, by parameter
	// Link is the slot of a link that is the whole request: its host, path and query stand in
	// the place of those here. "" where it is none.
	Link string
	// Needs are names in its body whose values belong to each other: they come from one
	// credential that has them all, of the identity NeedsOf where it has one. "access" and
	// "refresh" are those of a session that is begun for it.
	Needs   []string
	NeedsOf string
}

// Fill is what stands for a name: a text, a slot, a value of an identity's credential,
// or, with Name alone, a value of the target. Made is a word for a text that nobody has: the
// word itself and what is drawn for it, the same wherever a script has the word, in a form.
type Fill struct {
	Text, Slot, Identity, Scheme, Name, Made string
	Form                                     Form
	Size                                     int // of a password: how many characters it has
}

// Form is how a text looks that is made up. A password is a secret from then on, but for who
// sends it; a Report says which answers show it again.
type Form string

// The forms.
const (
	AsEmail    Form = "email"
	AsUUID     Form = "uuid"
	AsPassword Form = "password"
)

// Present is a credential that a call bears: that of a caller (without an identity, and
// with the state broken, one that does not verify), or the secret in a slot, put where the
// caller's scheme has it. Quotas count the caller, whichever it is.
type Present struct {
	Caller
	Slot  string
	Fresh bool // of a session that is begun for this call
	// Way is how the caller's sound credential is broken (Ways); "" where it is not. Role is
	// what the way claims, Beside whose sound one stands beside it, and Other the scheme of a
	// broken one that does.
	Way, Role, Other string
	Beside           Caller
	// Off is how long ago an expired token ended, and in how long one begins that is not yet
	// valid; 0 is an hour.
	Off time.Duration
}

// Source is where in an answer something is taken from.
type Source int

// The sources.
const (
	FromBody   Source = iota // by a JSON Pointer (RFC 6901)
	FromCookie               // one that is set, by its name (RFC 6265 section 4.1)
	FromField                // a header field
	FromPlace                // the last segment of where Location leads (RFC 9110 section 10.2.2)
	FromLink                 // the first address of the target in the text at a JSON Pointer, or a path
)

// Take puts something of the raw answer into a slot. Of several for one slot the last that
// finds something counts.
type Take struct {
	Slot   string
	From   Source
	At     string
	Plain  bool   // it is no secret: an id
	Scheme string // FromLink: whose link it is; only what signs it is secret
}

// Fate is what came of a call. Its numbers stand in stored facts.
type Fate int

// The fates.
const (
	Unsent Fate = iota // and Report.Why
	Answered
	Late // not answered within its time
	Lost // sent, no answer was seen
)

// Report is what came of a call, masked. It begins when it leaves, not when it was asked
// for: what waits for its pace has not begun.
type Report struct {
	Name     string        `json:"name"`
	Why      string        `json:"why,omitempty"` // of a Fate that is not Answered
	Fate     Fate          `json:"fate"`
	Begin    time.Duration `json:"begin"`
	End      time.Duration `json:"end"`
	Exchange Exchange      `json:"exchange"`
	// Room is how long it waited for room in quotas.
	Room time.Duration `json:"-"`
	// Repeats is how often it was sent before, after a 429 or with a credential that ended.
	Repeats int `json:"repeats,omitempty"`
	// Took has by slot what was taken: a plain value, or the mark of a secret. Equal marks
	// are equal secrets.
	Took map[string]string `json:"took,omitempty"`
	// Ends has by slot when a token or cookie that was taken says that it ends.
	Ends map[string]time.Time `json:"ends,omitempty"`
	// Given is what a look showed.
	Given *Given `json:"given,omitempty"`
	// Pulse is how what sends the calls fared, where a look asked for it.
	Pulse *Pulse `json:"-"`
	// Echoed are the words of made-up passwords that the answer shows.
	Echoed []string `json:"echoed,omitempty"`
	// SameSite is that of the cookie that a call bore, as it was set.
	SameSite string `json:"sameSite,omitempty"`
}

// Named is the first report of a name that a fact keeps; ok is false without one.
func (f *Fact) Named(name string) (r Report, ok bool) {
	for _, r := range f.Reports {
		if r.Name == name {
			return r, true
		}
	}
	return Report{}, false
}

// Fact is what was seen of a probe, and no judgement: it can be judged again, by another
// declaration, at any time.
type Fact struct {
	Family  string    `json:"family"`
	Version int       `json:"version"` // of Data, as its family decodes it
	Began   time.Time `json:"began"`
	Cut     string    `json:"cut,omitempty"` // why the script was given up; "" where it was not
	Reports []Report  `json:"reports"`
	Data    Data      `json:"data"`
}
