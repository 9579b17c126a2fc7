package wire

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/declaration"
	"millgate/core/verdict"
)

// ErrCredential is wrapped when a credential cannot be obtained.
var ErrCredential = errors.New("the credential cannot be obtained")

// Secrets looks up env:NAME and kept:NAME.
type Secrets func(declaration.Value) (string, error)

// Keyring obtains credentials, keeps them, and renews them before they expire.
// It is safe for concurrent use.
type Keyring struct {
	doc    *declaration.Document
	target *declaration.Target
	client *Client
	look   Secrets
	mu     sync.Mutex
	held   map[string]*held
	now    func() time.Time
}

type held struct {
	mu      sync.Mutex
	access  string
	refresh string
	expires time.Time // zero when unknown
	epoch   int
}

// NewKeyring makes a keyring for one sweep.
func NewKeyring(d *declaration.Document, t *declaration.Target, c *Client, look Secrets) *Keyring {
	return &Keyring{doc: d, target: t, client: c, look: look, held: map[string]*held{}, now: time.Now}
}

// renewAhead is how long before its end a token is renewed.
const renewAhead = 30 * time.Second

func (k *Keyring) slot(identity, scheme string) *held {
	k.mu.Lock()
	defer k.mu.Unlock()
	key := identity + "\x00" + scheme
	h := k.held[key]
	if h == nil {
		h = &held{}
		k.held[key] = h
	}
	return h
}

// fill returns what the identity's credential for the scheme is filled with.
func (k *Keyring) fill(identity, scheme string) (map[string]string, error) {
	id := k.doc.IdentityNamed(identity)
	if id == nil {
		return nil, fmt.Errorf("%w: there is no identity %q", ErrCredential, identity)
	}
	i := slices.IndexFunc(id.Credentials, func(c declaration.Credential) bool { return c.Scheme.Name == scheme })
	if i < 0 {
		return nil, fmt.Errorf("%w: %s has none for %s", ErrCredential, identity, scheme)
	}
	out := map[string]string{}
	for n, v := range id.Credentials[i].Fill {
		s, err := k.secret(v)
		if err != nil {
			return nil, fmt.Errorf("%w: %s of %s: %v", ErrCredential, n, identity, err)
		}
		out[n] = s
	}
	return out, nil
}

func (k *Keyring) secret(v declaration.Value) (string, error) {
	if !v.Secret() {
		return v.Literal, nil
	}
	s, err := k.look(v)
	if err != nil {
		return "", err
	}
	k.client.mask.Learn(s)
	return s, nil
}

// values are the names that stand for something on this target.
func (k *Keyring) values(more map[string]string) map[string]string {
	out := map[string]string{}
	for n, v := range k.target.Values {
		out[n] = v
	}
	for n, v := range more {
		out[n] = v
	}
	return out
}

func fillText(s string, values map[string]string, escape func(string) string) string {
	if !strings.Contains(s, "{") {
		return s
	}
	for n, v := range values {
		s = strings.ReplaceAll(s, "{"+n+"}", escape(v))
	}
	return s
}

func jsonEscape(s string) string {
	b, _ := json.Marshal(s) // a string always encodes
	return string(b[1 : len(b)-1])
}

func same(s string) string { return s }

// FillRequest makes an outgoing request of one written in the declaration.
func FillRequest(q *declaration.Request, values map[string]string) Outgoing {
	o := Outgoing{Method: q.Method, Host: q.Host, Path: fillText(q.Path, values, url.PathEscape)}
	for _, h := range q.Headers {
		o.Headers = append(o.Headers, [2]string{h[0], fillText(h[1], values, same)})
	}
	switch {
	case len(q.JSON) > 0:
		o.Body = []byte(fillText(string(q.JSON), values, jsonEscape))
		o.Headers = append(o.Headers, [2]string{"Content-Type", "application/json"})
	case len(q.Form) > 0:
		f := url.Values{}
		for _, kv := range q.Form {
			f.Set(kv[0], fillText(kv[1], values, same))
		}
		o.Body = []byte(f.Encode())
		o.Headers = append(o.Headers, [2]string{"Content-Type", "application/x-www-form-urlencoded"})
	}
	return o
}

