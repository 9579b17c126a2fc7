// Package session computes what a declaration's lifetimes come to: how long a
// session can last, what a stolen credential opens and for how long, what
// happens after a logout, and how large a list of ended tokens grows.
//
// A session begins with a login. Its access token (RFC 6749 section 1.4) works
// for the access lifetime's max; a refresh token (section 1.5) gets new ones.
// The refresh lifetime's max bounds the session from the login on, whether its
// tokens rotate or not; its idle ends a session that is not renewed for that
// long. skew is what a verifier may let a token live beyond its end, because
// clocks differ.
//
// A token that carries its own end (RFC 7519) works until then, unless the
// service remembers that it was ended (RFC 7009 section 3). That memory is the
// ended list: an entry has to stay until the token would have ended by itself.
package session

import (
	"math"
	"time"

	"millgate/core/declaration"
)

// Session is what the lifetimes of one scheme come to. A duration of zero with
// its flag false is not bounded by the declaration.
type Session struct {
	Scheme  string
	Kind    declaration.Kind
	Renewed bool // it has a refresh token

	Access  time.Duration // an access token works that long, without skew
	Skew    time.Duration
	Longest time.Duration // from the login to the last moment that a credential of it works
	Bounded bool          // Longest is a bound
	Idle    time.Duration // unused for that long it is over; 0 when nothing says so

	StolenAccess  time.Duration // a stolen access token opens that long at most
	StolenRefresh time.Duration // a stolen refresh token, unless it is noticed
	StolenBounded bool
	Noticed       bool // using a stolen refresh token beside the owner's ends the session

	After      time.Duration // a credential may work on that long after a logout
	AfterSaid  bool          // the declaration says so; otherwise nothing ends it sooner
	NeedsList  bool          // that asks for a list of ended tokens
	Entry      time.Duration // how long an entry has to stay on it
	PerHour    float64       // the logouts that the sizes are computed for
	Size       int           // entries when each is removed at its end
	SweepEvery time.Duration // removing the old ones that often …
	SizeSwept  int           // … keeps it at no more than this
}

// Of computes the session of a scheme; ok is false when the declaration gives
// it no lifetime. logouts are those in an hour.
func Of(d *declaration.Document, s *declaration.Scheme, logouts float64) (x Session, ok bool) {
	a := d.LifetimeNamed(s.Lifetime["access"].Name)
	if a == nil {
		return x, false
	}
	x = Session{Scheme: s.Name, Kind: s.Kind, Access: a.Max, Skew: a.Skew, Longest: a.Max + a.Skew, Bounded: a.Max > 0,
		Idle: a.Idle, PerHour: logouts}
	x.StolenAccess, x.StolenRefresh, x.StolenBounded = x.Longest, 0, x.Bounded
	if r := d.LifetimeNamed(s.Lifetime["refresh"].Name); r != nil {
		x.Renewed = true
		// The last renewal can be at the very end.
		x.Longest, x.Bounded = r.Max+a.Max+a.Skew, r.Max > 0 && a.Max > 0
		x.StolenRefresh = x.Longest
		x.Noticed = r.Rotates && r.Reuse == "ends-grant"
		if r.Idle > 0 {
			x.Idle = r.Idle
		}
		x.StolenBounded = x.StolenBounded && x.Bounded
	}
	x.after(a, s)
	return x, true
}

func (x *Session) after(a *declaration.Lifetime, s *declaration.Scheme) {
	x.After, x.AfterSaid = x.StolenAccess, false
	if s.Logout != nil || a.EndedSaid {
		x.After, x.AfterSaid = a.EndedWithin, true
	}
	// A cookie is looked up anyway; a token that carries its end is not.
	if !x.AfterSaid || s.Kind != declaration.Bearer || s.Token != "jwt" || a.Max == 0 || a.EndedWithin >= a.Max+a.Skew {
		return
	}
	x.NeedsList, x.Entry, x.SweepEvery = true, a.Max+a.Skew, a.Max
	x.Size = entries(x.PerHour, x.Entry)
	x.SizeSwept = entries(x.PerHour, x.Entry+x.SweepEvery)
}

// entries that come in during a time, rounded up (Little's law).
func entries(perHour float64, d time.Duration) int {
	n := math.Ceil(perHour*d.Hours() - 1e-9) // what rounding adds is no entry
	if n > math.MaxInt32 {
		return math.MaxInt32
	}
	return int(n)
}
