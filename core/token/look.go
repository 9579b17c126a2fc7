package token

import (
	"encoding/json"
	"errors"
	"slices"

	"millgate/core/pointer"
)

// Shown is what a token shows without being one: what may be kept of it, so that it can
// be judged again by another declaration. Its claims are masked, its signature was
// verified when it was looked at.
type Shown struct {
	Version      int             `json:"version"`
	Kind         Kind            `json:"kind"`
	Size         int             `json:"size"`           // bytes
	Form         []Mended        `json:"form,omitempty"` // what was mended, or could not be read
	Header       json.RawMessage `json:"header,omitempty"`
	Claims       json.RawMessage `json:"claims,omitempty"` // texts that are not asked for are Hidden
	Introspected bool            `json:"introspected,omitempty"`
	Signature    Verification    `json:"signature"`
	Contents     []Content       `json:"contents,omitempty"` // what should not stand among its claims
	Guessed      bool            `json:"guessed,omitempty"`  // the secret that signed it was found by guessing
}

// ShownVersion is the version that Look writes.
const ShownVersion = 2

// Hidden stands in the place of a claim's text that was not kept.
const Hidden = "‹claim›"

// Mended is something that was said of a token's form when it was read.
type Mended struct {
	ID   string `json:"id"`
	Text string `json:"text"`
	Part Part   `json:"part"`
	// Pointer as in a Judgement.
	Pointer string `json:"pointer,omitempty"`
}

// Outcome of a verification.
type Verified string

// The outcomes.
const (
	SignedWell  Verified = "verified"
	NoSignature Verified = "missing"
	NotAsked    Verified = "not asked" // no algorithm, or one that is none or unknown
	NoKeys      Verified = "no keys"
	KeyUnknown  Verified = "unknown key"
	KeyUnfit    Verified = "unfit key"
	KeyShort    Verified = "short key" // too short to verify with
	SignedWrong Verified = "wrong"
	// Signatures that anybody can make.
	SignedByItself Verified = "by a key of its own header"
	SignedByPublic Verified = "by a public key as secret"
	SignedByEmpty  Verified = "by an empty secret"
)

// Verification is what came of verifying a signature.
type Verification struct {
	Outcome Verified `json:"outcome"`
	Why     string   `json:"why,omitempty"`   // there were no keys; or which key is the secret
	Keys    int      `json:"keys,omitempty"`  // of the set, those that fit the algorithm, where there are several
	Same    int      `json:"same,omitempty"`  // of the set, those with the token's key id, where there are several
	Named   bool     `json:"named,omitempty"` // the set has the token's key id
	Bits    int      `json:"bits,omitempty"`  // of the key that made it
	Least   int      `json:"least,omitempty"`
}

// verification verifies a token with the keys of its scheme; why says why there are none.
func (t *Token) verification(k Keys, why string) (v Verification) {
	alg := t.Algorithm()
	v.Outcome = NotAsked
	if unsigned(alg) || !t.Header.OK {
		return v
	}
	if len(t.Signature) == 0 {
		v.Outcome = NoSignature
		return v
	}
	if !Known(alg) {
		return v
	}
	kid, _ := t.Header.String("kid")
	v.Named = kid != "" && k.has(kid)
	if n := k.fitting(alg); n > 1 {
		v.Keys = n
	}
	if len(k.Set) > 1 {
		for _, key := range k.Set {
			if kid != "" && key.KeyID == kid {
				v.Same++
			}
		}
	}
	key, err := k.Verify(t)
	if err == nil {
		v.Outcome = SignedWell
		v.Bits, v.Least = algorithms[alg].bits(key.Key)
		return v
	}
	if v.Outcome, v.Why = t.anybodys(k); v.Outcome != "" {
		return v
	}
	switch {
	case errors.Is(err, ErrNoKeys):
		if v.Outcome, v.Why = NoKeys, why; why == "" {
			v.Why = "there are no keys"
		}
	case errors.Is(err, ErrKeyID):
		v.Outcome = KeyUnknown
	case errors.Is(err, ErrShort):
		v.Outcome, v.Least = KeyShort, leastRSA
	case errors.Is(err, ErrUnfit):
		v.Outcome = KeyUnfit
	default:
		v.Outcome = SignedWrong
	}
	return v
}

