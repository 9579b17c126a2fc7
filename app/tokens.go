package app

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/format/tokenfile"
	"millgate/store"
	"millgate/wire"
)

// TokenQuery is a token to judge: a text, or one that Mill Gate obtains for an
// identity, or one that was kept.
type TokenQuery struct {
	Text     string
	Target   string // "" is the first
	Identity string // whose it is; with Obtain also who logs in
	Scheme   string // "" is found out
	Obtain   bool
	Kept     string // the name of a kept token
	Refresh  bool   // judge it as a refresh token
	Ask      bool   // ask its issuer about it, where the scheme says how (RFC 7662)
}

// TokenView is a token with everything that is said about it. It does not hold
// the token itself.
type TokenView struct {
	Kind        token.Kind
	Fingerprint string // of the SHA-256
	Subject     string
	Masked      string // its first and last characters
	Header      []TokenPart
	Claims      []TokenPart
	Judgements  []token.Judgement
	Outcome     token.Outcome
	Scheme      string
	Identity    string
	Axis        TokenAxis
	Reach       []token.Opens
	KeySource   string // where the keys came from, or why there are none
	CanAsk      bool   // its issuer could be asked about it, and was not
}

// TokenPart is one member of the header or of the claims, with its meaning.
type TokenPart struct {
	Name, Value string
	Means       string // what the standard says it is
	Date        *time.Time
}

