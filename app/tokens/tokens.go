// Package tokens judges a token that somebody brings or that is obtained, audits many, keeps them
// sealed, and makes test tokens with a key that the user gives. No token leaves in what it returns.
package tokens

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/store"
)

// Tokens judges, keeps and makes tokens.
type Tokens struct {
	store *store.Store
	ws    *workspace.Workspace
}

func New(st *store.Store, ws *workspace.Workspace) *Tokens { return &Tokens{st, ws} }

// Query is a token to judge: a text, or one that Mill Gate obtains for an
// identity, or one that was kept.
type Query struct {
	Text     string
	Target   string // "" is the first
	Identity string // whose it is; with Obtain also who logs in
	Scheme   string // "" is found out
	Obtain   bool
	Kept     string // the name of a kept token
	Refresh  bool   // judge it as a refresh token
	Ask      bool   // ask its issuer about it, where the scheme says how (RFC 7662)
}

// View is a token with everything that is said about it. It does not hold
// the token itself.
type View struct {
	Kind        token.Kind
	Fingerprint string // of the SHA-256
	Subject     string
	Masked      string // its first and last characters
	Header      []Part
	Claims      []Part
	Judgements  []token.Judgement
	Outcome     token.Outcome
	Scheme      string
	Identity    string
	Axis        Axis
	Reach       []token.Opens
	KeySource   string // where the keys came from, or why there are none
	CanAsk      bool   // its issuer could be asked about it, and was not
	Facts       []token.Fact
	Settles     []string // what would settle it, where nobody can tell
}

// Part is one member of the header or of the claims, with its meaning.
type Part struct {
	Name, Value string
	Means       string // what the standard says it is
	Date        *time.Time
}

// Axis are the instants of a token's life; the zero ones are not known.
type Axis struct {
	Now, Issued, Begins, Ends time.Time
	DeclaredEnd               time.Time     // issued and the declared maximum
	Afterlife                 time.Duration // how long it may work after a logout, as declared
	AfterlifeSaid             bool
}

var meanings = map[string]string{
	"alg": "algorithm of the signature", "typ": "kind of token", "kid": "id of the key", "jwk": "a key",
	"jku": "address of a key set", "x5u": "address of a certificate", "x5c": "certificates",
	"x5t": "digest of the certificate", "crit": "what must be understood", "cty": "kind of content",
	"enc": "algorithm of the content's encryption", "zip": "compression",
	"iss": "issuer", "sub": "subject: whose token it is", "aud": "audience: which service it is for", "exp": "ends",
	"nbf": "begins", "iat": "issued", "jti": "the token's own name", "client_id": "the client", "azp": "the client",
	"scope": "scopes", "scp": "scopes", "roles": "roles", "groups": "groups", "auth_time": "when the person signed in",
	"acr": "how surely the person signed in", "amr": "how the person signed in", "nonce": "ties it to one sign-in",
	"sid": "session", "cnf": "the key that must come with it", "act": "who acts for the subject",
	"entitlements": "entitlements",
}

func parts(o *token.Object) []Part {
	out := []Part{}
	for i := range o.Members {
		m := &o.Members[i]
		p := Part{Name: m.Name, Value: string(m.Raw), Means: meanings[m.Name]}
		if s, ok := m.String(); ok {
			p.Value = s
		}
		out = append(out, p)
	}
	return out
}

// lookAt is the document with one of its targets, without the lock.
func (tk *Tokens) lookAt(target string) (*declaration.Document, *declaration.Target, error) {
	now := tk.ws.Present()
	t := now.Pick(target)
	if target != "" && (t == nil || t.Name != target) {
		return now.Doc, nil, fmt.Errorf("%w: there is no target %q", fault.ErrNotFound, target)
	}
	return now.Doc, t, nil
}

