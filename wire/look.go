package wire

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/session"
	"millgate/core/token"
)

// look looks at what a caller is given. Where it is given nothing, the report says why.
func (r *running) look(ctx context.Context, l check.Look) (check.Report, error) {
	report := check.Report{Name: l.Name, Begin: r.now()}
	if l.Sender {
		r.fares(ctx, l, &report)
		return report, ctx.Err()
	}
	g, err := r.given(ctx, l)
	report.End = r.now()
	switch {
	case ctx.Err() != nil:
		return report, ctx.Err()
	case err != nil:
		report.Why = r.k.client.mask.Text(err.Error())
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.unsent == nil {
			r.unsent = err
		}
	default:
		report.Fate, report.Given = check.Answered, g
	}
	return report, nil
}

// fares says how the sender fared. The first such look begins to watch it.
func (r *running) fares(ctx context.Context, l check.Look, report *check.Report) {
	report.Exchange.At = r.k.now()
	trip := time.Duration(0)
	if r.pulse == nil {
		trip, _ = r.k.client.Trip(ctx, l.Host) // without one it is not measured
		r.pulse = StartPulse()
	}
	report.Pulse = r.pulse.Since(r.began)
	report.Pulse.Trip, report.Fate, report.End = trip, check.Answered, r.now()
}

func (r *running) given(ctx context.Context, l check.Look) (*check.Given, error) {
	k, who := r.k, l.Caller
	s := k.doc.SchemeNamed(who.Scheme)
	if s == nil {
		return nil, fmt.Errorf("%w: there is no scheme %q", ErrCredential, who.Scheme)
	}
	g := &check.Given{Kind: string(s.Kind)}
	switch s.Kind {
	case declaration.Bearer:
		return r.givenToken(ctx, s, who.Identity)
	case declaration.Cookie:
		c, err := k.Cookie(ctx, who.Identity, s.Name)
		if err != nil {
			return nil, err
		}
		if c != nil {
			g.Cookie = &session.Cookie{Path: c.Path, HTTPOnly: c.HTTPOnly, Secure: c.Secure, SameSite: c.SameSite,
				Life: c.Life}
		}
	case declaration.Link:
		link, err := k.LinkGiven(ctx, s, who.Identity, l.Params)
		if err != nil {
			return nil, err
		}
		g.Link = &link
	default:
	}
	g.At = k.now()
	return g, nil
}

func (r *running) givenToken(ctx context.Context, s *declaration.Scheme, identity string) (*check.Given, error) {
	tok, _, err := r.k.Token(ctx, identity, s.Name)
	if err != nil {
		return nil, err
	}
	t := token.Decode(tok)
	if t.Kind == token.Opaque && s.Introspect != nil {
		answer, err := r.k.Introspect(ctx, s, tok)
		if err == nil {
			err = t.Introspect(answer)
		}
		if err != nil {
			return nil, err
		}
	}
	c := token.Context{Now: r.k.now(), Doc: r.k.doc, Scheme: s, Values: r.k.target.Values,
		Identity: r.k.doc.IdentityNamed(identity)}
	if t.Kind == token.Signed && r.Public != nil {
		c.Keys = r.Public(s)
	}
	sum := sha256.Sum256([]byte(t.Raw))
	g := &check.Given{Fingerprint: hex.EncodeToString(sum[:4]), Kind: string(t.Kind), Algorithm: t.Algorithm(),
		At:    c.Now,
		Shown: token.Look(t, c)}
	_, g.Shown.Guessed = token.GuessUsual(t, r.k.doc, r.k.target.Values)
	return g, nil
}
