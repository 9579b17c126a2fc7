// Package access says what a declaration expects of one crossing: one route
// met by one caller.
//
// # The ladder
//
// Seven rungs are tried in order. The first that fails decides; the rest are
// not reached.
//
//	1 route        the inventory has it              else hide (404)
//	2 credential   an accepted scheme is presented   else refuse (401)
//	3 soundness    it is well formed and verifies    else refuse (401)
//	4 role         the caller is among `who`         else forbid (403)
//	5 scope, attributes                              else forbid (403)
//	6 ownership    the record is the caller's own    else forbid, or hide
//	7 quota        there is room                     else throttle (429)
//
// Status codes are those of RFC 9110 section 15.5. Evaluate gives one crossing
// with its ladder in words; NewBoard gives all of them, without words, by
// evaluating each distinct access entry once for each class of identities.
package access

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/declaration"
)

// Outcome is what the service must do. The zero Outcome refuses.
type Outcome uint8

const (
	Refuse Outcome = iota // 401
	Forbid                // 403
	Hide                  // 404
	Admit
	Either // a broken credential on an open route: admitted or refused, both agree
	Closed // for nobody: 401, 403, 404 and 405 all agree
)

func (o Outcome) String() string {
	return [...]string{"refuse", "forbid", "hide", "admit", "admit or refuse", "turn away"}[o]
}

// State of the credential that a caller presents.
type State string

const (
	Sound  State = "sound"
	Absent State = "absent"
	Broken State = "broken"
)

// Relation of the caller to the record behind the route's parameter.
type Relation string

const (
	NoRecord Relation = ""        // the route has none, or it does not matter which
	Own      Relation = "own"     // the caller's
	Foreign  Relation = "foreign" // somebody else's
)

// Caller is one kind of caller. A nil Identity is nobody.
type Caller struct {
	Identity *declaration.Identity
	State    State
	Record   Relation
}

// Result of a rung.
type Result string

const (
	Passed     Result = "passed"
	Failed     Result = "failed"
	Depends    Result = "depends" // passes for the owner only
	NotReached Result = "not reached"
)

// Rung is one check of the ladder.
type Rung struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	Result Result `json:"result"`
	Text   string `json:"text"`
	// Subject is what decides, in one word: role, scope, attribute, ownership.
	Subject string `json:"subject,omitempty"`
}

// Names of the rungs.
var Names = [...]string{"", "route", "credential", "soundness", "role", "scope, attributes", "ownership", "quota"}

// Expectation is an outcome with the ladder that leads to it.
type Expectation struct {
	Outcome Outcome
	Depends bool // admitted for its own record; Outcome is then Admit
	Decider int  // the rung that failed, 0 when none did
	Subject string
	Ladder  []Rung
	Entry   *declaration.Entry // the deciding entry, nil on a closed route
}

// Reason is the deciding rung's sentence, or why the caller is admitted.
func (e Expectation) Reason() string {
	if e.Decider > 0 && e.Decider <= len(e.Ladder) {
		return e.Ladder[e.Decider-1].Text
	}
	if len(e.Ladder) >= 4 {
		return e.Ladder[3].Text
	}
	return ""
}

// Status is the status code a service answers with, 0 when it is free.
func (e Expectation) Status() int {
	return map[Outcome]int{Refuse: 401, Forbid: 403, Hide: 404}[e.Outcome]
}

// Credential picks what the identity would present on route i: the first of
// its credentials that the route accepts, or else its first. nil without any.
func Credential(d *declaration.Document, i int, id *declaration.Identity) *declaration.Credential {
	if id == nil || len(id.Credentials) == 0 {
		return nil
	}
	if e := d.Entry(i); e != nil {
		acc := d.Accepted(e)
		for k := range id.Credentials {
			c := &id.Credentials[k]
			if slices.ContainsFunc(acc, func(s *declaration.Scheme) bool { return s.Name == c.Scheme.Name }) {
				return c
			}
		}
	}
	return &id.Credentials[0]
}

func join(list []string, word string) string {
	switch len(list) {
	case 0:
		return "nothing"
	case 1:
		return list[0]
	}
	return strings.Join(list[:len(list)-1], ", ") + " " + word + " " + list[len(list)-1]
}

// WhoText says whom an entry admits, in words.
func WhoText(e *declaration.Entry) string {
	var out []string
	for _, w := range e.Who {
		switch w.Kind {
		case declaration.WhoIdentity:
			out = append(out, "identity "+w.Name)
		case declaration.WhoSignedIn:
			out = append(out, "everyone signed in")
		case declaration.WhoOwner:
			out = append(out, "the owner")
		default:
			out = append(out, w.Name)
		}
	}
	return join(out, "or")
}