// obtain sends a login or renewal and takes the tokens out of its answer.
func (k *Keyring) obtain(ctx context.Context, q *declaration.Request, values map[string]string) (access, refresh string, expires time.Time, err error) {
	o := FillRequest(q, k.values(values))
	var r raw
	for try := 0; ; try++ {
		r, err = k.client.send(ctx, o)
		if err != nil {
			return "", "", time.Time{}, err
		}
		if r.Status != 429 || try == 3 {
			break
		}
		wait := RetryAfter(r.Exchange, k.now())
		if wait < 0 {
			wait = time.Second << try
		}
		if wait > time.Minute {
			break
		}
		select {
		case <-ctx.Done():
			return "", "", time.Time{}, ctx.Err()
		case <-time.After(wait):
		}
	}
	if r.Status == 0 {
		return "", "", time.Time{}, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	}
	access, ok := verdict.Pointer(r.content, q.Take["access"])
	if r.Status >= 300 || !ok || access == "" {
		why := "no token at " + q.Take["access"] + " in the answer"
		if r.Status >= 300 {
			why = "answered " + fmt.Sprint(r.Status)
			if c := k.client.mask.Text(string(r.content)); c != "" {
				why += ": " + cut(c, 200)
			}
		}
		return "", "", time.Time{}, fmt.Errorf("%w: %s %s %s", ErrCredential, q.Method, q.Path, why)
	}
	k.client.mask.Learn(access)
	if p := q.Take["refresh"]; p != "" {
		if refresh, ok = verdict.Pointer(r.content, p); ok {
			k.client.mask.Learn(refresh)
		}
	}
	if n, ok := verdict.Pointer(r.content, "/expires_in"); ok {
		if d, perr := time.ParseDuration(n + "s"); perr == nil {
			expires = k.now().Add(d)
		}
	}
	if e := jwtExpiry(access); !e.IsZero() {
		expires = e
	}
	return access, refresh, expires, nil
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n] + "…"
	}
	return s
}

// jwtExpiry reads exp without verifying: it only tells when to renew.
func jwtExpiry(tok string) time.Time {
	parts := strings.Split(tok, ".")
	if len(parts) != 3 {
		return time.Time{}
	}
	b, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return time.Time{}
	}
	var c struct {
		Exp float64 `json:"exp"`
	}
	if json.Unmarshal(b, &c) != nil || c.Exp <= 0 {
		return time.Time{}
	}
	return time.Unix(int64(c.Exp), 0)
}

// Token returns a token for the identity that is good for a while, obtaining
// or renewing it if it must. epoch changes whenever it does.
func (k *Keyring) Token(ctx context.Context, identity, scheme string) (tok string, epoch int, err error) {
	h := k.slot(identity, scheme)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.access != "" && (h.expires.IsZero() || h.expires.Sub(k.now()) > renewAhead) {
		return h.access, h.epoch, nil
	}
	if err := k.renewLocked(ctx, h, identity, scheme); err != nil {
		return "", h.epoch, err
	}
	return h.access, h.epoch, nil
}

// Renew obtains a new token unless somebody did since epoch.
func (k *Keyring) Renew(ctx context.Context, identity, scheme string, epoch int) error {
	h := k.slot(identity, scheme)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.epoch != epoch {
		return nil
	}
	h.refresh = "" // it may have ended with the token: begin anew
	return k.renewLocked(ctx, h, identity, scheme)
}

func (k *Keyring) renewLocked(ctx context.Context, h *held, identity, scheme string) error {
	s := k.doc.SchemeNamed(scheme)
	fill, err := k.fill(identity, scheme)
	if err != nil {
		return err
	}
	if s.Login == nil {
		h.access, h.epoch = fill["token"], h.epoch+1
		k.client.mask.Learn(h.access)
		return nil
	}
	if h.refresh != "" && s.Refresh != nil {
		fill["refresh"] = h.refresh
		if a, r, e, err := k.obtain(ctx, s.Refresh, fill); err == nil {
			h.access, h.expires, h.epoch = a, e, h.epoch+1
			if r != "" {
				h.refresh = r
			}
			return nil
		}
	}
	a, r, e, err := k.obtain(ctx, s.Login, fill)
	if err != nil {
		return fmt.Errorf("%s: %w", identity, err)
	}
	h.access, h.refresh, h.expires, h.epoch = a, r, e, h.epoch+1
	return nil
}

// Present adds the identity's sound credential to a request.
func (k *Keyring) Present(ctx context.Context, o *Outgoing, identity, scheme string) (epoch int, err error) {
	s := k.doc.SchemeNamed(scheme)
	if s == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, scheme)
	}
	if s.Kind == declaration.APIKey {
		fill, err := k.fill(identity, scheme)
		if err != nil {
			return 0, err
		}
		k.client.mask.Learn(fill["key"])
		attach(o, s, fill["key"])
		return 0, nil
	}
	tok, epoch, err := k.Token(ctx, identity, scheme)
	if err != nil {
		return epoch, err
	}
	attach(o, s, tok)
	return epoch, nil
}

