package token

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/pointer"
)

// Context is what a token is held against. Without Doc only the standards
// are, without Keys its signature is not verified.
type Context struct {
	Now      time.Time
	Received time.Time // when it was given out, as far as that was seen; zero where it was not
	Doc      *declaration.Document
	Scheme   *declaration.Scheme
	Values   map[string]string     // what {issuer} stands for on the target
	Identity *declaration.Identity // who it was issued for; nil when that is not known
	Keys     Keys
	NoKeys   string // why there are none
	// Of has the keys of each scheme by its name, for an Auditor: a token is verified
	// with those of its own scheme.
	Of      map[string]SchemeKeys
	Refresh bool // it is the scheme's refresh token
}

// SchemeKeys are the keys of a scheme, or why there are none.
type SchemeKeys struct {
	Keys
	Why string
}

// Judge says what is wrong with a token, gravest first, and otherwise in the
// order of its text.
func Judge(t *Token, c Context) []Judgement {
	j := judge{t: t, c: c, out: append(make([]Judgement, 0, len(t.mended)+usual), t.mended...)}
	j.form()
	if t.Kind == Signed {
		j.header()
		j.signature()
		j.who()
		j.dates()
		j.rights()
		j.contents()
	}
	if t.Introspected {
		j.introspected()
	}
	if len(j.out) > 1 {
		slices.SortStableFunc(j.out, func(a, b Judgement) int {
			switch {
			case a.Severity == b.Severity:
				return 0
			case a.Severity.AtLeast(b.Severity):
				return -1
			}
			return 1
		})
	}
	return j.out
}

// usual is how many judgements a token has at most, as a rule.
const usual = 6

// Outcome is what a service that checks everything does with a token.
type Outcome string

// Outcomes.
const (
	Takes      Outcome = "takes"
	Refuses    Outcome = "refuses"
	CannotTell Outcome = "cannot tell" // it could not be read, or not be verified
)

// OutcomeOf says it by the judgements about a token, as their table has it. What keeps it from
// being taken comes before what is not known.
func OutcomeOf(list []Judgement) Outcome {
	out := Takes
	for _, j := range list {
		switch Checks[checkAt[j.ID]].Outcome {
		case Refuses:
			return Refuses
		case CannotTell:
			out = CannotTell
		case Takes:
		}
	}
	return out
}

// Sound says whether nothing among judgements keeps a service from taking the token. What is not
// known is nothing that was found wrong: OutcomeOf tells those apart.
func Sound(list []Judgement) bool { return OutcomeOf(list) != Refuses }

// Settles are the judgements that leave open what a service does; their Why says what would
// settle it. None where that is not open.
func Settles(list []Judgement) (out []Judgement) {
	if OutcomeOf(list) != CannotTell {
		return nil
	}
	for _, j := range list {
		if Checks[checkAt[j.ID]].Outcome == CannotTell {
			out = append(out, j)
		}
	}
	return out
}

type judge struct {
	t   *Token
	c   Context
	out []Judgement
}

func (j *judge) say(id string, p Part, at pointer.JSON, args ...any) {
	j.out = append(j.out, judgement(id, p, at, args...))
}

func (j *judge) form() {
	s := j.c.Scheme
	switch j.t.Kind {
	case Empty:
		j.say("form-empty", Whole, "")
	case Unread: // which was said
	case Encrypted:
		j.say("form-encrypted", Whole, "")
	case Opaque:
		if s != nil && s.Token == "jwt" && !j.c.Refresh {
			j.say("form-jwt-wanted", Whole, "", s.Name)
		} else if !j.t.Introspected {
			j.say("form-opaque", Whole, "")
		}
	case Signed:
		if s != nil && s.Kind == declaration.Bearer && s.Token == "opaque" && !j.c.Refresh {
			j.say("form-opaque-wanted", Whole, "")
		}
		if size := max(len(j.t.Raw), j.t.size); size > 4096 {
			j.say("form-large", Whole, "", size)
		}
	}
}

