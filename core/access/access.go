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
//	6 ownership    it is a record that the caller    else forbid, or hide
//	               is admitted on
//	7 quota        there is room                     else throttle (429)
//
// Status codes are those of RFC 9110 section 15.5. Evaluate gives one crossing
// with its ladder in words; NewBoard gives all of them, without words, by
// evaluating each distinct access entry once for each class of identities.
package access

import (
	"cmp"
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
	// Undecided: nobody has decided yet, so that nothing is expected and nothing is checked.
	Undecided
)

func (o Outcome) String() string {
	return [...]string{"refuse", "forbid", "hide", "admit", "admit or refuse", "turn away", "undecided"}[o]
}

// State of the credential that a caller presents.
type State string

const (
	Sound  State = "sound"
	Absent State = "absent"
	Broken State = "broken"
)

// Caller is one kind of caller. A nil Identity is nobody.
type Caller struct {
	Identity *declaration.Identity
	State    State
	Record   Relation
}

// Nobody is who presents nothing at route i: where some records are open to anyone, on one that is not.
func Nobody(d *declaration.Document, i int) Caller {
	c := Caller{State: Absent}
	if e := d.Admission(i); e != nil && len(e.Opens().On) > 0 {
		c.Record = Foreign
	}
	return c
}

// Open says whether anybody is admitted at route i, without a credential and whatever the record.
func Open(d *declaration.Document, i int) bool { return Decide(d, i, Nobody(d, i)).Outcome == Admit }

// Result of a rung.
type Result string

const (
	Passed     Result = "passed"
	Failed     Result = "failed"
	Depends    Result = "depends" // passes for some records only
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
	Depends bool // admitted for some records only, those of On; Outcome is then Admit
	On      []declaration.On
	Decider int // the rung that failed, 0 when none did
	Code    int // the status that is declared, where it is not the outcome's own; otherwise 0
	Subject string
	Ladder  []Rung
	Entry   *declaration.Entry // the deciding entry, nil on a closed route
	reason  string             // of one without its ladder, or that no rung alone gives
}

// Reason is the deciding rung's sentence, or why the caller is admitted.
func (e Expectation) Reason() string {
	if e.Decider > 0 && e.Decider <= len(e.Ladder) {
		return e.Ladder[e.Decider-1].Text
	}
	if e.reason == "" && len(e.Ladder) >= admits {
		return e.Ladder[admits-1].Text
	}
	return e.reason
}

// Because is the expectation with another reason than its ladder gives.
func (e Expectation) Because(reason string) Expectation {
	e.Ladder, e.reason = nil, reason
	return e
}

// Status is the status code that turns the caller away, 0 when it is free.
func (e Expectation) Status() int { return cmp.Or(e.Code, codes[e.Outcome]) }

// Plain says whether the status that turns the caller away is the one that its outcome has by itself.
func (e Expectation) Plain() bool { return e.Code == 0 }

// codes are the statuses of the outcomes that have one.
var codes = map[Outcome]int{Refuse: 401, Forbid: 403, Hide: 404}

// inPlace is what a status makes that is declared in place of an outcome's own: the outcome whose own it is, with 0,
// or that outcome with another status.
func inPlace(o Outcome, status int) (Outcome, int) {
	for is, own := range codes {
		if own == status {
			return is, 0
		}
	}
	return o, status
}

// IsUndecided says whether nobody has decided yet who may call route i.
func IsUndecided(d *declaration.Document, i int) bool { return d.Entry(i).Undecided() }

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
		text := w.Name
		switch w.Kind {
		case declaration.WhoIdentity:
			text = "identity " + w.Name
		case declaration.WhoSignedIn:
			if text = "everyone signed in"; w.On.Kind == declaration.OnOwn {
				out = append(out, "the owner")
				continue
			}
		default:
		}
		if w.On.Kind != declaration.OnAll {
			text += " (" + OnText([]declaration.On{w.On}) + ")"
		}
		out = append(out, text)
	}
	return join(out, "or")
}

