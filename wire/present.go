package wire

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/mask"
)

// Present adds the identity's sound credential to a request, which must be
// complete: a signature covers it.
func (k *Keyring) Present(ctx context.Context, o *Outgoing, identity, scheme string) (epoch int, err error) {
	s := k.doc.SchemeNamed(scheme)
	if s == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, scheme)
	}
	if s.Kind == declaration.Link { // it is the whole request
		fill, err := k.fill(identity, s.Name)
		if err != nil {
			return 0, err
		}
		a, err := k.link(ctx, s, identity, fill, o.Params)
		if err != nil {
			return 0, err
		}
		return 0, k.follow(o, s, a)
	}
	value, epoch, err := k.value(ctx, identity, s)
	if err != nil {
		return epoch, err
	}
	k.client.mask.Learn(mask.Token, value)
	if s.Kind == declaration.Signature {
		return epoch, k.sign(o, s, value, time.Time{})
	}
	attach(o, s, value)
	return epoch, nil
}

// PresentFresh adds the credential of a session that is opened for this
// request alone.
func (k *Keyring) PresentFresh(ctx context.Context, o *Outgoing, identity string, s *declaration.Scheme) error {
	fill, err := k.fill(identity, s.Name)
	if err != nil {
		return err
	}
	g, err := k.obtain(ctx, s, s.Login, fill)
	if err != nil {
		return err
	}
	attach(o, s, g.access)
	return nil
}

// value is what the identity presents for a scheme: a token, a key, a cookie's
// value, the text behind Basic (RFC 7617 section 2), or the secret that a request is signed
// with. A link is none.
func (k *Keyring) value(ctx context.Context, identity string, s *declaration.Scheme) (value string,
	epoch int, err error) {
	if s.Kind == declaration.Bearer || s.Kind == declaration.Cookie {
		return k.Token(ctx, identity, s.Name)
	}
	fill, err := k.fill(identity, s.Name)
	if err != nil {
		return "", 0, err
	}
	switch s.Kind {
	case declaration.Basic:
		return basic(fill["username"], fill["password"]), 0, nil
	case declaration.Signature:
		return fill["secret"], 0, nil
	case declaration.Link:
		return "", 0, fmt.Errorf("%w: a link is no text that stands elsewhere", ErrCredential)
	default:
	}
	return fill["key"], 0, nil
}

func basic(user, password string) string {
	return base64.StdEncoding.EncodeToString([]byte(user + ":" + password))
}

// attach puts the value of a credential where its scheme has it.
func attach(o *Outgoing, s *declaration.Scheme, value string) {
	header := func(name, v string) { o.Headers = append(o.Headers, [2]string{name, v}) }
	switch {
	case s.Kind == declaration.Bearer:
		header("Authorization", "Bearer "+value)
	case s.Kind == declaration.Basic:
		header("Authorization", "Basic "+value)
	case s.Kind == declaration.Cookie || s.In == "cookie":
		header("Cookie", s.Field+"="+value)
	case s.Kind == declaration.Signature:
		if s.Signing.Timestamp != "" && !o.Headers.Has(s.Signing.Timestamp) {
			header(s.Signing.Timestamp, strconv.FormatInt(time.Now().Unix(), 10))
		}
		header(s.Field, value)
	case s.Kind == declaration.Link:
		addQuery(o, value)
	case s.In == "query":
		addQuery(o, url.QueryEscape(s.Field)+"="+url.QueryEscape(value))
	default:
		header(s.Field, value)
	}
}

func addQuery(o *Outgoing, q string) {
	o.Query = strings.Join(slices.DeleteFunc([]string{o.Query, q}, func(x string) bool { return x == "" }), "&")
}