// TokenAxis are the instants of a token's life; the zero ones are not known.
type TokenAxis struct {
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

func parts(o *token.Object) []TokenPart {
	out := []TokenPart{}
	for i := range o.Members {
		m := &o.Members[i]
		p := TokenPart{Name: m.Name, Value: string(m.Raw), Means: meanings[m.Name]}
		if s, ok := m.String(); ok {
			p.Value = s
		}
		out = append(out, p)
	}
	return out
}

// lookAt is the document with one of its targets, without the lock.
func (a *App) lookAt(target string) (*declaration.Document, *declaration.Target, error) {
	now := a.present()
	t := now.pick(target)
	if target != "" && (t == nil || t.Name != target) {
		return now.doc, nil, fmt.Errorf("%w: there is no target %q", ErrNotFound, target)
	}
	return now.doc, t, nil
}

// tokenWire is a connection to a target for a few requests.
func (a *App) tokenWire(ctx context.Context, d *declaration.Document, t *declaration.Target) (*wire.Client,
	*wire.Keyring, error) {
	if t == nil {
		return nil, nil, fmt.Errorf("%w: the declaration has no target", ErrInput)
	}
	c, err := wire.NewClient(ctx, t, "", wire.NewMasker(a.maskKey), a.dial)
	if err != nil {
		return nil, nil, err
	}
	return c, wire.NewKeyring(d, t, c, a.secrets(ctx)), nil
}

// keysOf gathers what tokens of a scheme are verified with; why says where
// from, or why there are none.
func (a *App) keysOf(ctx context.Context, d *declaration.Document, t *declaration.Target,
	s *declaration.Scheme) (k token.Keys, why string) {
	if s == nil {
		return k, "no scheme of the declaration is meant"
	}
	switch {
	case s.Keys.Secret != (declaration.Value{}):
		v, err := a.secret(ctx, s.Keys.Secret)
		if err != nil {
			return k, err.Error()
		}
		return token.Keys{Secret: []byte(v)}, "the secret of the declaration"
	case s.Keys.File != "":
		dir, _ := a.where()
		b, err := os.ReadFile(filepath.Join(dir, filepath.Base(s.Keys.File)))
		if err != nil {
			return k, "the file " + s.Keys.File + " cannot be read"
		}
		return readKeys(b, s.Keys.File)
	case s.Keys.JWKS != "":
		if t == nil {
			return k, "the declaration has no target to ask for keys"
		}
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		c, err := wire.NewClient(ctx, t, "", wire.NewMasker(a.maskKey), a.dial)
		if err != nil {
			return k, err.Error()
		}
		defer c.Close()
		return fetchKeys(ctx, c, s.Keys.JWKS)
	}
	return k, "the scheme " + s.Name + " says no keys"
}

// fetchKeys reads a JWK set, or a discovery document that says where it is
// (RFC 8414 section 2), as long as that is at the target.
func fetchKeys(ctx context.Context, c *wire.Client, at string) (token.Keys, string) {
	host, path := "", at
	if i := strings.Index(at, ":/"); i > 0 {
		host, path = at[:i], at[i+1:]
	}
	b, err := c.Fetch(ctx, host, path)
	if err != nil {
		return token.Keys{}, err.Error()
	}
	var doc struct {
		JWKSURI string `json:"jwks_uri"`
	}
	if json.Unmarshal(b, &doc) == nil && doc.JWKSURI != "" {
		host, path, ok := c.HostOf(doc.JWKSURI)
		if !ok {
			return token.Keys{}, "the discovery document leads to " + doc.JWKSURI + ", which is no host of the target"
		}
		if b, err = c.Fetch(ctx, host, path); err != nil {
			return token.Keys{}, err.Error()
		}
		at = doc.JWKSURI
	}
	return readKeys(b, at)
}

func readKeys(b []byte, from string) (token.Keys, string) {
	k, said, err := token.ReadKeys(b)
	if err != nil {
		return k, from + ": " + err.Error()
	}
	why := from
	if len(said) > 0 {
		why += " (" + strings.Join(said, "; ") + ")"
	}
	return k, why
}

// JudgeToken judges a token and says what it opens.
func (a *App) JudgeToken(ctx context.Context, q TokenQuery) (TokenView, error) {
	d, t, err := a.lookAt(q.Target)
	if err != nil {
		return TokenView{}, err
	}
	text := q.Text
	switch {
	case q.Obtain:
		if text, q.Scheme, err = a.obtain(ctx, d, t, q); err != nil {
			return TokenView{}, err
		}
	case q.Kept != "":
		if text, err = a.store.Unseal(ctx, keptToken+q.Kept); err != nil {
			return TokenView{}, fmt.Errorf("%w: no token is kept as %q", ErrNotFound, q.Kept)
		}
	}
	if strings.TrimSpace(text) == "" {
		return TokenView{}, fmt.Errorf("%w: there is no token in it", ErrInput)
	}
	tok := token.Decode(text)
	c := token.Context{Now: time.Now(), Doc: d, Refresh: q.Refresh}
	if t != nil {
		c.Values = t.Values
	}
	if c.Scheme = d.SchemeNamed(q.Scheme); c.Scheme == nil {
		if q.Scheme != "" {
			return TokenView{}, fmt.Errorf("%w: there is no scheme %q", ErrNotFound, q.Scheme)
		}
		c.Scheme = token.SchemeOf(d, tok, c.Values)
	}
	if c.Identity = d.IdentityNamed(q.Identity); c.Identity == nil {
		c.Identity = token.Holder(d, tok)
	}
	if c.Scheme != nil && c.Scheme.Introspect != nil && tok.Kind == token.Opaque && !q.Refresh {
		if q.Ask || q.Obtain { // what was pasted leaves the machine on request only
			if err := a.introspect(ctx, d, t, c.Scheme, tok); err != nil {
				return TokenView{}, err
			}
		}
	}
	v := TokenView{Kind: tok.Kind, Subject: token.Subject(tok), Header: parts(&tok.Header), Claims: parts(&tok.Claims),
		Reach: []token.Opens{}}
	if tok.Kind == token.Signed {
		c.Keys, v.KeySource = a.keysOf(ctx, d, t, c.Scheme)
		c.NoKeys = v.KeySource
	}
	v.Judgements = token.Judge(tok, c)
	v.CanAsk = tok.Kind == token.Opaque && !tok.Introspected && c.Scheme != nil && c.Scheme.Introspect != nil &&
		!q.Refresh
	v.Outcome = token.Refuses
	if tok.Kind == token.Signed || tok.Introspected {
		v.Outcome = token.OutcomeOf(v.Judgements)
	}
	if w, ok := token.Guess(tok, token.Words()); ok {
		v.Judgements = append([]token.Judgement{token.Guessed(w)}, v.Judgements...)
	}
	sum := sha256.Sum256([]byte(tok.Raw))
	v.Fingerprint = hex.EncodeToString(sum[:4])
	if n := len(tok.Raw); n > 24 {
		v.Masked = tok.Raw[:6] + "…" + tok.Raw[n-4:]
	} else {
		v.Masked = "…"
	}
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
	return v, nil
}

// introspect asks the issuer about an opaque token.
func (a *App) introspect(ctx context.Context, d *declaration.Document, t *declaration.Target, s *declaration.Scheme,
	tok *token.Token) error {
	client, keys, err := a.tokenWire(ctx, d, t)
	if err != nil {
		return err
	}
	defer client.Close()
	answer, err := keys.Introspect(ctx, s, tok.Raw)
	if err == nil {
		err = tok.Introspect(answer)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrInput, err)
	}
	return nil
}