// Evaluate answers for route i of the document and one caller.
func Evaluate(d *declaration.Document, i int, c Caller) Expectation {
	l := climb{d: d, i: i, c: c, e: d.Admission(i)}
	l.up()
	l.x.Ladder = slices.Clone(l.rungs[:l.n])
	return l.x
}

// Decide is Evaluate without the ladder, for whoever asks often or keeps many: it says what is
// expected and why.
func Decide(d *declaration.Document, i int, c Caller) Expectation {
	l := climb{d: d, i: i, c: c, e: d.Admission(i)}
	l.up()
	switch {
	case l.x.Decider > 0:
		l.x.reason = l.rungs[l.x.Decider-1].Text
	case l.n >= admits && l.x.reason == "":
		l.x.reason = l.rungs[admits-1].Text
	}
	return l.x
}

// rungs is how many a ladder has; admits is the one that says why a caller is admitted, ownershipRung the one that
// asks for the record.
const rungs, admits, ownershipRung = len(Names) - 1, 4, 6

// climb goes up the ladder, rung by rung. Each method says whether it passed its rungs; one
// that does not has said why, and ends it.
type climb struct {
	d *declaration.Document
	i int
	c Caller
	e *declaration.Entry
	x Expectation
	// accepts are the schemes that the route accepts, and cred is what the caller would present, once they are
	// looked for.
	accepts []*declaration.Scheme
	cred    *declaration.Credential
	open    declaration.Extent // the records that are open to anyone
	extent  declaration.Extent // and those that the caller is admitted on otherwise
	rungs   [rungs]Rung
	n       int // of them were reached
}

func (l *climb) up() {
	l.x.Entry = l.d.Entry(l.i)
	l.pass("in the inventory")
	switch {
	case l.e.Undecided():
		l.undecided()
	case l.closed():
		l.nobody("")
	default:
		l.open = l.e.Opens()
		l.decided()
	}
}

// decided goes up where somebody is admitted.
func (l *climb) decided() {
	switch {
	case l.open.All:
		l.anyone("anyone is admitted")
		return
	case l.c.Record.HoldsAny(l.open.On):
		l.anyone("anyone is admitted " + OnText(l.open.On))
		return
	case l.only():
		l.nobody(", but " + OnText(l.open.On))
	case l.credential() && l.role() && l.rights() && l.ownership():
		l.pass(quotasOf(l.d, l.i, l.c.Identity))
		l.x.Outcome = Admit
	}
	l.opens()
}

// only says whether nobody is admitted but anyone on some records.
func (l *climb) only() bool {
	return !slices.ContainsFunc(l.e.Who, func(w declaration.Who) bool { return w.Kind != declaration.WhoAnyone })
}

// opens adds the records that are open to anyone to what is expected of whoever is not admitted to all, where it is
// not known which record it is. A broken credential is judged as on a record that is not open.
func (l *climb) opens() {
	open := l.open
	if l.c.Record != NoRecord || l.c.State == Broken || len(open.On) == 0 || l.x.Outcome == Admit && !l.x.Depends {
		return
	}
	at := &l.rungs[max(l.x.Decider, 1)-1]
	if l.x.Depends {
		at = &l.rungs[ownershipRung-1]
	}
	at.Result, at.Subject = Depends, ""
	at.Text += "; anyone is admitted " + OnText(open.On)
	l.x = Expectation{Outcome: Admit, Depends: true, On: open.With(l.x.On...).On, Entry: l.e, reason: at.Text}
}

// pass is the next rung, passed.
func (l *climb) pass(text string) { l.step(Passed, text) }

func (l *climb) step(r Result, text string) {
	l.n++ // rungs count from 1
	l.rungs[l.n-1] = Rung{Number: l.n, Name: Names[l.n], Result: r, Text: text}
}

