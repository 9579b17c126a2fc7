package app

import (
	"crypto/sha256"
	"encoding/hex"
	"time"

	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/session"
	"millgate/core/token"
	"millgate/core/verdict"
)

// keysOf are the public keys of a scheme, fetched once in a sweep.
func (r *run) keysOf(s *declaration.Scheme) token.Keys {
	r.mu.Lock()
	k, ok := r.public[s.Name]
	r.mu.Unlock()
	if ok {
		return k
	}
	k, _ = r.app.keysOf(r.ctx, r.doc, r.target, s)
	r.mu.Lock()
	r.public[s.Name] = k
	r.mu.Unlock()
	return k
}

// issue judges the token that the identity's login gave; nothing is sent when
// there is one already. The token itself is not kept, only what is said about
// it.
func (r *run) issue(p *probe.Probe, f *Fact) error {
	if err := r.intend(p); err != nil {
		return err
	}
	s := r.doc.SchemeNamed(p.Scheme)
	if s.Kind != declaration.Bearer {
		var err error
		if f.Token, err = r.issueOther(p, s); err != nil {
			return r.withoutCredential(p, f, err)
		}
		return r.keep(p, f)
	}
	tok, _, err := r.keys.Token(r.ctx, p.Identity, p.Scheme)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	t := token.Decode(tok)
	if t.Kind == token.Opaque && s.Introspect != nil {
		answer, err := r.keys.Introspect(r.ctx, s, tok)
		if err == nil {
			err = t.Introspect(answer)
		}
		if err != nil {
			return r.withoutCredential(p, f, err)
		}
	}
	c := token.Context{Now: time.Now(), Doc: r.doc, Scheme: s, Values: r.target.Values, Identity: r.doc.IdentityNamed(p.Identity)}
	if t.Kind == token.Signed {
		c.Keys = r.keysOf(s)
	}
	sum := sha256.Sum256([]byte(t.Raw))
	f.Token = &IssuedToken{Fingerprint: hex.EncodeToString(sum[:4]), Kind: string(t.Kind), Algorithm: t.Algorithm()}
	for _, j := range token.Judge(t, c) {
		f.Token.Judged = append(f.Token.Judged, verdict.Judged{ID: j.ID, Text: j.Text, Why: j.Why, Standard: j.Standard, Severity: j.Severity})
	}
	if w, ok := token.Guess(t, token.Words()); ok {
		j := token.Guessed(w)
		f.Token.Judged = append(f.Token.Judged, verdict.Judged{ID: j.ID, Text: "its HMAC secret is a common word of the list that ships", Why: j.Why, Standard: j.Standard, Severity: j.Severity})
	}
	return r.keep(p, f)
}

// issueOther judges the cookie or the link that the identity is given.
func (r *run) issueOther(p *probe.Probe, s *declaration.Scheme) (*IssuedToken, error) {
	out := &IssuedToken{Kind: string(s.Kind)}
	life := r.doc.LifetimeNamed(s.Lifetime["access"].Name)
	switch s.Kind {
	case declaration.Cookie:
		c, err := r.keys.Cookie(r.ctx, p.Identity, s.Name)
		if err != nil || c == nil {
			return out, err
		}
		out.Judged = session.JudgeCookie(session.Cookie{Path: c.Path, HTTPOnly: c.HTTPOnly, Secure: c.Secure, SameSite: c.SameSite, Life: c.Life}, s, life)
	case declaration.Link:
		end, text, err := r.keys.LinkEnd(r.ctx, s, p.Identity, linkParams(p, p.Record.ID))
		if err != nil {
			return out, err
		}
		out.Judged = session.JudgeLink(end, text, time.Now(), life)
	}
	return out, nil
}

// IssuedToken is what is known of a token that a login gave.
type IssuedToken struct {
	Fingerprint string           `json:"fingerprint"`
	Kind        string           `json:"kind"`
	Algorithm   string           `json:"algorithm"`
	Judged      []verdict.Judged `json:"judged,omitempty"`
}
