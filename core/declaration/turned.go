package declaration

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// TurnedAway is with what status callers are turned away, by what turns them away; 0 is the default of that.
// The zero TurnedAway is all of the defaults.
type TurnedAway struct {
	Credential int // none is presented, or none that is accepted: 401
	Soundness  int // it does not verify: 401
	Role       int // who it is of is not among `who`: 403
	Scope      int // it lacks a scope or an attribute: 403
	Ownership  int // the record is somebody else's: 403, or 404 with `hide`
}

// turnedWords are the members of `turned_away`, in the order of the rungs.
var turnedWords = []string{"credential", "soundness", "role", "scope", "ownership"}

// of is the status of a word.
func (t *TurnedAway) of(word string) *int {
	switch word {
	case "credential":
		return &t.Credential
	case "soundness":
		return &t.Soundness
	case "role":
		return &t.Role
	case "scope":
		return &t.Scope
	case "ownership":
		return &t.Ownership
	}
	return nil
}

// Of is the status for what turns a caller away, as an expectation names it (credential, soundness, role, scope,
// attribute, ownership); 0 is its default.
func (t TurnedAway) Of(subject string) int {
	if p := t.about(subject); p != nil {
		return *p
	}
	return 0
}

// Say sets the status for what turns a caller away. Of what there is no such word for, and of a status that turns
// nobody away, nothing is said.
func (t *TurnedAway) Say(subject string, status int) {
	if p := t.about(subject); p != nil && turns(status) {
		*p = status
	}
}

func (t *TurnedAway) about(subject string) *int {
	if subject == "attribute" {
		subject = "scope"
	}
	return t.of(subject)
}

// Text is one status where it is that of all, otherwise a mapping; "" where all are the defaults.
func (t TurnedAway) Text() string {
	switch {
	case t == TurnedAway{}:
		return ""
	case t == TurnedAway{t.Role, t.Role, t.Role, t.Role, t.Role}:
		return strconv.Itoa(t.Role)
	}
	var parts []string
	for _, w := range turnedWords {
		if st := *t.of(w); st != 0 {
			parts = append(parts, fmt.Sprintf("%s: %d", w, st))
		}
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// turnedAway reads one status, or one for each of what turns callers away.
func (r *reader) turnedAway(f pair) (t TurnedAway) {
	if !r.since(V11, f.kn, "`turned_away` of an access entry") {
		return t
	}
	if _, ok := f.val.(ast.MapNode); !ok {
		st := r.turnedStatus(f.val)
		return TurnedAway{st, st, st, st, st}
	}
	for _, g := range r.entries(f.val, "turned_away", turnedWords) {
		if p := t.of(g.key); p != nil {
			*p = r.turnedStatus(g.val)
		}
	}
	return t
}

// saysOther are statuses with which a service says something else than that a caller may not: that the client was
// slow, that it calls too often, that the method, the type or the body does not fit.
var saysOther = []int{405, 406, 408, 411, 412, 413, 414, 415, 429}

func turns(status int) bool {
	return status >= 400 && status <= 499 && !slices.Contains(saysOther, status)
}

// turnedStatus is a status that turns a caller away.
func (r *reader) turnedStatus(n ast.Node) int {
	st := r.status(n)
	if st != 0 && !turns(st) {
		r.fail(n, "type", fmt.Sprintf("%d does not turn a caller away", st), "write 401, 403, 404 or another that "+
			"says so, as 400 or 410")
		return 0
	}
	return st
}