func axis(t *token.Token, c token.Context) TokenAxis {
	x := TokenAxis{Now: c.Now}
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
func (a *App) obtain(ctx context.Context, d *declaration.Document, t *declaration.Target, q TokenQuery) (text,
	scheme string, err error) {
	id := d.IdentityNamed(q.Identity)
	if id == nil {
		return "", "", fmt.Errorf("%w: there is no identity %q", ErrNotFound, q.Identity)
	}
	for _, c := range id.Credentials {
		s := d.SchemeNamed(c.Scheme.Name)
		if s == nil || s.Kind != declaration.Bearer || q.Scheme != "" && s.Name != q.Scheme {
			continue
		}
		client, keys, err := a.tokenWire(ctx, d, t)
		if err != nil {
			return "", "", err
		}
		defer client.Close()
		if err := client.Reach(ctx); err != nil {
			return "", "", err
		}
		tok, _, err := keys.Token(ctx, id.Name, s.Name)
		if err != nil {
			return "", "", fmt.Errorf("%w: %w", ErrInput, err)
		}
		return tok, s.Name, nil
	}
	return "", "", fmt.Errorf("%w: %s has no bearer credential that Mill Gate could obtain a token with", ErrInput,
		q.Identity)
}

// keptToken is put before the names of kept tokens, apart from other secrets.
const keptToken = "token:"

// KeepToken seals a token under a name, until it is forgotten.
func (a *App) KeepToken(ctx context.Context, name, text string) error {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 80 {
		return fmt.Errorf("%w: give it a name of at most 80 characters", ErrInput)
	}
	t := token.Decode(text)
	if t.Kind == token.Empty {
		return fmt.Errorf("%w: there is no token in it", ErrInput)
	}
	err := a.store.Seal(ctx, keptToken+name, t.Raw)
	if errors.Is(err, store.ErrNoDirectory) {
		return fmt.Errorf("%w: %w; start Mill Gate with --data DIR", ErrInput, err)
	}
	return err
}

// KeptTokens are the names of kept tokens.
func (a *App) KeptTokens(ctx context.Context) ([]string, error) {
	return a.store.SealedNames(ctx, keptToken)
}

// ForgetToken removes a kept token.
func (a *App) ForgetToken(ctx context.Context, name string) error {
	err := a.store.Forget(ctx, keptToken+name)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("%w: no token is kept as %q", ErrNotFound, name)
	}
	return err
}

// MintQuery asks for a test token.
type MintQuery struct {
	Identity, Scheme, Target string
	Key                      string // a private JWK, PEM, or a secret for HMAC; never stored
	Life                     time.Duration
	Set                      map[string]any // claims that are set beside; nil takes one away
}