// sign signs a request (HMAC, RFC 2104). at is the time it bears; zero is now,
// or a moment before when the same bytes were signed already: a service that
// remembers signatures would take the second for a repetition.
func (k *Keyring) sign(o *Outgoing, s *declaration.Scheme, secret string, at time.Time) error {
	now := at
	if at.IsZero() {
		now = k.now()
	}
	made := map[string]func() hash.Hash{"hmac-sha256": sha256.New, "hmac-sha512": sha512.New}[s.Signing.Algorithm]
	if made == nil {
		return fmt.Errorf("%w: the algorithm %q is not known", ErrCredential, s.Signing.Algorithm)
	}
	base := ""
	if b := k.client.bases[o.Host]; b != nil {
		base = strings.TrimRight(b.EscapedPath(), "/")
	}
	for {
		stamp := strconv.FormatInt(now.Unix(), 10)
		text := strings.NewReplacer("{timestamp}", stamp, "{method}", o.Method, "{path}", base+o.Path, "{query}",
			o.Query, "{body}", string(o.Body)).Replace(s.Signing.Covers)
		m := hmac.New(made, []byte(secret))
		m.Write([]byte(text))
		value := s.Signing.Prefix + hex.EncodeToString(m.Sum(nil))
		if s.Signing.Encoding == "base64" {
			value = s.Signing.Prefix + base64.StdEncoding.EncodeToString(m.Sum(nil))
		}
		k.mu.Lock()
		again := k.signed[value] && s.Signing.Timestamp != "" && at.IsZero()
		k.signed[value] = true
		k.mu.Unlock()
		if again {
			now = now.Add(-time.Second)
			continue
		}
		k.client.mask.Learn(mask.Token, value)
		if s.Signing.Timestamp != "" {
			o.Headers = append(o.Headers, [2]string{s.Signing.Timestamp, stamp})
		}
		attach(o, s, value)
		return nil
	}
}

// Cookie is how the identity's session cookie was set; nil without a login.
func (k *Keyring) Cookie(ctx context.Context, identity, scheme string) (*Cookie, error) {
	if _, _, err := k.Token(ctx, identity, scheme); err != nil {
		return nil, err
	}
	h := k.slot(identity, scheme)
	if err := h.lock(ctx); err != nil {
		return nil, err
	}
	defer h.unlock()
	if h.cookie == nil {
		return nil, nil
	}
	c := h.cookie
	same := map[int]string{2: "lax", 3: "strict", 4: "none"}[int(c.SameSite)]
	out := &Cookie{Path: c.Path, Domain: c.Domain, HTTPOnly: c.HttpOnly, Secure: c.Secure, SameSite: same}
	if end := cookieEnd(c, k.now()); !end.IsZero() {
		out.Life = end.Sub(k.now()).Round(time.Second)
	}
	return out, nil
}

// Cookie is how a session cookie was set, without its value (RFC 6265 section
// 4.1.2; SameSite: RFC 6265bis section 5.6.7). Life is 0 when it lasts as long
// as the browser.
type Cookie struct {
	Path     string        `json:"path"`
	Domain   string        `json:"domain,omitempty"`
	HTTPOnly bool          `json:"httpOnly"`
	Secure   bool          `json:"secure"`
	SameSite string        `json:"sameSite"` // strict, lax, none; "" when it is not said
	Life     time.Duration `json:"life"`
}

// PresentBroken adds a credential that does not verify: a real one with its
// signature altered where one can be had, a made-up one otherwise.
func (k *Keyring) PresentBroken(ctx context.Context, o *Outgoing, scheme string) error {
	s := k.doc.SchemeNamed(scheme)
	if s == nil {
		return fmt.Errorf("%w: there is no scheme %q", ErrCredential, scheme)
	}
	holder := ""
	if id := k.doc.Holder(scheme); id != nil {
		holder = id.Name
	}
	value := k.madeUp(scheme)
	switch {
	case s.Kind == declaration.Signature:
		return k.sign(o, s, value, time.Time{})
	case s.Kind == declaration.Basic:
		user := "nobody"
		if fill, err := k.fill(holder, scheme); err == nil {
			user = fill["username"]
		}
		value = basic(user, value)
	case s.Kind == declaration.Link:
		return k.presentBrokenLink(ctx, o, s, holder, value)
	case s.Kind == declaration.Bearer && s.Token == "jwt" && holder != "":
		if tok, _, err := k.Token(ctx, holder, scheme); err == nil {
			value = alter(tok)
		} else if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	k.client.mask.Learn(mask.Token, value)
	attach(o, s, value)
	return nil
}

// madeUp is a value of a scheme that nobody was given: the same one each time, so that a
// sweep does not learn thousands.
func (k *Keyring) madeUp(scheme string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	v, ok := k.invented[scheme]
	if !ok {
		v = random()
		k.invented[scheme] = v
	}
	return v
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