// Evaluate answers for route i of the document and one caller.
func Evaluate(d *declaration.Document, i int, c Caller) Expectation {
	x := Expectation{Entry: d.Entry(i)}
	step := func(n int, res Result, text string) { // n counts from 1
		x.Ladder = append(x.Ladder, Rung{Number: n, Name: Names[n], Result: res, Text: text})
	}
	end := func(n int, o Outcome, subject, text string) Expectation {
		step(n, Failed, text)
		x.Ladder[n-1].Subject = subject
		x.Outcome, x.Decider, x.Subject = o, n, subject
		for k := n + 1; k <= 7; k++ {
			step(k, NotReached, "not reached")
		}
		return x
	}
	step(1, Passed, "in the inventory")
	e := x.Entry
	if e == nil || len(e.Who) == 0 || slices.ContainsFunc(e.Who, func(w declaration.Who) bool { return w.Kind == declaration.WhoNobody }) {
		step(2, Passed, "none would do")
		step(3, Passed, "none would do")
		why := "no access entry names this route, so it is for nobody"
		if e != nil {
			why = "the declaration admits nobody here"
		}
		return end(4, Closed, "role", why)
	}
	open := e.Who[0].Kind == declaration.WhoAnyone
	cred := Credential(d, i, c.Identity)
	if open {
		switch {
		case c.State == Broken && e.Broken == declaration.BrokenRefused:
			step(2, Passed, "none is needed, one was presented")
			return end(3, Refuse, "soundness", "a broken credential is refused here (broken: refused)")
		case c.State == Broken && e.Broken == declaration.BrokenEither:
			x.Outcome = Either
		default:
			x.Outcome = Admit
		}
		step(2, Passed, "none is needed")
		step(3, Passed, "nothing to check")
		step(4, Passed, "anyone is admitted")
		step(5, Passed, "none is asked for")
		step(6, Passed, "does not matter here")
		step(7, Passed, quotasOf(d, i, c.Identity))
		return x
	}
	accepted := d.Accepted(e)
	names := make([]string, len(accepted))
	for k, s := range accepted {
		names[k] = s.Name
	}
	switch {
	case c.State == Absent || c.Identity == nil && c.State != Broken || c.Identity != nil && cred == nil:
		return end(2, Refuse, "credential", fmt.Sprintf("needs %s, none is presented", join(names, "or")))
	case c.State == Broken:
		step(2, Passed, join(names, "or")+" is presented")
		return end(3, Refuse, "soundness", "the credential does not verify")
	case !slices.Contains(names, cred.Scheme.Name):
		return end(2, Refuse, "credential", fmt.Sprintf("needs %s, %s comes with %s", join(names, "or"), c.Identity.Name, cred.Scheme.Name))
	}
	step(2, Passed, cred.Scheme.Name+", accepted here")
	step(3, Passed, "sound")

	pass, onlyOwner := d.Admits(e, c.Identity)
	has := describeRoles(c.Identity)
	switch {
	case !pass:
		return end(4, Forbid, "role", fmt.Sprintf("needs %s, %s has %s", WhoText(e), c.Identity.Name, has))
	case onlyOwner:
		step(4, Passed, "the owner is admitted; which record decides")
	default:
		step(4, Passed, fmt.Sprintf("%s is among %s", has, WhoText(e)))
	}
	for _, s := range e.Scope {
		if !slices.Contains(c.Identity.Scopes, s) {
			return end(5, Forbid, "scope", fmt.Sprintf("needs the scope %s, %s does not hold it", s, c.Identity.Name))
		}
	}
	for _, g := range sortedKeys(e.Given) {
		have, ok := c.Identity.Attributes[g]
		if !ok {
			return end(5, Forbid, "attribute", fmt.Sprintf("needs %s: %v, %s has no such attribute", g, e.Given[g], c.Identity.Name))
		}
		if fmt.Sprint(have) != fmt.Sprint(e.Given[g]) {
			return end(5, Forbid, "attribute", fmt.Sprintf("needs %s: %v, %s has %v", g, e.Given[g], c.Identity.Name, have))
		}
	}
	if len(e.Scope)+len(e.Given) == 0 {
		step(5, Passed, "none is asked for")
	} else {
		step(5, Passed, "held")
	}
	switch {
	case !onlyOwner:
		step(6, Passed, "does not matter here")
	case c.Record == Own:
		step(6, Passed, fmt.Sprintf("the record is %s's own", c.Identity.Name))
	case c.Record == Foreign:
		if e.Hide {
			return end(6, Hide, "ownership", "the record is somebody else's, and to others it does not exist")
		}
		return end(6, Forbid, "ownership", "the record is somebody else's")
	default:
		step(6, Depends, "admitted for an own record only")
		x.Depends = true
	}
	step(7, Passed, quotasOf(d, i, c.Identity))
	x.Outcome = Admit
	return x
}

// quotasOf names the quotas that count a crossing. Whether they have room
// depends on what was sent before.
func quotasOf(d *declaration.Document, i int, id *declaration.Identity) string {
	var names []string
	for _, q := range d.QuotasAt[i] {
		if u := d.Quotas[q]; !u.IsExempt(d, id) {
			names = append(names, u.Name)
		}
	}
	if len(names) == 0 {
		return "no quota counts it"
	}
	return "counted by " + strings.Join(names, ", ") + "; there is room for a first request"
}

func describeRoles(id *declaration.Identity) string {
	if len(id.Roles) == 0 {
		return "no role"
	}
	n := make([]string, len(id.Roles))
	for i, r := range id.Roles {
		n[i] = r.Name
	}
	return join(n, "and")
}

func sortedKeys(m map[string]any) []string {
	k := make([]string, 0, len(m))
	for s := range m {
		k = append(k, s)
	}
	sort.Strings(k)
	return k
}