// asked are claims whose text is kept: what a judgement reads and what names nobody.
var asked = []string{"iss", "aud", "exp", "nbf", "iat", "typ", "scope", "scp", "azp", "client_id", "acr", "amr",
	"token_type", "active"}

// Look looks at a raw token, once: with the keys of its scheme, whose claims the
// declaration names.
func Look(t *Token, c Context) *Shown {
	s := &Shown{Version: ShownVersion, Kind: t.Kind, Size: len(t.Raw), Introspected: t.Introspected,
		Signature: t.verification(c.Keys, c.NoKeys), Contents: t.contents()}
	for _, m := range t.mended {
		s.Form = append(s.Form, Mended{m.ID, m.Text, m.Part, m.Pointer})
	}
	if t.Header.OK {
		s.Header = slices.Clone(t.Header.Text)
	}
	if !t.Claims.OK {
		return s
	}
	keep := map[pointer.JSON]bool{}
	for _, n := range asked {
		keep[pointer.JSON("").Member(n)] = true
	}
	if c.Doc != nil {
		for _, scheme := range c.Doc.Schemes {
			for _, p := range scheme.Claims {
				keep[p] = true
			}
		}
	}
	out := []byte{'{'}
	for i := range t.Claims.Members {
		m := &t.Claims.Members[i]
		if i > 0 {
			out = append(out, ',')
		}
		name, _ := json.Marshal(m.Name)
		out = append(out, name...)
		out = append(append(out, ':'), hidden(m.Raw, pointer.JSON("").Member(m.Name), keep)...)
	}
	s.Claims = append(out, '}')
	return s
}

// hidden is a value in which only texts at pointers that are kept, and what stands under
// them, and the names of roles and scopes can be read.
func hidden(raw json.RawMessage, at pointer.JSON, keep map[pointer.JSON]bool) json.RawMessage {
	if keep[at] || len(raw) == 0 || rightsAt(raw, at.Last()) != nil {
		return raw
	}
	switch raw[0] {
	case '"':
		if string(raw) == `""` {
			return raw
		}
		return json.RawMessage(`"` + Hidden + `"`)
	case '{':
		o, why, _ := parseObject(raw)
		if why != "" {
			return json.RawMessage(`"` + Hidden + `"`)
		}
		out := []byte{'{'}
		for i, m := range o.Members {
			if i > 0 {
				out = append(out, ',')
			}
			name, _ := json.Marshal(m.Name)
			out = append(append(append(out, name...), ':'), hidden(m.Raw, at.Member(m.Name), keep)...)
		}
		return append(out, '}')
	case '[':
		var list []json.RawMessage
		if json.Unmarshal(raw, &list) != nil {
			return json.RawMessage(`"` + Hidden + `"`)
		}
		out := []byte{'['}
		for i, e := range list {
			if i > 0 {
				out = append(out, ',')
			}
			out = append(out, hidden(e, at.Item(i), keep)...)
		}
		return append(out, ']')
	}
	return raw // a number, true, false or null
}

// Judge says what is wrong with what was looked at. Of the context Now is when that was;
// Keys are not asked again.
func (s *Shown) Judge(c Context) []Judgement {
	out := Judge(s.Token(), c)
	if s.Guessed {
		j := judgement("secret-guessed", Signature, "", "")
		j.Text = "its HMAC secret can be guessed"
		out = append(out, j)
	}
	return out
}

// Token is what was looked at, as far as it was kept.
func (s *Shown) Token() *Token {
	t := &Token{Kind: s.Kind, Introspected: s.Introspected, size: s.Size, shown: s}
	for _, m := range s.Form {
		if i, ok := checkAt[m.ID]; ok {
			k := Checks[i]
			t.mended = append(t.mended, Judgement{ID: m.ID, Severity: k.Severity, Text: m.Text, Why: k.Why,
				Standard: k.Standard, Part: m.Part, Pointer: m.Pointer})
		}
	}
	if s.Header != nil {
		t.Header, _, _ = parseObject(s.Header)
		t.alg, _ = t.Header.String("alg")
	}
	if s.Claims != nil {
		t.Claims, _, _ = parseObject(s.Claims)
	}
	return t
}