// JudgeToken judges a token and says what it opens.
func (tk *Tokens) JudgeToken(ctx context.Context, q Query) (View, error) {
	d, t, err := tk.lookAt(q.Target)
	if err != nil {
		return View{}, err
	}
	text := q.Text
	switch {
	case q.Obtain:
		if text, q.Scheme, err = tk.obtain(ctx, d, t, q); err != nil {
			return View{}, err
		}
	case q.Kept != "":
		if text, err = tk.store.Unseal(ctx, keptToken+q.Kept); err != nil {
			return View{}, fmt.Errorf("%w: no token is kept as %q", fault.ErrNotFound, q.Kept)
		}
	}
	if strings.TrimSpace(text) == "" {
		return View{}, fmt.Errorf("%w: there is no token in it", fault.ErrInput)
	}
	tok := token.Decode(text)
	c := token.Context{Now: time.Now(), Doc: d, Refresh: q.Refresh}
	if t != nil {
		c.Values = t.Values
	}
	if c.Scheme = d.SchemeNamed(q.Scheme); c.Scheme == nil {
		if q.Scheme != "" {
			return View{}, fmt.Errorf("%w: there is no scheme %q", fault.ErrNotFound, q.Scheme)
		}
		c.Scheme = token.SchemeOf(d, tok, c.Values)
	}
	if c.Identity = d.IdentityNamed(q.Identity); c.Identity == nil {
		c.Identity = token.Holder(d, tok)
	}
	if c.Scheme != nil && c.Scheme.Introspect != nil && tok.Kind == token.Opaque && !q.Refresh {
		if q.Ask || q.Obtain { // what was pasted leaves the machine on request only
			if err := tk.introspect(ctx, d, t, c.Scheme, tok); err != nil {
				return View{}, err
			}
		}
	}
	v := View{Kind: tok.Kind, Subject: token.Subject(tok), Header: parts(&tok.Header), Claims: parts(&tok.Claims),
		Reach: []token.Opens{}}
	if tok.Kind == token.Signed {
		c.Keys, v.KeySource = tk.ws.KeysOf(ctx, d, t, c.Scheme)
		c.NoKeys = v.KeySource
	}
	v.Judgements = token.Judge(tok, c)
	v.CanAsk = tok.Kind == token.Opaque && !tok.Introspected && c.Scheme != nil && c.Scheme.Introspect != nil &&
		!q.Refresh
	if w, ok := token.GuessUsual(tok, d, c.Values); ok {
		v.Judgements = append([]token.Judgement{token.Guessed(w)}, v.Judgements...)
	}
	v.Outcome = token.OutcomeOf(v.Judgements)
	v.Fingerprint, v.Masked = marks(tok.Raw)
	for i := range v.Claims {
		if p := &v.Claims[i]; slices.Contains([]string{"exp", "nbf", "iat", "auth_time"}, p.Name) {
			if at, ok := tok.Date(p.Name); ok {
				p.Date = &at
			}
		}
	}
	v.Axis = axis(tok, c)
	if c.Scheme != nil {
		v.Scheme = c.Scheme.Name
		if !q.Refresh && tok.Kind != token.Encrypted {
			v.Reach = append(v.Reach, token.Reach(d, c.Scheme, tok, c.Identity)...)
		}
	}
	if c.Identity != nil {
		v.Identity = c.Identity.Name
	}
	v.Facts, v.Settles = token.Glance(tok, c, v.Outcome, v.Reach), []string{}
	for _, j := range token.Settles(v.Judgements) {
		v.Settles = append(v.Settles, j.Text+". "+j.Why)
	}
	return v, nil
}

// marks are the fingerprint of a token, and what may be shown of it.
func marks(raw string) (fingerprint, masked string) {
	sum := sha256.Sum256([]byte(raw))
	masked = "…"
	if n := len(raw); n > 24 {
		masked = raw[:6] + "…" + raw[n-4:]
	}
	return hex.EncodeToString(sum[:4]), masked
}

// introspect asks the issuer about an opaque token.
func (tk *Tokens) introspect(ctx context.Context, d *declaration.Document, t *declaration.Target, s *declaration.Scheme,
	tok *token.Token) error {
	client, keys, err := tk.ws.Connect(ctx, d, t)
	if err != nil {
		return err
	}
	defer client.Close()
	answer, err := keys.Introspect(ctx, s, tok.Raw)
	if err == nil {
		err = tok.Introspect(answer)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return nil
}

func axis(t *token.Token, c token.Context) Axis {
	x := Axis{Now: c.Now}
	x.Issued, _ = t.Date("iat")
	x.Begins, _ = t.Date("nbf")
	x.Ends, _ = t.Date("exp")
	if c.Scheme == nil {
		return x
	}
	which := "access"
	if c.Refresh {
		which = "refresh"
	}
	if l := c.Doc.LifetimeNamed(c.Scheme.Lifetime[which].Name); l != nil {
		from := x.Issued
		if from.IsZero() {
			from = x.Begins
		}
		if l.Max > 0 && !from.IsZero() {
			x.DeclaredEnd = from.Add(l.Max)
		}
		x.Afterlife, x.AfterlifeSaid = l.EndedWithin, l.EndedSaid
	}
	return x
}

// obtain logs in as an identity, for a bearer scheme of it.
func (tk *Tokens) obtain(ctx context.Context, d *declaration.Document, t *declaration.Target, q Query) (text,
	scheme string, err error) {
	id := d.IdentityNamed(q.Identity)
	if id == nil {
		return "", "", fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, q.Identity)
	}
	for _, c := range id.Credentials {
		s := d.SchemeNamed(c.Scheme.Name)
		if s == nil || s.Kind != declaration.Bearer || q.Scheme != "" && s.Name != q.Scheme {
			continue
		}
		client, keys, err := tk.ws.Connect(ctx, d, t)
		if err != nil {
			return "", "", err
		}
		defer client.Close()
		if err := client.Reach(ctx); err != nil {
			return "", "", err
		}
		tok, _, err := keys.Token(ctx, id.Name, s.Name)
		if err != nil {
			return "", "", fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
		return tok, s.Name, nil
	}
	return "", "", fmt.Errorf("%w: %s has no bearer credential that Mill Gate could obtain a token with",
		fault.ErrInput,
		q.Identity)
}