// MintToken makes a test token for an identity with the key that the user
// gives.
func (a *App) MintToken(q MintQuery) (string, error) {
	d, t, err := a.lookAt(q.Target)
	if err != nil {
		return "", err
	}
	id := d.IdentityNamed(q.Identity)
	if id == nil {
		return "", fmt.Errorf("%w: there is no identity %q", ErrNotFound, q.Identity)
	}
	s := d.SchemeNamed(q.Scheme)
	for _, c := range id.Credentials {
		if s == nil && q.Scheme == "" {
			if x := d.SchemeNamed(c.Scheme.Name); x != nil && x.Kind == declaration.Bearer && x.Token == "jwt" {
				s = x
			}
		}
	}
	if s == nil || s.Kind != declaration.Bearer || s.Token != "jwt" {
		return "", fmt.Errorf("%w: %s has no scheme with signed tokens", ErrInput, q.Identity)
	}
	k, err := token.ReadSigningKey([]byte(q.Key), s.Algorithms)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrInput, err)
	}
	if q.Life == 0 {
		q.Life = 5 * time.Minute
		if l := d.LifetimeNamed(s.Lifetime["access"].Name); l != nil && l.Max > 0 {
			q.Life = l.Max
		}
	}
	var values map[string]string
	if t != nil {
		values = t.Values
	}
	sub := id.Name
	for _, c := range id.Credentials {
		for _, n := range []string{"username", "client_id"} {
			if v := c.Fill[n]; c.Scheme.Name == s.Name && v.Literal != "" {
				sub = v.Literal
			}
		}
	}
	b := make([]byte, 12)
	_, _ = rand.Read(b) // crypto/rand never fails
	claims := token.StandardClaims(token.FillValues(s.Issuer, values), sub, token.FillValues(s.Audience, values),
		"test-"+hex.EncodeToString(b), time.Now(), q.Life)
	for what, at := range s.Claims {
		name, rest, ok := at.Cut()
		if !ok || rest != "" {
			continue
		}
		switch what {
		case "roles":
			roles := []string{}
			for _, r := range id.Roles {
				roles = append(roles, r.Name)
			}
			claims[name] = roles
		case "scopes":
			if len(id.Scopes) > 0 {
				claims[name] = strings.Join(id.Scopes, " ")
			}
		default:
			if v, ok := id.Attributes[what]; ok {
				claims[name] = v
			}
		}
	}
	for n, v := range q.Set {
		if v == nil {
			delete(claims, n)
		} else {
			claims[n] = v
		}
	}
	return k.Mint(rand.Reader, "at+jwt", claims)
}

// errFound ends a search.
var errFound = errors.New("found")

// GuessSecret looks for a token's HMAC secret in a word list, one word on a
// line, on all cores. progress tells how many words were tried.
func GuessSecret(ctx context.Context, text string, list io.Reader, progress func(int64)) (string, bool, error) {
	t := token.Decode(text)
	if !token.Guessable(t) {
		return "", false, fmt.Errorf("%w: it is not signed with a secret, so there is nothing to guess", ErrInput)
	}
	b, err := io.ReadAll(io.LimitReader(list, 512<<20))
	if err != nil {
		return "", false, fmt.Errorf("reading the words: %w", err)
	}
	g, ctx := errgroup.WithContext(ctx)
	var telling sync.Mutex // so that progress is told in its order, one after the other
	var tried int64
	var word atomic.Pointer[string]
	var next atomic.Int64
	const piece = 64 << 10
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for {
				from := int(next.Add(piece)) - piece
				if from >= len(b) {
					return nil
				}
				if ctx.Err() != nil {
					return ctx.Err()
				}
				words := wordsOf(b, from, from+piece)
				if w, ok := token.Guess(t, words); ok {
					word.Store(&w)
					return errFound
				}
				telling.Lock()
				if tried += int64(len(words)); progress != nil {
					progress(tried)
				}
				telling.Unlock()
			}
		})
	}
	if err := g.Wait(); err != nil && !errors.Is(err, errFound) && word.Load() == nil {
		return "", false, err
	}
	if w := word.Load(); w != nil {
		return *w, true, nil
	}
	return "", false, nil
}