// accessTypes are the header's typ of an access token (RFC 9068 section 2.1),
// and the general one.
var accessTypes = []string{"at+jwt", "application/at+jwt", "jwt"}

func (j *judge) header() {
	h := &j.t.Header
	if !h.OK {
		return
	}
	j.algorithm()
	j.typ()
	for i := range h.Members {
		m := &h.Members[i]
		switch m.Name {
		case "typ", "cty", "alg", "kid", "jku", "x5u", "x5t", "x5t#S256":
			if _, ok := m.String(); !ok {
				j.say("header-type", Header, pointer.JSON("").Member(m.Name), m.Name, m.kind(), "a text")
				continue
			}
		}
		switch m.Name {
		case "crit":
			j.crit(m)
		case "b64":
			j.b64(m)
		case "jwk", "x5c":
			j.say("key-in-header", Header, pointer.JSON("").Member(m.Name), m.Name)
		case "jku", "x5u":
			s, _ := m.String()
			j.say("key-address", Header, pointer.JSON("").Member(m.Name), m.Name, s)
		case "kid":
			if s, _ := m.String(); leads(s) && !j.known(s) {
				j.say("key-id-path", Header, "/kid", s)
			}
		}
	}
}

// algorithm judges alg, where that is a text.
func (j *judge) algorithm() {
	alg := j.t.Algorithm()
	m := j.t.Header.Get("alg")
	if m != nil {
		if _, ok := m.String(); !ok {
			return
		}
	}
	switch {
	case alg == "":
		j.say("alg-missing", Header, "")
	case unsigned(alg):
		j.say("alg-none", Header, "/alg", alg)
	case !Known(alg) && !slices.Contains(unverified, alg):
		j.say("alg-unknown", Header, "/alg", alg)
	case j.c.Scheme != nil && j.c.Scheme.Algorithms != nil && !accepted(j.c.Scheme.Algorithms, alg):
		j.say("alg-undeclared", Header, "/alg", alg, orNone(j.c.Scheme.Algorithms))
	case !Known(alg):
		j.say("alg-unchecked", Header, "/alg", alg)
	}
}

// unsigned says whether an alg is none, in any spelling that a lenient reader takes for it.
func unsigned(alg string) bool { return strings.EqualFold(strings.TrimSpace(alg), "none") }

// typ judges the header's typ: against the declared one, or as that of an access token.
func (j *judge) typ() {
	m := j.t.Header.Get("typ")
	want := ""
	if j.c.Scheme != nil && !j.c.Refresh {
		want = j.c.Scheme.Typ
	}
	if m == nil {
		if want != "" {
			j.say("typ-undeclared", Header, "", "missing", want)
		} else {
			j.say("typ-missing", Header, "")
		}
		return
	}
	typ, ok := m.String()
	switch {
	case !ok || j.c.Refresh:
	case want != "" && !sameType(typ, want):
		j.say("typ-undeclared", Header, "/typ", typ, want)
	case want == "" && !isAccessType(typ):
		j.say("typ-other", Header, "/typ", typ)
	}
}

// sameType compares media types, of which "application/" may be left out (RFC 7515 section 4.1.9).
func sameType(a, b string) bool {
	const long = "application/"
	return strings.EqualFold(strings.TrimPrefix(strings.ToLower(a), long), strings.TrimPrefix(strings.ToLower(b), long))
}

// standard are header parameters that crit must not name, since everybody has to know them (RFC
// 7515 section 4.1.11).
var standard = []string{"alg", "jku", "jwk", "kid", "x5u", "x5c", "x5t", "x5t#S256", "typ", "cty", "crit"}

