package review

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/quota"
)

// say durations as people do.
func said(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d >= 2*365*day:
		return fmt.Sprintf("%d years", d/(365*day))
	case d >= 2*day:
		return fmt.Sprintf("%d days", d/day)
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

func tokenTooLong(v *reviewer, c *Check) {
	d := v.d
	type worst struct {
		route int
		bound time.Duration
	}
	by := map[string]worst{} // by scheme
	seen := map[[2]string]bool{}
	for i, rt := range d.Routes {
		e := d.Entry(i)
		if e == nil || v.open(i) {
			continue
		}
		bound := d.Assume.Bearer[rt.Sensitivity]
		k := [2]string{fmt.Sprint(d.Deciding[i]), string(rt.Sensitivity)}
		if seen[k] {
			continue
		}
		seen[k] = true
		for _, s := range d.Accepted(e) {
			l := d.LifetimeNamed(s.Lifetime["access"].Name)
			if l == nil || l.Max <= bound {
				continue
			}
			if w, ok := by[s.Name]; !ok || bound < w.bound {
				by[s.Name] = worst{i, bound}
			}
		}
	}
	for _, s := range d.Schemes {
		w, ok := by[s.Name]
		if !ok {
			continue
		}
		l := d.LifetimeNamed(s.Lifetime["access"].Name)
		rt := d.Routes[w.route]
		v.say(l.Place, len(l.Name), "lifetime "+l.Name, -1, fmt.Sprintf("credentials of %s live %s, longer than %s "+
			"bears (%s sensitivity: %s)", s.Name, said(l.Max), rt.Key(), rt.Sensitivity, said(w.bound)),
			"shorten it, or say what the review may take for granted under `review: { bearer: … }`",
			fixed("Shorten it to "+declaration.ShortDuration(w.bound),
				layout.Edit{Section: "lifetimes", Item: l.Name, Field: []string{"max"},
					Text: declaration.ShortDuration(w.bound)}))
	}
}

func lifetimeMissing(v *reviewer, c *Check) {
	for _, s := range v.d.Schemes {
		if s.Kind != declaration.Bearer && s.Kind != declaration.Cookie && s.Kind != declaration.Link || !v.used(s) {
			continue
		}
		if l := v.d.LifetimeNamed(s.Lifetime["access"].Name); l != nil && l.Max > 0 {
			continue
		}
		name := s.Name
		for v.d.LifetimeNamed(name) != nil {
			name += "-token"
		}
		v.say(s.Place, len(s.Name), "scheme "+s.Name, -1,
			fmt.Sprintf("nothing says how long credentials of %s may live", s.Name),
			"declare a lifetime with a `max`, and name it in the scheme",
			fixed("Let them live 15m", layout.Edit{Section: "lifetimes", Item: name, Text: "{ max: 15m }"},
				layout.Edit{Section: "schemes", Item: s.Name, Field: []string{"lifetime", "access"}, Text: name}))
	}
}

// used says whether an identity or an entry comes with the scheme.
func (v *reviewer) used(s *declaration.Scheme) bool {
	return slices.ContainsFunc(v.d.Identities, func(id *declaration.Identity) bool {
		return id.Credential(s.Name) != nil
	}) || slices.ContainsFunc(v.d.Access, func(e *declaration.Entry) bool {
		return slices.ContainsFunc(e.By, func(b declaration.Ref) bool { return b.Name == s.Name })
	})
}

func schemeUnused(v *reviewer, c *Check) {
	for _, s := range v.d.Schemes {
		if !v.used(s) {
			v.say(s.Place, len(s.Name), "scheme "+s.Name, -1, fmt.Sprintf("nobody uses the scheme %q", s.Name),
				"give an identity a credential for it, or remove it", fixed("Remove the scheme",
					layout.Edit{Section: "schemes", Item: s.Name}))
		}
	}
}

func refreshLoose(v *reviewer, c *Check) {
	for _, s := range v.d.Schemes {
		if s.Refresh == nil {
			continue
		}
		l := v.d.LifetimeNamed(s.Lifetime["refresh"].Name)
		if l == nil {
			v.say(s.Place, len(s.Name), "scheme "+s.Name, -1, fmt.Sprintf("refresh tokens of %s have no declared "+
				"lifetime, rotation or idle limit", s.Name), "declare one, and name it as the scheme's `lifetime: { "+
				"refresh: … }`",
				fixed("Declare one", layout.Edit{Section: "lifetimes", Item: s.Name + "-refresh",
					Text: "{ max: 30d, idle: 12h, rotates: true, reuse: ends-grant }"},
					layout.Edit{Section: "schemes", Item: s.Name, Field: []string{"lifetime", "refresh"},
						Text: s.Name + "-refresh"}))
			continue
		}
		var lacks []string
		var edits []layout.Edit
		if !l.Rotates {
			lacks = append(lacks, "do not rotate")
			edits = append(edits, layout.Edit{Section: "lifetimes", Item: l.Name, Field: []string{"rotates"},
				Text: "true"})
		}
		if l.Idle == 0 {
			lacks = append(lacks, "have no idle limit")
			edits = append(edits, layout.Edit{Section: "lifetimes", Item: l.Name, Field: []string{"idle"},
				Text: "12h"})
		}
		if len(lacks) > 0 {
			v.say(l.Place, len(l.Name), "lifetime "+l.Name, -1, fmt.Sprintf("refresh tokens of %s %s: a stolen one "+
				"works until it ends (%s)", s.Name, strings.Join(lacks, " and "), said(l.Max)),
				"add  rotates: true  and  idle: 12h", fixed("Rotate them and end idle ones", edits...))
		}
	}
}

func endedOutlives(v *reviewer, c *Check) {
	for _, s := range v.d.Schemes {
		l := v.d.LifetimeNamed(s.Lifetime["access"].Name)
		if l == nil || !l.EndedSaid || l.Max <= l.EndedWithin || s.Logout != nil ||
			s.Kind != declaration.Bearer && s.Kind != declaration.Cookie {
			continue
		}
		v.say(l.Place, len(l.Name), "lifetime "+l.Name, -1, fmt.Sprintf("credentials of %s must stop %s after they "+
			"were ended, and nothing ends them: the scheme has no logout, so they work for %s", s.Name,
			said(l.EndedWithin), said(l.Max)),
			"say what ends them under `logout`, or a bound that their lifetime keeps",
			fixed("Write ended_within: "+declaration.ShortDuration(l.Max),
				layout.Edit{Section: "lifetimes", Item: l.Name, Field: []string{"ended_within"},
					Text: declaration.ShortDuration(l.Max)}))
	}
}

// mail are path segments of routes that send something to somebody.
var mail = []string{"email", "e-mail", "mail", "sms", "otp", "password", "reset", "verify", "confirm", "invite",
	"invitations", "magic-link", "forgot"}

func (v *reviewer) sends(i int) bool {
	rt := v.d.Routes[i]
	if rt.Effect == declaration.Read {
		return false
	}
	return slices.ContainsFunc(rt.Segments, func(g routeSegment) bool {
		return !g.Any &&
			slices.Contains(mail, strings.ToLower(g.Literal))
	})
}

func loginNoQuota(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		what := ""
		switch {
		case v.login[i]:
			what = "tries credentials"
		case v.sends(i):
			what = "sends something to somebody"
		case rt.Effect == declaration.Create && v.open(i) && !v.session[i]:
			what = "creates something for anyone"
		}
		if what == "" || len(v.d.QuotasAt[i]) > 0 || v.closed(i) {
			continue
		}
		v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("%s %s, and has no quota", rt.Key(), what),
			"add a quota, counted by address",
			fixed("Let 8 per 5m through", layout.Edit{Section: "quotas", Item: v.quotaName(rt),
				Text: "{ at: " + declaration.Scalar(rt.Key()) + ", allow: 8 per 5m, counted_by: address }"}))
	}
}

