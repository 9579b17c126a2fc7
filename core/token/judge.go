package token

import (
	"bytes"
	"slices"
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
	var b strings.Builder
	for {
		before, rest, open := strings.Cut(s, "{")
		b.WriteString(before)
		if !open {
			return b.String()
		}
		name, after, closed := strings.Cut(rest, "}")
		if v, known := values[name]; known && closed {
			b.WriteString(v)
			s = after
			continue
		}
		b.WriteByte('{')
		s = rest
	}
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