// crit judges which extensions must be understood. b64 is: a JWT has no other than its default.
func (j *judge) crit(m *Member) {
	names := m.Strings(false)
	switch {
	case m.kind() != "a list":
		j.say("crit-form", Header, "/crit", "is "+m.kind()+"; it must be a list")
		return
	case len(names) == 0:
		j.say("crit-form", Header, "/crit", "names nothing")
		return
	}
	var unknown []string
	for _, n := range names {
		switch {
		case slices.Contains(standard, n):
			j.say("crit-form", Header, "/crit", "names "+n+", which is no extension")
		case j.t.Header.Get(n) == nil:
			j.say("crit-form", Header, "/crit", "names "+n+", which the header does not have")
		case n != "b64":
			unknown = append(unknown, n)
		}
	}
	if len(unknown) > 0 {
		j.say("crit-unknown", Header, "/crit", strings.Join(unknown, ", "))
	}
}

func (j *judge) b64(m *Member) {
	switch {
	case string(m.Raw) == "true":
	case string(m.Raw) != "false":
		j.say("header-type", Header, "/b64", "b64", m.kind(), "true or false")
	case !slices.Contains(j.t.Header.Get("crit").Strings(false), "b64"):
		j.say("b64-form", Header, "/b64", "false without crit, so that some readers pass over it")
	default:
		j.say("b64-form", Header, "/b64", "false")
	}
}

// leads says whether a key id could lead a careless lookup elsewhere. A slash within is common: ids are
// addresses, or base64.
func leads(kid string) bool {
	return strings.ContainsAny(kid, "\\'\";|`<> \x00") || strings.Contains(kid, "..") || strings.Contains(kid, "--") ||
		strings.Contains(kid, "$(") || strings.HasPrefix(kid, "/")
}

// known says whether the set has a key id.
func (j *judge) known(kid string) bool {
	if j.t.shown != nil {
		return j.t.shown.Signature.Named
	}
	return j.c.Keys.has(kid)
}

func isAccessType(typ string) bool {
	for _, a := range accessTypes {
		if strings.EqualFold(typ, a) {
			return true
		}
	}
	return false
}

func (j *judge) signature() {
	v := Verification{}
	if j.t.shown != nil {
		v = j.t.shown.Signature
	} else {
		v = j.t.verification(j.c.Keys, j.c.NoKeys)
	}
	alg := j.t.Algorithm()
	kid, _ := j.t.Header.String("kid")
	if v.Keys > 1 && kid == "" {
		j.say("key-id-missing", Header, "", v.Keys)
	} else if v.Same > 1 {
		j.say("key-twice", Header, "/kid", kid)
	}
	switch v.Outcome {
	case SignedWell:
		if v.Bits < v.Least {
			j.say("key-short", Signature, "", v.Bits, alg, v.Least)
		}
	case NoSignature:
		j.say("signature-missing", Signature, "")
	case NoKeys:
		j.say("not-verified", Signature, "", v.Why)
	case KeyUnknown:
		j.say("key-unknown", Header, "/kid", kid)
	case KeyShort:
		j.say("key-tiny", Signature, "", v.Least)
	case KeyUnfit:
		j.say("key-unfit", Signature, "", alg)
	case SignedWrong:
		j.say("signature-wrong", Signature, "")
	case SignedByItself:
		j.say("key-own", Header, "/jwk")
	case SignedByPublic:
		j.say("secret-public", Signature, "", v.Why)
	case SignedByEmpty:
		j.say("secret-empty", Signature, "")
	case NotAsked:
	}
}

// FillValues puts a target's values in place of {names}.
func FillValues(s string, values map[string]string) string {
	if strings.IndexByte(s, '{') < 0 {
		return s
	}
	for k, v := range values {
		s = strings.ReplaceAll(s, "{"+k+"}", v)
	}
	return s
}

