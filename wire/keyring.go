package wire

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/mask"
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
	signed map[string]bool // what was signed already, so that nothing is signed twice
	// invented are values of schemes that nobody was given.
	invented map[string]string
	now      func() time.Time
	// Answered is asked about each answer to a login, a renewal, and what goes with
	// them: whether the request is sent again. It waits by itself. nil sends nothing
	// again.
	Answered answered
	// Room waits until the quotas that count a login, or a renewal, have room for it. nil waits
	// for none.
	Room func(ctx context.Context, o Outgoing) error
}

type answered func(ctx context.Context, o Outgoing, x check.Exchange, try int) (again bool, err error)

// held is what one identity holds of one scheme. Who takes turn may wait for a
// login, so that it gives up with its context.
type held struct {
	turn chan struct{}
	granted
	used  time.Time // when it was asked for the last time
	epoch int
	// refused is the error of a login that was answered and gave nothing. It is not
	// tried again: so often a wrong secret would lock the account.
	refused error
}

func (h *held) lock(ctx context.Context) error {
	select {
	case h.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (h *held) unlock() { <-h.turn }

// NewKeyring makes a keyring for one sweep.
func NewKeyring(d *declaration.Document, t *declaration.Target, c *Client, look Secrets) *Keyring {
	k := &Keyring{doc: d, target: t, client: c, look: look, held: map[string]*held{}, signed: map[string]bool{},
		invented: map[string]string{}, now: time.Now}
	if h := t.Pass.Header; h != "" {
		s, err := k.secret(t.Pass.Value)
		if c.pass = [2]string{h, s}; err != nil {
			c.pass, c.passErr = [2]string{}, fmt.Errorf("%w: the pass of target %s, without which its quotas count "+
				"every request: %v", ErrCredential, t.Name, err)
		}
	}
	return k
}

// renewAhead is how long before its end a token is renewed at most; of one that lives shortly it is
// a tenth of its life.
const renewAhead = 30 * time.Second

// good says whether a credential may be presented now: it does not end soon, and was not left
// unused so long that it may have ended by that. A service counts that from when it saw a request,
// so that half of the time is left to it.
func (h *held) good(now time.Time, idle time.Duration) bool {
	if h.access == "" || idle > 0 && now.Sub(h.used) > idle/2 {
		return false
	}
	return h.expires.IsZero() || h.expires.Sub(now) > min(renewAhead, h.expires.Sub(h.since)/10)
}

// idle is after how long a credential of a scheme ends that is not used; 0 where nothing says so.
func (k *Keyring) idle(scheme string) time.Duration {
	if l, _ := k.target.LifetimeOf(k.doc, k.doc.SchemeNamed(scheme), "access"); l != nil {
		return l.Idle
	}
	return 0
}

// Forget lets go of the sessions that are held: who asks for one next logs in anew. A login that
// was refused is remembered.
func (k *Keyring) Forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for key, h := range k.held {
		k.held[key] = &held{turn: make(chan struct{}, 1), epoch: h.epoch, refused: h.refused}
	}
}

func (k *Keyring) slot(identity, scheme string) *held {
	k.mu.Lock()
	defer k.mu.Unlock()
	key := identity + "\x00" + scheme
	h := k.held[key]
	if h == nil {
		h = &held{turn: make(chan struct{}, 1)}
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
	c := id.Credential(scheme)
	if c == nil {
		return nil, fmt.Errorf("%w: %s has none for %s", ErrCredential, identity, scheme)
	}
	out := map[string]string{}
	for n, v := range c.Fill {
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
	k.client.mask.Learn(mask.Secret, s)
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

// fillText puts values in place of {names}, once: what a value holds is not filled
// again, and a name without one stays.
func fillText(text string, values map[string]string, escape func(string) string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	var b strings.Builder
	for before, name := range check.Names(text) {
		b.WriteString(before)
		if v, ok := values[name]; ok {
			b.WriteString(escape(v))
		} else if name != "" {
			b.WriteString("{" + name + "}")
		}
	}
	return b.String()
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

// granted is what a login or renewal gave.
type granted struct {
	access, refresh string
	since, expires  time.Time // expires is zero when unknown
	cookie          *http.Cookie
}

// patient sends a request of a session, and again as Answered says.
func (k *Keyring) patient(ctx context.Context, o Outgoing) (raw, error) {
	if k.Room != nil {
		if err := k.Room(ctx, o); err != nil {
			return raw{}, err
		}
	}
	r, _, err := k.patiently(ctx, o, k.Answered)
	return r, err
}

// patiently sends a request again as long as a function says so, and says how often it was
// sent before.
func (k *Keyring) patiently(ctx context.Context, o Outgoing, again answered) (r raw, before int, err error) {
	for try := 0; ; try++ {
		r, err := k.client.send(ctx, o)
		if err != nil || again == nil {
			return r, try, err
		}
		if again, err := again(ctx, o, k.client.masked(r), try); err != nil || !again {
			return r, try, err
		}
	}
}

// obtain sends a login or renewal of a scheme and takes the credential out of
// its answer.
func (k *Keyring) obtain(ctx context.Context, s *declaration.Scheme, q *declaration.Request,
	values map[string]string) (granted, error) {
	r, err := k.patient(ctx, FillRequest(q, k.values(values)))
	if err != nil {
		return granted{}, err
	}
	return k.taken(s, q, r)
}

// taken reads the credential that an answer gives.
func (k *Keyring) taken(s *declaration.Scheme, q *declaration.Request, r raw) (g granted, err error) {
	if r.Status == 0 {
		return g, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	}
	where := "token at " + string(q.Take["access"])
	if s.Kind == declaration.Cookie {
		where = "cookie " + s.Field
		if g.cookie = cookieOf(r.Answer, s.Field); g.cookie != nil {
			g.access, g.expires = g.cookie.Value, cookieEnd(g.cookie, k.now())
		}
	} else {
		g.access, _ = check.Points(r.content, q.Take["access"])
	}
	if r.Status >= 400 || r.Status >= 300 && s.Kind != declaration.Cookie || g.access == "" {
		why := "no " + where + " in the answer"
		if r.Status >= 300 {
			why = "answered " + fmt.Sprint(r.Status)
			if c := k.client.mask.Text(string(r.content)); c != "" {
				why += ": " + cut(c, 200)
			}
		}
		kind := ErrCredential
		if r.Status < 500 && r.Status != 429 {
			kind = errRefused
		}
		return g, fmt.Errorf("%w: %s %s %s", kind, q.Method, q.Path, why)
	}
	k.client.mask.Learn(mask.Token, g.access)
	if g.since = k.now(); s.Kind == declaration.Cookie {
		return g, nil
	}
	if p := q.Take["refresh"]; p != "" {
		if v, ok := check.Points(r.content, p); ok {
			g.refresh = v
			k.client.mask.Learn(mask.Token, v)
		}
	}
	if n, ok := check.Points(r.content, "/expires_in"); ok {
		if d, perr := time.ParseDuration(n + "s"); perr == nil {
			g.expires = k.now().Add(d)
		}
	}
	if e := jwtExpiry(g.access); !e.IsZero() {
		g.expires = e
	}
	return g, nil
}

// cookieOf is the last cookie of a name that an answer sets (RFC 6265 section 4.1).
func cookieOf(headers field.List, name string) (found *http.Cookie) {
	for _, set := range headers.All("Set-Cookie") {
		if c, err := http.ParseSetCookie(set); err == nil && c.Name == name && c.Value != "" {
			found = c
		}
	}
	return found
}

// cookieEnd is when a cookie ends: Max-Age before Expires (RFC 6265 section
// 5.3); zero when it lasts as long as the browser.
func cookieEnd(c *http.Cookie, now time.Time) time.Time {
	if c.MaxAge > 0 {
		return now.Add(time.Duration(c.MaxAge) * time.Second)
	}
	return c.Expires
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
	if err := h.lock(ctx); err != nil {
		return "", 0, err
	}
	defer h.unlock()
	if !h.good(k.now(), k.idle(scheme)) {
		if err := k.renewLocked(ctx, h, identity, scheme); err != nil {
			return "", h.epoch, err
		}
	}
	h.used = k.now()
	return h.access, h.epoch, nil
}

// Dead says whether the credential of an epoch had ended by itself by now, or is another by now: what
// it was answered is no answer to who holds a good one.
func (k *Keyring) Dead(ctx context.Context, identity, scheme string, epoch int) bool {
	h := k.slot(identity, scheme)
	if h.lock(ctx) != nil {
		return false
	}
	defer h.unlock()
	return h.epoch != epoch || !h.expires.IsZero() && !k.now().Before(h.expires)
}

// Renew obtains a new token unless somebody did since epoch.
func (k *Keyring) Renew(ctx context.Context, identity, scheme string, epoch int) error {
	h := k.slot(identity, scheme)
	if err := h.lock(ctx); err != nil {
		return err
	}
	defer h.unlock()
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
		k.client.mask.Learn(mask.Token, h.access)
		return nil
	}
	if h.refresh != "" && s.Refresh != nil {
		fill["refresh"] = h.refresh
		if g, err := k.obtain(ctx, s, s.Refresh, fill); err == nil {
			if g.refresh == "" {
				g.refresh = h.refresh
			}
			h.granted, h.epoch = g, h.epoch+1
			return nil
		}
	}
	if h.refused != nil {
		return h.refused
	}
	g, err := k.obtain(ctx, s, s.Login, fill)
	if err != nil {
		err = fmt.Errorf("%s: %w", identity, err)
		if errors.Is(err, errRefused) {
			h.refused = err
		}
		return err
	}
	h.granted, h.epoch = g, h.epoch+1
	return nil
}

// errRefused is an answer that gives no credential, and would give none the next time.
var errRefused = fmt.Errorf("%w", ErrCredential)

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
				g, err := k.obtain(ctx, s, s.Login, fill)
				if err != nil {
					return nil, err
				}
				fill["access"], fill["refresh"] = g.access, g.refresh
			}
			return k.values(fill), nil
		}
	}
	return nil, fmt.Errorf("%w: no identity has values for {%s}", ErrCredential, strings.Join(need, "}, {"))
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

// Unsound says whether a status says of a call that its credential does not hold: 401, or what is declared in its
// place.
func (k *Keyring) Unsound(c check.Call, status int) bool {
	declared := c.Unsound
	if len(c.As) > 0 && declared == 0 {
		if s := k.doc.SchemeNamed(c.As[0].Scheme); s != nil {
			declared = s.Refuses
		}
	}
	return status == 401 || declared != 0 && status == declared
}