// end is the next rung, failed: those behind it are not reached. The entry says first with what status, then
// the schemes that the route accepts.
func (l *climb) end(o Outcome, subject, text string) bool {
	code, says := 0, "turned_away"
	if l.e != nil {
		code = l.e.Turned.Of(subject)
	}
	if code == 0 && o == Refuse {
		code, says = l.refuses(), "refuses"
	}
	if code != 0 && o != Closed && o != Undecided {
		text += fmt.Sprintf(" (%s: %d)", says, code)
		o, l.x.Code = inPlace(o, code)
	}
	l.step(Failed, text)
	l.rungs[l.n-1].Subject = subject
	l.x.Outcome, l.x.Decider, l.x.Subject = o, l.n, subject
	for l.n < rungs {
		l.step(NotReached, "not reached")
	}
	return false
}

// refuses is the status with which a broken credential's scheme turns away, or all that the route accepts where
// none is presented; 0 where nothing is said, or not the same.
func (l *climb) refuses() int {
	if l.cred != nil && l.c.State == Broken {
		return l.d.SchemeNamed(l.cred.Scheme.Name).Refuses
	}
	return refusedAlike(l.accepts)
}

// refusedAlike is the status with which all schemes of a route refuse; 0 where nothing is said, or not the same.
func refusedAlike(accepts []*declaration.Scheme) int {
	same := 0
	for k, s := range accepts {
		if k > 0 && s.Refuses != same {
			return 0
		}
		same = s.Refuses
	}
	return same
}

func (l *climb) closed() bool {
	return l.e == nil || len(l.e.Who) == 0 ||
		slices.ContainsFunc(l.e.Who, func(w declaration.Who) bool { return w.Kind == declaration.WhoNobody })
}

// nobody is the ladder of a closed route, but for what is open there.
func (l *climb) nobody(but string) {
	l.pass("none would do")
	l.pass("none would do")
	why := "no access entry names this route, so it is for nobody"
	if l.e != nil {
		why = "the declaration admits nobody here" + but
	}
	l.end(Closed, "role", why)
}

// undecided is the ladder of a route of which nobody has said whom it is for.
func (l *climb) undecided() {
	l.pass("not known yet")
	l.pass("not known yet")
	l.end(Undecided, "role", "nobody has decided yet who may call this")
}

// anyone is the ladder of an open route, or of a record that is open.
func (l *climb) anyone(why string) {
	if l.c.State == Broken && l.e.Broken == declaration.BrokenRefused {
		l.pass("none is needed, one was presented")
		l.presents()
		l.end(Refuse, "soundness", "a broken credential is refused here (broken: refused)")
		return
	}
	l.x.Outcome = Admit
	if l.c.State == Broken && l.e.Broken == declaration.BrokenEither {
		l.x.Outcome = Either
	}
	for _, text := range []string{"none is needed", "nothing to check", why, "none is asked for"} {
		l.pass(text)
	}
	l.anyRecord()
	l.pass(quotasOf(l.d, l.i, l.c.Identity))
}

// presents looks for what the route accepts and the caller would present.
func (l *climb) presents() {
	l.accepts, l.cred = l.d.Accepted(l.e), Credential(l.d, l.i, l.c.Identity)
}

// credential is presented, of a scheme that is accepted, and sound.
func (l *climb) credential() bool {
	l.presents()
	names := make([]string, len(l.accepts))
	for k, s := range l.accepts {
		names[k] = s.Name
	}
	c, cred := l.c, l.cred
	switch {
	case c.State == Absent || c.Identity == nil && c.State != Broken || c.Identity != nil && cred == nil:
		return l.end(Refuse, "credential", fmt.Sprintf("needs %s, none is presented", join(names, "or")))
	case c.State == Broken:
		l.pass(join(names, "or") + " is presented")
		return l.end(Refuse, "soundness", "the credential does not verify")
	case !slices.Contains(names, cred.Scheme.Name):
		return l.end(Refuse, "credential", fmt.Sprintf("needs %s, %s comes with %s", join(names, "or"), c.Identity.Name,
			cred.Scheme.Name))
	}
	l.pass(cred.Scheme.Name + ", accepted here")
	l.pass("sound")
	return true
}