// wordsOf are those whose line begins in b[from:to].
func wordsOf(b []byte, from, to int) []string {
	if from > 0 {
		i := bytes.IndexByte(b[from-1:], '\n')
		if i < 0 {
			return nil
		}
		from += i
	}
	if to > len(b) {
		to = len(b)
	} else if i := bytes.IndexByte(b[to-1:], '\n'); i >= 0 {
		to += i
	} else {
		to = len(b)
	}
	if from >= to {
		return nil
	}
	var out []string
	for _, l := range strings.Split(string(b[from:to]), "\n") {
		if l = strings.TrimRight(l, "\r"); l != "" {
			out = append(out, l)
		}
	}
	return out
}

// AuditProgress is how far an audit has come.
type AuditProgress struct {
	ID     string `json:"id"` // as the caller named it
	Bytes  int64  `json:"bytes"`
	Tokens int    `json:"tokens"`
}

// AuditTokens judges every token of a stream. Keys are fetched once for each
// scheme of the declaration, unless offline. It can be stopped; what was judged
// until then is returned with the error.
func (a *App) AuditTokens(ctx context.Context, target string, offline bool, r io.Reader,
	progress func(AuditProgress)) (token.Audited, error) {
	d, t, err := a.lookAt(target)
	if err != nil {
		return token.Audited{}, err
	}
	c := token.Context{Now: time.Now(), Doc: d, Of: map[string]token.SchemeKeys{}}
	if t != nil {
		c.Values = t.Values
	}
	if offline {
		t = nil
	}
	for _, s := range d.Schemes {
		if s.Kind != declaration.Bearer || s.Token != "jwt" {
			continue
		}
		k, why := a.keysOf(ctx, d, t, s)
		c.Of[s.Name] = token.SchemeKeys{Keys: k.Distinct(), Why: why}
	}
	return AuditStream(ctx, c, r, progress)
}

// batch is how many tokens are looked at in one go.
const batch = 256

// AuditStream judges every token of a stream in a context: looked at on all cores, taken
// in the order of the lines.
func AuditStream(ctx context.Context, c token.Context, r io.Reader, progress func(AuditProgress)) (token.Audited,
	error) {
	au := token.NewAuditor(c)
	type work struct {
		found  []tokenfile.Found
		bytes  int64
		looked chan []token.Looked
	}
	workers := runtime.GOMAXPROCS(0)
	jobs, ordered := make(chan *work), make(chan *work, 2*workers)
	var g errgroup.Group
	g.Go(func() error {
		defer close(ordered)
		defer close(jobs)
		var read int64
		w := &work{looked: make(chan []token.Looked, 1)}
		send := func() bool {
			w.bytes = read
			for _, c := range []chan *work{ordered, jobs} {
				select {
				case c <- w:
				case <-ctx.Done():
					return false
				}
			}
			w = &work{looked: make(chan []token.Looked, 1)}
			return true
		}
		err := tokenfile.Each(r, func(n int64) { read = n }, func(f tokenfile.Found) bool {
			w.found = append(w.found, f)
			return len(w.found) < batch || send()
		})
		if len(w.found) > 0 && ctx.Err() == nil {
			send()
		}
		return err
	})
	for range workers {
		g.Go(func() error {
			for w := range jobs {
				out := make([]token.Looked, len(w.found))
				for i, f := range w.found {
					out[i] = au.Look(f.Line, f.Text)
				}
				w.looked <- out
			}
			return nil
		})
	}
	var p AuditProgress
	told := time.Now()
	for w := range ordered {
		var list []token.Looked
		select {
		case list = <-w.looked:
		case <-ctx.Done():
			continue // what was not looked at is not taken
		}
		for _, l := range list {
			au.Take(l)
			p.Tokens++
		}
		p.Bytes = w.bytes
		if progress != nil && time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			progress(p)
		}
	}
	err := g.Wait()
	if progress != nil {
		progress(p)
	}
	if err == nil {
		err = ctx.Err()
	}
	return au.Report(), err
}
