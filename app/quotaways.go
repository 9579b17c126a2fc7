package app

import (
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/quota"
	"millgate/wire"
)

// forwarding are header fields in which a gateway says who called. A service
// that believes them from anybody can be told anything; the address is one for
// documentation (RFC 5737).
var forwarding = [][2]string{{"X-Forwarded-For", "198.51.100.7"}, {"Forwarded", "for=198.51.100.7"},
	{"X-Real-IP", "198.51.100.7"}}

// around tries other ways while calls are refused. A way that passes counts only
// when the next plain call is refused again.
func (x *drilling) around() error {
	type way struct {
		name string
		turn func(o *wire.Outgoing)
	}
	var ways []way
	for _, h := range forwarding {
		ways = append(ways, way{h[0], func(o *wire.Outgoing) { o.Headers = append(o.Headers, h) }})
	}
	ways = append(ways,
		way{"a trailing slash", func(o *wire.Outgoing) { o.Path = strings.TrimSuffix(o.Path, "/") + "/" }},
		way{"upper case", func(o *wire.Outgoing) { o.Path = strings.ToUpper(o.Path) }},
		way{"another parameter", func(o *wire.Outgoing) {
			o.Query = strings.TrimPrefix(o.Query+"&millgate=1", "&")
		}})
	if x.o.Method == http.MethodGet { // RFC 9110 section 9.3.2
		ways = append(ways, way{"the method HEAD", func(o *wire.Outgoing) { o.Method = http.MethodHead }})
	}
	for _, w := range ways {
		a, err := x.try(w.name, func() (wire.Outgoing, error) {
			o := x.o
			o.Headers = slices.Clone(x.o.Headers)
			w.turn(&o)
			return o, nil
		})
		if err != nil {
			return err
		}
		x.m.Around = append(x.m.Around, a)
	}
	if err := x.elsewhere(); err != nil {
		return err
	}
	return x.others()
}

// elsewhere asks, while calls are refused, at another route that the quota
// counts: whether they share one count.
func (x *drilling) elsewhere() error {
	if x.p.Other == nil {
		return nil
	}
	o, _, err := x.r.drilled(x.p.Other)
	if err != nil {
		return nil //nolint:nilerr // then it is not tried
	}
	x.m.Route, err = x.tried(x.p.Other.RouteKey, func() (wire.Outgoing, error) { return o, nil },
		func(e check.Exchange) bool { return e.Status < 500 && !x.refused(e) })
	return err
}

// others asks, while calls are refused, with a fresh token of the same caller,
// which must be refused as well, and as another one whom the quota counts by
// itself, who must not.
func (x *drilling) others() error {
	s := x.r.doc.SchemeNamed(x.p.Scheme)
	if s == nil || x.p.Identity == "" {
		return nil
	}
	if s.Login != nil {
		a, err := x.try(quota.FreshToken, func() (wire.Outgoing, error) {
			o := x.without()
			err := x.r.keys.PresentFresh(x.r.ctx, &o, x.p.Identity, s)
			return o, err
		})
		if err != nil {
			return err
		}
		if a.Status != 0 {
			x.m.Around = append(x.m.Around, a)
		}
	}
	var err error
	if x.m.Bare, err = x.tried("without the credential", func() (wire.Outgoing, error) { return x.without(), nil },
		func(e check.Exchange) bool { return e.Status < 500 && !x.refused(e) }); err != nil {
		return err
	}
	if x.q.CountedBy[0].By == "address" { // then another one from here is counted with this one
		other := x.another(s)
		if other == "" {
			return nil
		}
		a, err := x.try("another identity from the same address", func() (wire.Outgoing, error) {
			o := x.without()
			_, err := x.r.keys.Present(x.r.ctx, &o, other, s.Name)
			return o, err
		})
		if a.Status != 0 {
			x.m.Around = append(x.m.Around, a)
		}
		return err
	}
	other, status, err := x.asAnother(0)
	if err == nil && status != 0 {
		x.m.Other, x.m.OtherStatus = other, status
	}
	return err
}

// without is the request without its credential, to be given another.
func (x *drilling) without() wire.Outgoing {
	o := x.bare
	o.Headers = slices.Clone(x.bare.Headers)
	return o
}

// asAnother sends one call as another caller, where the quota counts callers by
// themselves; other is "" where nobody could be sent.
func (x *drilling) asAnother(within time.Duration) (other string, status int, err error) {
	s := x.r.doc.SchemeNamed(x.p.Scheme)
	if s == nil || x.p.Identity == "" || len(x.q.CountedBy) == 0 || x.q.CountedBy[0].By != "identity" &&
		x.q.CountedBy[0].By != "key" {
		return "", 0, nil
	}
	if other = x.another(s); other == "" {
		return "", 0, nil
	}
	o := x.without()
	if _, err := x.r.keys.Present(x.r.ctx, &o, other, s.Name); err != nil {
		return "", 0, nil //nolint:nilerr // then it is not tried
	}
	o.Within = within
	e, err := x.r.client.Send(x.r.ctx, o)
	if errors.Is(err, wire.ErrLate) {
		err = nil
	}
	return other, e.Status, err
}

// confirmed is how often a way must pass while the next plain call is refused:
// among nodes that count alone one may pass by chance.
const confirmed = 3

// try sends a call another way while calls are refused.
func (x *drilling) try(name string, make func() (wire.Outgoing, error)) (quota.Around, error) {
	return x.tried(name, make, func(e check.Exchange) bool { return e.Status == x.m.Passes })
}

func (x *drilling) tried(name string, make func() (wire.Outgoing, error),
	passes func(e check.Exchange) bool) (quota.Around, error) {
	a := quota.Around{Way: name}
	for n := range confirmed {
		o, err := make()
		if err != nil {
			return a, nil //nolint:nilerr // then it is not tried
		}
		e, err := x.r.client.Send(x.r.ctx, o)
		x.count()
		if err != nil {
			return a, err
		}
		a.Status = e.Status
		if !passes(e) {
			return a, nil
		}
		ok, err := x.call()
		if err != nil || ok {
			return a, err
		}
		a.Passed = n == confirmed-1
	}
	return a, nil
}

// another is an identity of the same scheme whom the route admits and who takes
// part in no other drill, "" without.
func (x *drilling) another(s *declaration.Scheme) string {
	for _, id := range x.r.doc.Identities {
		busy := id.Name == x.p.Identity || x.q.ExemptIdentity(x.r.doc, id) ||
			slices.ContainsFunc(x.r.probes, func(p *probe.Probe) bool {
				return p.Kind == probe.QuotaDrill &&
					p.Identity == id.Name
			})
		if busy || id.Credential(s.Name) == nil {
			continue
		}
		if access.Evaluate(x.r.doc, x.p.Route, access.Caller{Identity: id,
			State: access.Sound}).Outcome == access.Admit {
			return id.Name
		}
	}
	return ""
}
