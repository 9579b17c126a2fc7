package callers

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/wire"
)

// Tried is what a credential came to at a target.
type Tried struct {
	State    State
	Why      string
	At, Ends time.Time
	Request  string // what was asked, in words
	Exchange *check.Exchange
	// Takes are the names that the login takes, with their pointers, and whether the answer has them.
	Takes []Take
	// Token is what was read of a token on the spot; nil where there is none.
	Token *check.Given
	// Offers are what the token says and the declaration does not.
	Offers []Offer
}

// Take is something that a login takes from its answer.
type Take struct {
	Name    string
	Pointer string
	There   bool
}

// Try logs in with a credential, or sends it with a safe read where it needs no login, by a text that may not be kept
// yet. What it gets is let go of at once.
func (c *Callers) Try(ctx context.Context, target, text, identity, scheme string) (Tried, error) {
	now := c.ws.Present()
	d := now.Doc
	if text != "" {
		var msgs []declaration.Message
		if d, msgs = c.ws.Parse(text); declaration.Failed(msgs) {
			return Tried{}, fmt.Errorf("%w: mend the marked lines first", fault.ErrInvalid)
		}
	}
	t, id, s := d.TargetNamed(target), d.IdentityNamed(identity), d.SchemeNamed(scheme)
	switch {
	case t == nil:
		return Tried{}, fmt.Errorf("%w: there is no target %q", fault.ErrNotFound, target)
	case id == nil:
		return Tried{}, fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, identity)
	case s == nil || id.Credential(scheme) == nil:
		return Tried{}, fmt.Errorf("%w: %s has no credential for %q", fault.ErrInput, identity, scheme)
	}
	if s.Kind == declaration.Link {
		return Tried{State: Never, Why: "a link is given out where it is used, and what it does happens",
			At: time.Now()}, nil
	}
	client, keys, err := c.ws.Connect(ctx, d, t)
	if err != nil {
		return Tried{}, err
	}
	defer client.Close()
	out := Tried{At: time.Now()}
	for _, v := range id.Credential(scheme).Fill {
		if _, err := c.ws.Secret(ctx, v); v.Secret() && err != nil {
			out.State, out.Why = Missing, err.Error()
			return c.keep(target, identity, scheme, out), nil
		}
	}
	if err := client.Reach(ctx); err != nil {
		return Tried{}, err
	}
	x := &trying{c: &check.Context{Doc: d, Target: t}, who: check.Caller{Identity: identity, Scheme: scheme,
		State: access.Sound}, s: s}
	fact, err := wire.Runner{Keys: keys, Public: func(s *declaration.Scheme) (k token.Keys) {
		k, _ = c.ws.KeysOf(ctx, d, t, s)
		return k
	}}.Run(ctx, check.Tell(x.script))
	if err != nil && len(fact.Reports) == 0 && !errors.Is(err, wire.ErrCredential) {
		return Tried{}, err
	}
	x.read(&out, fact, err)
	if out.Token != nil && out.Token.Shown != nil {
		out.Offers = offers(d, id, s, out.Token.Shown.Token())
	}
	return c.keep(target, identity, scheme, out), nil
}

// keep remembers how a credential fared, as long as the process lives.
func (c *Callers) keep(target, identity, scheme string, t Tried) Tried {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.tried[credential{target, identity, scheme}] = t
	return t
}

type trying struct {
	c   *check.Context
	who check.Caller
	s   *declaration.Scheme
}

const theLogin, theLook = "the login", "what it gave"

// script logs in and looks at what was given; without a login it presents the credential to a safe read.
func (x *trying) script(t *check.Telling) {
	if x.s.Login != nil {
		call := check.Look{Name: theLogin, Caller: x.who}.Call(x.c)
		for n, at := range x.s.Login.Take {
			call.Take = append(call.Take, check.Take{Slot: n, At: string(at)})
		}
		if x.s.Kind == declaration.Cookie {
			call.Take = append(call.Take, check.Take{Slot: x.s.Field, From: check.FromCookie, At: x.s.Field})
		}
		r := t.One(*call)
		if x.s.Kind == declaration.Bearer && r.Took["access"] != "" {
			t.Keep(t.Look(check.Look{Name: theLook, Caller: x.who}))
		}
		return
	}
	if i := x.asks(); i >= 0 {
		rt := x.c.Doc.Routes[i]
		p := &check.Probe{ID: check.ID{Route: rt.Key(), Caller: x.who}}
		t.One(check.Call{Name: theLogin, Request: check.RequestOf(x.c, p, i, rt.Path(), rt.Send.Path).WithBody(x.c, i),
			As: check.Bears(x.c, p), Effect: check.Safe})
	}
}