func (v *reviewer) quotaName(rt *declaration.Route) string {
	name := "all"
	for _, g := range rt.Segments {
		if !g.Any && g.Literal != "" && !version.MatchString(g.Literal) {
			name = g.Literal
		}
	}
	base := name
	for n := 2; v.d.QuotaNamed(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	return name
}

// guessTime is how long it takes to try n passwords at a route, at the fastest
// pace that all its quotas allow. limited is false when nothing slows it.
func (v *reviewer) guessTime(i, n int) (slowest time.Duration, by *declaration.Quota, limited bool) {
	for _, q := range v.d.QuotasAt[i] {
		u := v.d.Quotas[q]
		for _, a := range u.Allow {
			if t, ok := TimeFor(u, a, n); ok && (!limited || t > slowest) {
				slowest, by, limited = t, u, true
			}
		}
	}
	return slowest, by, limited
}

// TimeFor is the least time in which n calls are let through by one amount of a
// quota, from the first on. ok is false for a limiter that knows no time.
func TimeFor(u *declaration.Quota, a declaration.Amount, n int) (t time.Duration, ok bool) {
	if a.Per <= 0 || a.Count <= 0 || u.Model == declaration.Concurrency {
		return 0, false
	}
	ticks, _ := quota.Of(u, []declaration.Amount{a}).Within(int64(n))
	return quota.Span(ticks), true
}

func passwordGuessable(v *reviewer, c *Check) {
	d := v.d
	for _, s := range d.Schemes {
		i := v.routeOf(s.Login)
		if i < 0 || !slices.ContainsFunc(s.Login.Placeholders(), func(p string) bool {
			return strings.Contains(p, "pass") || strings.Contains(p, "pin") || strings.Contains(p, "code")
		}) {
			continue
		}
		t, by, limited := v.guessTime(i, d.Assume.Guesses)
		if !limited || t >= d.Assume.GuessedIn {
			continue
		}
		perDay := max(1, int(float64(d.Assume.Guesses)/(1+d.Assume.GuessedIn.Hours()/24)))
		var allow []string
		for _, a := range by.Allow {
			if a.Per < 24*time.Hour {
				allow = append(allow, a.String())
			}
		}
		allow = append(allow, fmt.Sprintf("%d per 1d", perDay))
		v.say(by.Place, len(by.Name), "quota "+by.Name, -1, fmt.Sprintf("at %s, a password among %d is guessed in %s "+
			"through %s; it should take %s", declaration.AmountsText(by.Allow), d.Assume.Guesses, said(t),
			d.Routes[i].Key(), said(d.Assume.GuessedIn)), "stack a second amount over a day, or say what the review "+
			"may take for granted under `review`",
			fixed("Allow "+strings.Join(allow, " and "), layout.Edit{Section: "quotas", Item: by.Name,
				Field: []string{"allow"}, Text: declaration.FlowList(allow)}))
	}
}

func noQuota(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		if len(v.d.QuotasAt[i]) > 0 || v.closed(i) || v.login[i] || v.sends(i) ||
			rt.Sensitivity != declaration.High && rt.Effect != declaration.Command {
			continue
		}
		what := "is of high sensitivity"
		if rt.Sensitivity != declaration.High {
			what = "is a command"
		}
		v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("%s %s, and has no quota", rt.Key(), what),
			"add a quota",
			fixed("Let 60 per 1m through", layout.Edit{Section: "quotas", Item: v.quotaName(rt),
				Text: "{ at: " + declaration.Scalar(rt.Key()) +
					", allow: 60 per 1m, counted_by: identity or address }"}))
	}
}

