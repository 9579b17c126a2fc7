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
	c := token.Context{Now: time.Now(), Doc: r.doc, Scheme: s, Values: r.target.Values,
		Identity: r.doc.IdentityNamed(p.Identity)}
	if t.Kind == token.Signed {
		c.Keys = r.keysOf(s)
	}
	sum := sha256.Sum256([]byte(t.Raw))
	f.Token = &IssuedToken{Fingerprint: hex.EncodeToString(sum[:4]), Kind: string(t.Kind), Algorithm: t.Algorithm(),
		At: c.Now, Shown: token.Look(t, c)}
	_, f.Token.Shown.Guessed = token.Guess(t, token.Words())
	return r.keep(p, f)
}

// issueOther looks at the cookie or the link that the identity is given.
func (r *run) issueOther(p *probe.Probe, s *declaration.Scheme) (*IssuedToken, error) {
	out := &IssuedToken{Kind: string(s.Kind), At: time.Now()}
	switch s.Kind {
	case declaration.Cookie:
		c, err := r.keys.Cookie(r.ctx, p.Identity, s.Name)
		if err != nil || c == nil {
			return out, err
		}
		out.Cookie = &session.Cookie{Path: c.Path, HTTPOnly: c.HTTPOnly, Secure: c.Secure, SameSite: c.SameSite,
			Life: c.Life}
	case declaration.Link:
		end, text, err := r.keys.LinkEnd(r.ctx, s, p.Identity, p.LinkParams(p.Record.ID))
		if err != nil {
			return out, err
		}
		out.At, out.Link = time.Now(), &IssuedLink{Ends: end, Said: text}
	default:
	}
	return out, nil
}

// IssuedToken is what was seen of what a login gave: no judgement, so that another
// declaration judges it anew.
type IssuedToken struct {
	Fingerprint string          `json:"fingerprint"`
	Kind        string          `json:"kind"`
	Algorithm   string          `json:"algorithm"`
	At          time.Time       `json:"at"`
	Shown       *token.Shown    `json:"shown,omitempty"`
	Cookie      *session.Cookie `json:"cookie,omitempty"`
	Link        *IssuedLink     `json:"link,omitempty"`
	// Judged is all that versions before kept.
	Judged []verdict.Judged `json:"judged,omitempty"`
}

// IssuedLink is the end of a link that was given out.
type IssuedLink struct {
	Ends time.Time `json:"ends"` // zero where it cannot be read
	Said string    `json:"said"` // as it stands in the link
}

// judged is what is wrong with what was given out, by a declaration.
func (i *IssuedToken) judged(d *declaration.Document, t *declaration.Target, p *probe.Probe) (out []verdict.Judged) {
	s := d.SchemeNamed(p.Scheme)
	if s == nil {
		return nil
	}
	life := d.LifetimeNamed(s.Lifetime["access"].Name)
	switch {
	case i.Shown != nil:
		c := token.Context{Now: i.At, Doc: d, Scheme: s, Values: t.Values, Identity: d.IdentityNamed(p.Identity)}
		for _, j := range i.Shown.Judge(c) {
			out = append(out, verdict.Judged{ID: j.ID, Text: j.Text, Why: j.Why, Standard: j.Standard,
				Severity: j.Severity})
		}
		return out
	case i.Cookie != nil:
		return session.JudgeCookie(*i.Cookie, s, life)
	case i.Link != nil:
		return session.JudgeLink(i.Link.Ends, i.Link.Said, i.At, life)
	}
	return i.Judged
}