// asks is the safe read that a credential is presented to: one that it opens by the declaration, or else one of which
// nobody has decided; -1 without.
func (x *trying) asks() int {
	d, undecided := x.c.Doc, -1
	id := d.IdentityNamed(x.who.Identity)
	for i, rt := range d.Routes {
		if rt.Unsafe() || rt.Effect != declaration.Read || len(rt.Parameters()) > len(rt.Send.Path) {
			continue
		}
		switch {
		case access.IsUndecided(d, i) && undecided < 0:
			undecided = i
		case !access.IsUndecided(d, i) && !access.Open(d, i) &&
			access.Decide(d, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit:
			return i
		}
	}
	return undecided
}

// read says what came of it.
func (x *trying) read(out *Tried, fact check.Fact, err error) {
	for i, r := range fact.Reports {
		switch r.Name {
		case theLogin:
			out.Exchange = &fact.Reports[i].Exchange
			out.Request = r.Exchange.Method + " " + r.Exchange.URL + " as " + x.who.Identity
			switch class := r.Class(x.c.Doc.Answers); {
			case r.Fate != check.Answered:
				out.State, out.Why = Refused, "there was no answer: "+r.Why+r.Exchange.Error
			case class == check.Admitted:
				out.State = Obtained
			default:
				out.State, out.Why = Refused, fmt.Sprintf("%s %d", class, r.Exchange.Status)
			}
		case theLook:
			if out.Token = r.Given; r.Given == nil && r.Why != "" {
				out.State, out.Why = Refused, r.Why
			}
		}
	}
	if out.Exchange == nil {
		out.State, out.Why = Never, "no safe read is declared that it could be presented to"
		if err != nil {
			out.State, out.Why = Refused, err.Error()
		}
		return
	}
	x.takes(out)
	hideIn(out.Exchange)
}

// longest is how long a text of an answer may be that is shown: what is longer, and is no words, may be a credential of
// which nobody has said yet that it is one.
const longest = 15

// hideIn takes what may be a credential out of the answer of a login; its members stay to be named.
func hideIn(x *check.Exchange) {
	var body any
	if json.Unmarshal([]byte(x.Content), &body) != nil {
		return
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(hidden(body)) == nil {
		x.Content = strings.TrimRight(b.String(), "\n")
	}
}

func hidden(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for n, m := range v {
			v[n] = hidden(m)
		}
	case []any:
		for i, m := range v {
			v[i] = hidden(m)
		}
	case string:
		if len(v) > longest && !strings.ContainsAny(v, " \n‹") {
			return fmt.Sprintf("‹%d characters›", len(v))
		}
	}
	return v
}

// takes says which of what the login takes the answer has, and until when it is good.
func (x *trying) takes(out *Tried) {
	if x.s.Login == nil {
		return
	}
	var body any
	_ = json.Unmarshal([]byte(out.Exchange.Content), &body)
	for _, n := range slices.Sorted(maps.Keys(x.s.Login.Take)) {
		p := x.s.Login.Take[n]
		_, there := p.In(body)
		out.Takes = append(out.Takes, Take{Name: n, Pointer: string(p), There: there})
		if !there && out.State == Obtained {
			out.State, out.Why = Refused, fmt.Sprintf("the answer has nothing at %s, where %s is taken", p, n)
		}
	}
	if m, ok := body.(map[string]any); ok && out.State == Obtained {
		if life, ok := m["expires_in"].(float64); ok && life > 0 { // RFC 6749, section 5.1
			out.Ends = out.At.Add(time.Duration(life) * time.Second)
		}
	}
	if out.Token == nil || out.Token.Shown == nil {
		return
	}
	var claims struct{ Exp float64 }
	if json.Unmarshal(out.Token.Shown.Claims, &claims) == nil && claims.Exp > 0 {
		out.Ends = time.Unix(int64(claims.Exp), 0)
	}
}