// bounds says whether amount a of a quota can never be reached, because
// another's amount b lets no more through.
func bounds(of *declaration.Quota, b declaration.Amount, u *declaration.Quota, a declaration.Amount) bool {
	if a == b {
		return true
	}
	s := append(quota.Of(u, []declaration.Amount{a}), quota.Of(of, []declaration.Amount{b})...)
	return s.NeverBinds(0)
}

func quotaNeverBinds(v *reviewer, c *Check) {
	d := v.d
	for _, u := range d.Quotas {
		for x, a := range u.Allow {
			for y, b := range u.Allow {
				if x == y || !bounds(u, b, u, a) || x < y && bounds(u, a, u, b) {
					continue
				}
				rest := slices.Delete(slices.Clone(u.Allow), x, x+1)
				var allow []string
				for _, r := range rest {
					allow = append(allow, r.String())
				}
				v.say(u.Place, len(u.Name), "quota "+u.Name, -1, fmt.Sprintf("%s can never bind: %s lets no more "+
					"through", a, b), "remove it",
					fixed("Remove "+a.String(), layout.Edit{Section: "quotas", Item: u.Name,
						Field: []string{"allow"}, Text: declaration.FlowList(allow)}))
				break
			}
		}
	}
	routes := make([][]int, len(d.Quotas))
	for i := range d.Routes {
		for _, q := range d.QuotasAt[i] {
			routes[q] = append(routes[q], i)
		}
	}
	for x, u := range d.Quotas {
		for y, o := range d.Quotas {
			if x == y || len(routes[x]) == 0 || len(u.For) > 0 || len(o.For) > 0 || len(o.Exempt) > 0 || o.PerRoute ||
				!slices.Equal(u.CountedBy, o.CountedBy) || u.Model == declaration.Concurrency ||
				o.Model == declaration.Concurrency {
				continue
			}
			if !slices.ContainsFunc(routes[x], func(i int) bool { return !slices.Contains(d.QuotasAt[i], y) }) &&
				slices.ContainsFunc(o.Allow, func(b declaration.Amount) bool {
					return !slices.ContainsFunc(u.Allow, func(a declaration.Amount) bool { return !bounds(o, b, u, a) })
				}) && (x > y || !slices.Equal(u.Allow, o.Allow)) {
				v.say(u.Place, len(u.Name), "quota "+u.Name, -1, fmt.Sprintf("the quota %q can never bind: %q counts "+
					"the same calls and lets no more through", u.Name, o.Name), "remove it, or make it narrower",
					fixed("Remove the quota", layout.Edit{Section: "quotas", Item: u.Name}))
				break
			}
		}
	}
}

func quotaByHeader(v *reviewer, c *Check) {
	for _, u := range v.d.Quotas {
		for _, k := range u.CountedBy {
			if k.By == "header" {
				v.say(u.Place, len(u.Name), "quota "+u.Name, -1, fmt.Sprintf("the quota %q counts by the header %s, "+
					"which the caller writes", u.Name, k.Header), "count by address, identity or key; or say that a "+
					"gateway sets the header, with a waiver",
					fixed("Count by address", layout.Edit{Section: "quotas", Item: u.Name,
						Field: []string{"counted_by"}, Text: "address"}))
			}
		}
	}
}