func (l *climb) role() bool {
	l.extent = l.d.Admits(l.e, l.c.Identity)
	has := describeRoles(l.c.Identity)
	switch {
	case l.extent.None():
		return l.end(Forbid, "role", fmt.Sprintf("needs %s, %s has %s", WhoText(l.e), l.c.Identity.Name, has))
	case declaration.OwnAlone(l.extent.On):
		l.pass("the owner is admitted; which record decides")
	case !l.extent.All:
		l.pass("admitted " + OnText(l.extent.On) + "; which record decides")
	default:
		l.pass(fmt.Sprintf("%s is among %s", has, WhoText(l.e)))
	}
	return true
}

// rights are the scopes and attributes that are asked for.
func (l *climb) rights() bool {
	id := l.c.Identity
	for _, s := range l.e.Scope {
		if !slices.Contains(id.Scopes, s) {
			return l.end(Forbid, "scope", fmt.Sprintf("needs the scope %s, %s does not hold it", s, id.Name))
		}
	}
	for _, g := range sortedKeys(l.e.Given) {
		want := l.e.Given[g]
		have, ok := id.Attributes[g]
		if !ok {
			return l.end(Forbid, "attribute", fmt.Sprintf("needs %s: %v, %s has no such attribute", g, want, id.Name))
		}
		if !Holds(id, g, want) {
			return l.end(Forbid, "attribute", fmt.Sprintf("needs %s: %v, %s has %v", g, want, id.Name, have))
		}
	}
	if len(l.e.Scope)+len(l.e.Given) == 0 {
		l.pass("none is asked for")
	} else {
		l.pass("held")
	}
	return true
}

// Holds says whether an identity has an attribute with a value.
func Holds(id *declaration.Identity, name string, want any) bool {
	have, ok := id.Attributes[name]
	return ok && (have == want || fmt.Sprint(have) == fmt.Sprint(want)) // of one text, they are written alike
}

func (l *climb) ownership() bool {
	on := l.extent.On
	held := slices.IndexFunc(on, l.c.Record.Holds)
	switch {
	case l.extent.All:
		l.anyRecord()
	case held >= 0 && on[held].Kind == declaration.OnOwn:
		l.pass(fmt.Sprintf("the record is %s's own", l.c.Identity.Name))
	case held >= 0:
		l.pass("the record is " + on[held].Text())
	case l.c.Record == NoRecord:
		l.step(Depends, "admitted "+OnText(on)+" only")
		l.x.Depends, l.x.On = true, on
	default:
		not, out := "the record is somebody else's", Forbid
		on = l.extent.With(l.open.On...).On
		if !declaration.OwnAlone(on) {
			not = "the record is not " + strings.Join(declaration.Names(on, declaration.On.Text), ", and not ")
		}
		if l.e.Hide {
			not, out = not+", and to others it does not exist", Hide
		}
		return l.end(out, "ownership", not)
	}
	return true
}

// anyRecord passes the rung of ownership whatever the record. Of a list it says which rows the caller is shown, and so
// does the reason.
func (l *climb) anyRecord() {
	rows := RowsText(l.d.Rows(l.i, l.c.Identity))
	if rows == "" {
		l.pass("does not matter here")
		return
	}
	l.pass("shown " + rows)
	l.x.reason = l.rungs[admits-1].Text + "; shown " + rows
}

// RowsText says which rows of a list are shown, in words: only those that are its own or published; "" for all, and
// for none of a list.
func RowsText(x declaration.Extent) string {
	if x.All || x.None() {
		return ""
	}
	return "only rows that are " + join(declaration.Names(x.On, declaration.On.Text), "or")
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
