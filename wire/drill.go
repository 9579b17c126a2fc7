package wire

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/probe"
	"millgate/core/session"
)

// Drill is a session drill as it is run: who, with what, and how it is seen
// that the session works.
type Drill struct {
	Identity  string
	Neighbour string // whose refresh token is tried at the logout; "" leaves that out
	Scheme    *declaration.Scheme
	Use       Outgoing // without a credential
	Admitted  func(check.Exchange) bool
	Wait      time.Duration // at most, for an ended credential to be refused
}

// poll is how often an ended credential is tried.
const poll = 250 * time.Millisecond

// drilling is a drill under way.
type drilling struct {
	Drill
	k     *Keyring
	fill  map[string]string
	begun time.Time
	out   session.Drilled
	sent  []check.Exchange
}

// Drill runs one. The exchanges are masked and stand beside the steps. The
// error is that of a first login that failed, or of the context.
func (k *Keyring) Drill(ctx context.Context, x Drill) (session.Drilled, []check.Exchange, error) {
	fill, err := k.fill(x.Identity, x.Scheme.Name)
	if err != nil {
		return session.Drilled{}, nil, err
	}
	d := &drilling{Drill: x, k: k, fill: fill, begun: k.now()}
	for _, part := range []func(context.Context) error{d.first, d.second, d.other} {
		if err := part(ctx); err != nil {
			return d.out, d.sent, err
		}
	}
	return d.out, d.sent, nil
}

// step sends one request and keeps what came of it.
func (d *drilling) step(ctx context.Context, name string, o Outgoing, worked func(raw) bool) (raw, error) {
	at := d.k.now().Sub(d.begun)
	r, err := d.k.patient(ctx, o)
	if err != nil {
		return r, err
	}
	s := session.Step{Name: name, At: at.Round(time.Millisecond), Status: r.Status, Worked: worked(r)}
	d.out.Steps = append(d.out.Steps, s)
	d.sent = append(d.sent, d.k.client.masked(r))
	return r, nil
}

// grant sends a login or a renewal; a credential that it does not give is an
// empty one.
func (d *drilling) grant(ctx context.Context, name string, q *declaration.Request, refresh string) (granted, error) {
	values := d.k.values(d.fill)
	values["refresh"] = refresh
	var g granted
	r, err := d.step(ctx, name, FillRequest(q, values), func(r raw) bool {
		var err error
		g, err = d.k.taken(d.Scheme, q, r)
		return err == nil
	})
	if err != nil {
		return g, err
	}
	if name == session.LogIn {
		if _, err := d.k.taken(d.Scheme, q, r); err != nil {
			return g, err
		}
		d.lives(g, r)
	}
	return g, nil
}

// lives notes how long the credentials say that they live.
func (d *drilling) lives(g granted, r raw) {
	seconds := func(pointer string) time.Duration {
		n, _ := check.Pointer(r.content, pointer)
		t, err := time.ParseDuration(n + "s")
		if err != nil {
			return 0
		}
		return t
	}
	d.out.Said, d.out.Idle = seconds("/expires_in"), seconds("/refresh_expires_in")
	end := jwtExpiry(g.access)
	if g.cookie != nil {
		end = cookieEnd(g.cookie, d.k.now())
	}
	if !end.IsZero() {
		d.out.Life = end.Sub(d.k.now()).Round(time.Second)
	}
}

func (d *drilling) use(ctx context.Context, name, access string) (bool, error) {
	o := d.Use
	o.Headers = slices.Clone(o.Headers)
	attach(&o, d.Scheme, access)
	works := false
	_, err := d.step(ctx, name, o, func(r raw) bool {
		works = d.Admitted(d.k.client.masked(r))
		return works
	})
	return works, err
}

// ask asks the issuer whether a token is active (RFC 7662 section 2).
func (d *drilling) ask(ctx context.Context, name, access string) error {
	q := d.Scheme.Introspect
	if q == nil {
		return nil
	}
	o, err := d.k.introspection(d.Scheme, access)
	if err != nil {
		return err
	}
	r, err := d.step(ctx, name, o, func(r raw) bool {
		active, _ := check.Pointer(r.content, "/active")
		return r.Status == 200 && active == "true"
	})
	if err == nil && d.out.Life == 0 {
		if n, ok := check.Pointer(r.content, "/exp"); ok {
			if t, perr := time.ParseDuration(n + "s"); perr == nil {
				d.out.Life = time.Unix(int64(t.Seconds()), 0).Sub(d.k.now()).Round(time.Second)
			}
		}
	}
	return err
}