// who judges issuer, audience, subject and the token's own name.
func (j *judge) who() {
	t, s := j.t, j.c.Scheme
	if !t.Claims.OK {
		return
	}
	for _, name := range [3]string{"iss", "sub", "jti"} {
		if m := t.Claims.Get(name); m != nil {
			if _, ok := m.String(); !ok {
				j.say("claim-type", Claims, pointer.JSON("").Member(name), name, m.kind(), "a text")
			}
		}
	}
	iss := t.Claims.Get("iss")
	switch {
	case iss == nil && s != nil && s.Issuer != "":
		j.say("iss-missing", Claims, "")
	case iss == nil:
		j.say("iss-none", Claims, "")
	case s != nil && s.Issuer != "":
		if v, ok := iss.String(); ok && v != FillValues(s.Issuer, j.c.Values) {
			j.say("iss-other", Claims, "/iss", v, FillValues(s.Issuer, j.c.Values))
		}
	}
	switch aud := t.Claims.Get("aud"); {
	case aud != nil:
		j.audience(aud)
	case s != nil && s.Audience != "":
		j.say("aud-missing", Claims, "")
	default:
		j.say("aud-none", Claims, "")
	}
	if t.Claims.Get("sub") == nil {
		j.say("sub-missing", Claims, "")
	}
	if s != nil && !j.c.Refresh {
		for _, name := range s.Requires {
			if t.Claims.Get(name) == nil {
				j.say("claim-required", Claims, "", name)
			}
		}
	}
	if l := j.lifetime(); l != nil && l.EndedSaid && s.Logout != nil && t.Claims.Get("jti") == nil {
		j.say("jti-missing", Claims, "")
	}
}

func (j *judge) audience(aud *Member) {
	var few [2]string
	s, all := j.c.Scheme, aud.strings(few[:0], false)
	if !aud.texts() {
		j.say("claim-type", Claims, "/aud", "aud", aud.kind(), "a text or a list of texts")
		return
	}
	if s != nil && s.Audience != "" && !slices.Contains(all, FillValues(s.Audience, j.c.Values)) {
		j.say("aud-other", Claims, "/aud", strings.Join(all, ", "), FillValues(s.Audience, j.c.Values))
	} else if len(all) > 1 {
		j.say("aud-many", Claims, "/aud", len(all))
	}
}

// lifetime that the declaration gives the token; nil without.
func (j *judge) lifetime() *declaration.Lifetime {
	if j.c.Doc == nil || j.c.Scheme == nil {
		return nil
	}
	which := "access"
	if j.c.Refresh {
		which = "refresh"
	}
	return j.c.Doc.LifetimeNamed(j.c.Scheme.Lifetime[which].Name)
}

// Say writes a duration as people do: 15 min, 30 days.
func Say(d time.Duration) string {
	d = d.Round(time.Second)
	for _, u := range []struct {
		of        time.Duration
		one, many string
	}{{24 * time.Hour, "day", "days"}, {time.Hour, "h", "h"}, {time.Minute, "min", "min"}} {
		if d >= 2*u.of || d >= u.of && d%u.of == 0 {
			if n := int((d + u.of/2) / u.of); n == 1 {
				return "1 " + u.one
			} else {
				return strconv.Itoa(n) + " " + u.many
			}
		}
	}
	return strconv.Itoa(int(d/time.Second)) + " s"
}

// drift is how far the issuer's clock may be from ours without that anything is said of it.
const drift = time.Minute

