package tokens

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/format/curl"
)

// MintQuery asks for a test token.
type MintQuery struct {
	Identity, Scheme, Target string
	Key                      string // a private JWK, PEM, or a secret for HMAC, never stored; "" is the declared one
	Life                     time.Duration
	Set                      map[string]any // claims that are set beside; nil takes one away
}

// Minted is a test token, and how it is presented.
type Minted struct {
	Token  string
	Header string        // the field that presents it: "Authorization: Bearer …"
	Curl   string        // a command that asks for something it opens, where that is known
	Life   time.Duration // 0 is for ever
	Warns  string        // what is unwise about it, "" without
}

// ReadClaims reads the claims that are to be set beside: a JSON object, or nothing. The error says
// where it cannot be read.
func ReadClaims(text string) (map[string]any, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	var set map[string]any
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	err := d.Decode(&set)
	at := d.InputOffset()
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &syntax):
		at = syntax.Offset
	case errors.Is(err, io.ErrUnexpectedEOF):
		at, err = int64(len(text)), errors.New("it ends in the middle")
	case err == nil && set == nil:
		err = errors.New("null is no object")
	case err == nil:
		if _, err = d.Token(); errors.Is(err, io.EOF) {
			return set, nil
		}
		err = errors.New("there is more behind the object")
	}
	before := text[:min(int(at), len(text))]
	line := strings.Count(before, "\n") + 1
	return nil,
		fmt.Errorf("%w: claims, line %d, column %d: %w; write for example {\"scope\": \"frames:read\", \"nbf\": null}",
			fault.ErrInput, line, utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]), err)
}

// MintToken makes a test token for an identity with the key that the user gives, or with the
// signing key that the scheme declares.
func (tk *Tokens) MintToken(ctx context.Context, q MintQuery) (m Minted, err error) {
	d, t, err := tk.lookAt(q.Target)
	if err != nil {
		return m, err
	}
	id := d.IdentityNamed(q.Identity)
	if id == nil {
		return m, fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, q.Identity)
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
		return m, fmt.Errorf("%w: %s has no scheme with signed tokens", fault.ErrInput, q.Identity)
	}
	k, err := tk.signingKey(ctx, q.Key, s)
	if err != nil {
		return m, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	most := time.Duration(0)
	if l := d.LifetimeNamed(s.Lifetime["access"].Name); l != nil {
		most = l.Max
	}
	if q.Life == 0 {
		q.Life = cmp.Or(most, 5*time.Minute)
	}
	claims := claimsOf(t, id, s, q.Life)
	for n, v := range q.Set {
		if v == nil {
			delete(claims, n)
		} else {
			claims[n] = v
		}
	}
	if m.Token, err = k.Mint(rand.Reader, cmp.Or(s.Typ, "at+jwt"), claims); err != nil {
		return m, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	value := "Bearer " + m.Token
	m.Life, m.Header = lives(claims), "Authorization: "+value
	switch {
	case m.Life == 0:
		m.Warns = "It never ends. Whoever finds it can use it for ever."
	case most > 0 && m.Life > most:
		m.Warns = fmt.Sprintf("It lives %s, at most %s is declared. Whoever finds it can use it that long.",
			token.Say(m.Life), token.Say(most))
	case m.Life > token.Months:
		m.Warns = fmt.Sprintf("It lives %s. A test token that lives for months is a finding wherever it turns up: "+
			"lives-long.", token.Say(m.Life))
	}
	if t != nil {
		m.Curl = curl.Get(t, "Authorization", value, opened(d, t, id, s))
	}
	return m, nil
}

// claimsOf are the claims that an identity's token has by the declaration.
func claimsOf(t *declaration.Target, id *declaration.Identity, s *declaration.Scheme,
	life time.Duration) map[string]any {
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
		"test-"+hex.EncodeToString(b), time.Now(), life)
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
	return claims
}

// signingKey is the key that is given, or the declared one.
func (tk *Tokens) signingKey(ctx context.Context, given string, s *declaration.Scheme) (*token.SigningKey, error) {
	if strings.TrimSpace(given) == "" {
		if s.SigningKey == (declaration.Value{}) {
			return nil, fmt.Errorf("%s declares no signing_key; give one", s.Name)
		}
		var err error
		if given, err = tk.ws.Secret(ctx, s.SigningKey); err != nil {
			return nil, err
		}
	}
	return token.ReadSigningKey([]byte(given), s.Algorithms)
}

// lives is how long claims let a token live, 0 for ever.
func lives(claims map[string]any) time.Duration {
	end, ok := seconds(claims["exp"])
	if !ok {
		return 0
	}
	begin, ok := seconds(claims["iat"])
	if !ok {
		begin = float64(time.Now().Unix())
	}
	return time.Duration(end-begin) * time.Second
}

func seconds(v any) (float64, bool) {
	text := fmt.Sprint(v)
	f, err := strconv.ParseFloat(text, 64)
	return f, err == nil
}

// opened is an address that a caller can ask for with a scheme: the first route without parameters
// that admits it, or the target's own.
func opened(d *declaration.Document, t *declaration.Target, id *declaration.Identity, s *declaration.Scheme) string {
	who := access.Caller{Identity: id, State: access.Sound}
	for i, rt := range d.Routes {
		if rt.Host == "" && !rt.Unsafe() && len(rt.Parameters()) == 0 && slices.Contains(d.Accepted(d.Entry(i)), s) &&
			access.Decide(d, i, who).Outcome == access.Admit {
			return strings.TrimSuffix(t.Base, "/") + rt.Path()
		}
	}
	return t.Base
}