func attach(o *Outgoing, s *declaration.Scheme, value string) {
	switch {
	case s.Kind == declaration.Bearer:
		o.Headers = append(o.Headers, [2]string{"Authorization", "Bearer " + value})
	case s.In == "query":
		q := url.QueryEscape(s.Field) + "=" + url.QueryEscape(value)
		if o.Query != "" {
			q = o.Query + "&" + q
		}
		o.Query = q
	case s.In == "cookie":
		o.Headers = append(o.Headers, [2]string{"Cookie", s.Field + "=" + value})
	default:
		o.Headers = append(o.Headers, [2]string{s.Field, value})
	}
}

// PresentBroken adds a credential that does not verify: a real token with its
// signature altered where one can be had, a made-up one otherwise.
func (k *Keyring) PresentBroken(ctx context.Context, o *Outgoing, scheme string) error {
	s := k.doc.SchemeNamed(scheme)
	if s == nil {
		return fmt.Errorf("%w: there is no scheme %q", ErrCredential, scheme)
	}
	value := random()
	if s.Kind == declaration.Bearer && s.Token == "jwt" {
		for _, id := range k.doc.Identities {
			if !slices.ContainsFunc(id.Credentials, func(c declaration.Credential) bool { return c.Scheme.Name == scheme }) {
				continue
			}
			if tok, _, err := k.Token(ctx, id.Name, scheme); err == nil {
				value = alter(tok)
			} else if ctx.Err() != nil {
				return ctx.Err()
			}
			break
		}
	}
	k.client.mask.Learn(value)
	attach(o, s, value)
	return nil
}

// alter changes characters in the middle of a token's last part, so that it
// is still well formed.
func alter(tok string) string {
	i := strings.LastIndexByte(tok, '.') + 1
	b := []byte(tok)
	for j := i + (len(b)-i)/2; j < len(b) && j < i+(len(b)-i)/2+4; j++ {
		if b[j] == 'A' {
			b[j] = 'B'
		} else {
			b[j] = 'A'
		}
	}
	if string(b) == tok {
		return tok + "x"
	}
	return string(b)
}

func random() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // crypto/rand never fails
	return hex.EncodeToString(b)
}

// Values gives what stands for {placeholders} of a sample: those of the
// identity as, or of the first identity that has them all. {refresh} and
// {access} are those of a session opened for this request alone.
func (k *Keyring) Values(ctx context.Context, as string, need []string) (map[string]string, error) {
	if len(need) == 0 {
		return k.values(nil), nil
	}
	ids := k.doc.Identities
	if id := k.doc.IdentityNamed(as); id != nil {
		ids = append([]*declaration.Identity{id}, ids...)
	}
	have := k.values(nil)
	for _, id := range ids {
		for _, c := range id.Credentials {
			s := k.doc.SchemeNamed(c.Scheme.Name)
			ok := s != nil
			for _, n := range need {
				_, given := c.Fill[n]
				_, known := have[n]
				session := (n == "refresh" || n == "access") && ok && s.Login != nil && s.Login.Take[n] != ""
				ok = ok && (given || known || session)
			}
			if !ok {
				continue
			}
			fill, err := k.fill(id.Name, c.Scheme.Name)
			if err != nil {
				return nil, err
			}
			if slices.Contains(need, "refresh") || slices.Contains(need, "access") {
				a, r, _, err := k.obtain(ctx, s.Login, fill)
				if err != nil {
					return nil, err
				}
				fill["access"], fill["refresh"] = a, r
			}
			return k.values(fill), nil
		}
	}
	return nil, fmt.Errorf("%w: no identity has values for {%s}", ErrCredential, strings.Join(need, "}, {"))
}

// WrongSecret gives the login values of an identity with every secret
// replaced by another text.
func (k *Keyring) WrongSecret(identity, scheme string) (map[string]string, error) {
	id := k.doc.IdentityNamed(identity)
	fill, err := k.fill(identity, scheme)
	if err != nil {
		return nil, err
	}
	for _, c := range id.Credentials {
		if c.Scheme.Name == scheme {
			for n, v := range c.Fill {
				if v.Secret() || n == "password" || n == "client_secret" {
					fill[n] = "wrong-" + random()[:16]
				}
			}
		}
	}
	return k.values(fill), nil
}

// FillBody puts values in place of {placeholders}, escaped as the content
// type asks.
func FillBody(body []byte, contentType string, values map[string]string) []byte {
	switch {
	case strings.Contains(contentType, "json"):
		return []byte(fillText(string(body), values, jsonEscape))
	case strings.Contains(contentType, "urlencoded"):
		return []byte(fillText(string(body), values, url.QueryEscape))
	}
	return []byte(fillText(string(body), values, same))
}