func (j *judge) dates() {
	t := j.t
	if !t.Claims.OK {
		return
	}
	var at [3]time.Time
	for i, name := range [3]string{"iat", "nbf", "exp"} {
		m := t.Claims.Get(name)
		if m == nil {
			switch name {
			case "iat":
				if !t.Introspected {
					j.say("iat-missing", Claims, "")
				}
			case "exp":
				j.endless()
			}
			continue
		}
		d, form := m.date()
		at[i] = d
		switch form {
		case "milliseconds":
			j.say("date-milliseconds", Claims, pointer.JSON("").Member(name), name)
		case "text":
			j.say("date-text", Claims, pointer.JSON("").Member(name), name)
		case "not a date":
			j.say("date-unreadable", Claims, pointer.JSON("").Member(name), name)
		}
	}
	iat, nbf, exp := at[0], at[1], at[2]
	l := j.lifetime()
	skew := time.Duration(0)
	if l != nil {
		skew = l.Skew
	}
	now := j.c.Now
	if !exp.IsZero() && !now.Before(exp.Add(skew)) {
		j.say("expired", Claims, "/exp", Say(now.Sub(exp)))
	}
	if !nbf.IsZero() && now.Add(skew).Before(nbf) {
		j.say("not-yet", Claims, "/nbf", Say(nbf.Sub(now)))
	}
	if !iat.IsZero() && now.Add(skew+drift).Before(iat) {
		j.say("iat-ahead", Claims, "/iat", Say(iat.Sub(now)))
	}
	begin := iat
	if begin.IsZero() {
		begin = nbf
	}
	if exp.IsZero() {
		return
	}
	if !begin.IsZero() && exp.Before(begin) {
		j.say("dates-order", Claims, "/exp")
		return
	}
	most := time.Duration(0)
	if l != nil {
		most = l.Max
	}
	// Without a beginning, or with one that lies ahead, it counts from when it was received.
	if r := j.c.Received; !r.IsZero() && (begin.IsZero() || r.Add(skew+drift).Before(begin)) {
		begin, skew = r, skew+drift
	} else {
		skew = 0
	}
	switch life := exp.Sub(begin); {
	case begin.IsZero():
	case most > 0 && life > most+skew:
		j.say("too-long", Claims, "/exp", Say(life), Say(most))
	case most == 0 && !j.c.Refresh && life > Months:
		j.say("lives-long", Claims, "/exp", Say(life))
	}
}

// Months is the life beyond which an access token is remarked on where none is declared.
const Months = 30 * 24 * time.Hour

// endless is a token without exp, which an access token of RFC 9068 must have.
func (j *judge) endless() {
	if typ, _ := j.t.Header.String("typ"); sameType(typ, "at+jwt") {
		j.say("exp-required", Claims, "")
		return
	}
	j.say("exp-missing", Claims, "")
}

// rights judges roles, scopes and attributes against what the identity is
// declared to hold.
func (j *judge) rights() {
	s, d := j.c.Scheme, j.c.Doc
	if s == nil || d == nil || !j.t.Claims.OK {
		return
	}
	id := j.c.Identity
	var few [8]string
	var room [8]string
	for _, what := range named(s.Claims, few[:0]) {
		at := s.Claims[what]
		m := j.t.at(at)
		if m == nil {
			continue
		}
		if j.t.shown != nil && bytes.Contains(m.Raw, []byte(Hidden)) {
			// The declaration began to name it after the token was looked at.
			j.say("claim-hidden", Claims, at, string(at))
			continue
		}
		switch what {
		case "roles":
			for _, r := range m.strings(room[:0], true) {
				if d.RoleNamed(r) == nil {
					j.say("role-undeclared", Claims, at, r)
				} else if id != nil && !d.RolesOf(id)[r] {
					j.say("role-beyond", Claims, at, r, id.Name)
				}
			}
		case "scopes":
			for _, sc := range m.strings(room[:0], true) {
				if id != nil && !slices.Contains(id.Scopes, sc) {
					j.say("scope-beyond", Claims, at, sc, id.Name)
				}
			}
		default:
			if id == nil {
				continue
			}
			if want, ok := id.Attributes[what]; ok && plainly(want) != m.plain() {
				j.say("attribute-differs", Claims, at, what, m.plain(), id.Name, want)
			}
		}
	}
}

// named appends the names of claims in their order.
func named(claims map[string]pointer.JSON, out []string) []string {
	for n := range claims {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// orNone are algorithms that a scheme accepts, in words.
func orNone(algs []string) string {
	if len(algs) == 0 {
		return "none"
	}
	return strings.Join(algs, ", ")
}