func rotated(from, to granted) bool { return to.refresh != "" && to.refresh != from.refresh }

func ok2xx(r raw) bool { return r.Status >= 200 && r.Status < 300 }

// first opens a session, renews it, ends it and tries what is left of it.
func (d *drilling) first(ctx context.Context) error {
	s := d.Scheme
	g, err := d.grant(ctx, session.LogIn, s.Login, "")
	if err != nil {
		return err
	}
	if _, err := d.use(ctx, session.Use, g.access); err != nil {
		return err
	}
	if err := d.ask(ctx, session.AskIssuer, g.access); err != nil {
		return err
	}
	if s.Refresh != nil && g.refresh != "" {
		next, err := d.grant(ctx, session.Refresh, s.Refresh, g.refresh)
		if err != nil {
			return err
		}
		d.out.Rotated = rotated(g, next)
		if next.access != "" {
			if next.refresh == "" {
				next.refresh = g.refresh
			}
			g = next
			if _, err := d.use(ctx, session.UseRenewed, g.access); err != nil {
				return err
			}
		}
	}
	if s.Logout == nil {
		return nil
	}
	if err := d.logOutNobody(ctx); err != nil {
		return err
	}
	var ended bool
	if _, err := d.step(ctx, session.LogOut, d.k.logout(s, d.fill, g), func(r raw) bool {
		ended = ok2xx(r) || r.Status/100 == 3 && s.Kind == declaration.Cookie
		return ended
	}); err != nil || !ended {
		return err
	}
	return d.afterwards(ctx, g)
}

// afterwards tries what a logout should have ended.
func (d *drilling) afterwards(ctx context.Context, g granted) error {
	ended := d.k.now()
	for {
		works, err := d.use(ctx, session.UseAfterLogout, g.access)
		if err != nil {
			return err
		}
		d.out.Waited = d.k.now().Sub(ended).Round(time.Millisecond)
		if works {
			d.out.After = d.out.Waited
		}
		if !works || d.out.Waited >= d.Wait {
			d.out.Outlived = works
			break
		}
		// Only the first and the last of the tries are told.
		if n := len(d.out.Steps); d.out.Steps[n-2].Name == session.UseAfterLogout {
			d.out.Steps, d.sent = slices.Delete(d.out.Steps, n-1, n), slices.Delete(d.sent, n-1, n)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(poll):
		}
	}
	if err := d.ask(ctx, session.AskIssuerAfter, g.access); err != nil {
		return err
	}
	if d.Scheme.Refresh != nil && g.refresh != "" {
		if _, err := d.grant(ctx, session.RefreshAfterLogout, d.Scheme.Refresh, g.refresh); err != nil {
			return err
		}
	}
	_, err := d.step(ctx, session.LogOutAgain, d.k.logout(d.Scheme, d.fill, g), ok2xx)
	return err
}

// logOutNobody sends a logout without anything that names a session. It is
// only tried where the body names one: without a credential the route's own
// guard is what answers.
func (d *drilling) logOutNobody(ctx context.Context) error {
	q := *d.Scheme.Logout
	if !slices.Contains(q.Placeholders(), "refresh") || access.Guarded(d.k.doc, &q) {
		return nil
	}
	q.JSON = check.WithoutMembers(q.JSON, "json", []string{"refresh", "access"})
	q.Form = slices.DeleteFunc(slices.Clone(q.Form), func(kv [2]string) bool { return kv[1] == "{refresh}" || kv[1] == "{access}" })
	_, err := d.step(ctx, session.LogOutNobody, FillRequest(&q, d.k.values(d.fill)), ok2xx)
	return err
}

// second opens a session and uses one of its refresh tokens twice.
func (d *drilling) second(ctx context.Context) error {
	if d.Scheme.Refresh == nil {
		return nil
	}
	g, err := d.grant(ctx, session.LogInAgain, d.Scheme.Login, "")
	if err != nil || g.refresh == "" {
		return err
	}
	next, err := d.grant(ctx, session.RefreshAgain, d.Scheme.Refresh, g.refresh)
	if err != nil || next.access == "" {
		return err
	}
	d.out.Rotated = d.out.Rotated || rotated(g, next)
	if _, err := d.grant(ctx, session.OldRefresh, d.Scheme.Refresh, g.refresh); err != nil {
		return err
	}
	if next.refresh == "" {
		return nil
	}
	_, err = d.grant(ctx, session.RefreshAfterReuse, d.Scheme.Refresh, next.refresh)
	return err
}

// other logs out as the identity with the refresh token of a neighbour, where
// a logout needs both, and looks whether the neighbour's session is over.
func (d *drilling) other(ctx context.Context) error {
	s := d.Scheme
	if d.Neighbour == "" || s.Logout == nil || s.Refresh == nil {
		return nil
	}
	theirs, err := d.k.fill(d.Neighbour, s.Name)
	if err != nil {
		return nil // the neighbour has no credential at hand: nothing to try
	}
	mine, err := d.k.obtain(ctx, s, s.Login, d.fill)
	if err != nil {
		return dropped(ctx, err)
	}
	g, err := d.k.obtain(ctx, s, s.Login, theirs)
	if err != nil || g.refresh == "" {
		return dropped(ctx, err)
	}
	o := d.k.logout(s, d.fill, granted{access: mine.access, refresh: g.refresh})
	if _, err := d.step(ctx, session.LogOutOther, o, ok2xx); err != nil {
		return err
	}
	_, err = d.grant(ctx, session.NeighbourRefresh, s.Refresh, g.refresh)
	return err
}

// dropped is the error of a cancelled context; others end only this part.
func dropped(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return fmt.Errorf("the drill was stopped: %w", errors.Join(ctx.Err(), err))
	}
	return nil
}

// Introspect asks the issuer of a scheme's tokens about one (RFC 7662). The
// answer is not masked.
func (k *Keyring) Introspect(ctx context.Context, s *declaration.Scheme, token string) ([]byte, error) {
	o, err := k.introspection(s, token)
	if err != nil {
		return nil, err
	}
	k.client.mask.Learn(mask.Token, token)
	r, err := k.patient(ctx, o)
	switch {
	case err != nil:
		return nil, err
	case r.Status == 0:
		return nil, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	case r.Status != 200:
		return nil, fmt.Errorf("the issuer answered %d when it was asked about the token", r.Status)
	}
	return r.content, nil
}

// introspection is the request that asks the issuer about a token.
func (k *Keyring) introspection(s *declaration.Scheme, token string) (Outgoing, error) {
	values := k.values(map[string]string{"token": token})
	if id := k.doc.IdentityNamed(s.IntrospectAs.Name); id != nil {
		for _, c := range id.Credentials {
			fill, err := k.fill(id.Name, c.Scheme.Name)
			if err != nil {
				return Outgoing{}, err
			}
			for n, v := range fill {
				values[n] = v
			}
		}
		values["token"] = token
	}
	return FillRequest(s.Introspect, values), nil
}

// TimeLogins sends pairs of logins with a wrong secret, with a known and an
// unknown name in turn, and says how long each took. The first pair opens the
// connection and does not count.
func (k *Keyring) TimeLogins(ctx context.Context, identity string, s *declaration.Scheme, pairs int) (known, unknown []time.Duration, err error) {
	for i := 0; i <= pairs; i++ {
		for _, way := range []string{"", probe.NameUnknown} {
			w, err := k.WrongLogin(identity, s.Name, way)
			if err != nil {
				return nil, nil, err
			}
			r, err := k.client.send(ctx, w.Outgoing)
			switch {
			case err != nil:
				return nil, nil, err
			case r.Status == 429:
				return nil, nil, fmt.Errorf("the service throttles logins (429) after %d; wait, and compare again", 2*i)
			case r.Status == 0:
				return nil, nil, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
			case i == 0:
			case way == "":
				known = append(known, r.Took)
			default:
				unknown = append(unknown, r.Took)
			}
		}
	}
	return known, unknown, nil
}
