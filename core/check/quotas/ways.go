package quotas

import (
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/quota"
)

// forwarding are header fields in which a gateway says who called. A service that believes
// them from anybody can be told anything; the address is one for documentation (RFC 5737).
var forwarding = [][2]string{{"X-Forwarded-For", documented}, {"Forwarded", "for=" + documented},
	{"X-Real-IP", documented}}

const documented = "198.51.100.7"

// local is an address that services often let pass: that of the machine itself.
const local = "127.0.0.1"

// inTurn is in which order a way must pass and the plain call be refused before the way is what did it. A
// bucket or a window that opens meanwhile lets one in so many calls through, and nodes that count alone
// each so many, whatever way they came: evenly, while here three calls lie between two that pass, and one
// between the next two.
var inTurn = []bool{true, false, false, true, true, false}

// ways are those in which a call is another one for who counts, and the same for who serves.
// An address that the quota does not count is one of them.
func ways(q check.Request, exempt string) (names []string, turned []check.Request) {
	add := func(name string, turn func(q *check.Request)) {
		w := q
		turn(&w)
		names, turned = append(names, name), append(turned, w)
	}
	with := func(name string, h [2]string) {
		add(name, func(w *check.Request) { w.Headers = append(w.Headers[:len(w.Headers):len(w.Headers)], h) })
	}
	for _, h := range forwarding {
		with(h[0], h)
	}
	for _, h := range forwarding {
		with(h[0]+", a local address", [2]string{h[0], strings.Replace(h[1], documented, local, 1)})
	}
	if exempt != "" {
		for _, h := range forwarding {
			with(h[0]+", an exempt address", [2]string{h[0], strings.Replace(h[1], documented, within(exempt), 1)})
		}
	}
	with("another Host", [2]string{"Host", "elsewhere.invalid"})
	add("a trailing slash", func(w *check.Request) { w.Path = strings.TrimSuffix(w.Path, "/") + "/" })
	add("upper case", func(w *check.Request) { w.Path = upper(w.Path) })
	add("another parameter", func(w *check.Request) { w.Query = strings.TrimPrefix(w.Query+"&millgate=1", "&") })
	if q.Method == "GET" { // RFC 9110 section 9.3.2
		add("the method HEAD", func(w *check.Request) { w.Method = "HEAD" })
	}
	return names, turned
}

// upper is a path in upper case, but for the names that are filled in.
func upper(path string) string {
	var b strings.Builder
	for before, name := range check.Names(path) {
		if b.WriteString(strings.ToUpper(before)); name != "" {
			b.WriteString("{" + name + "}")
		}
	}
	return b.String()
}

// around tries other ways while calls are refused. A way that passes counts only when plain calls between
// are refused.
func (x *drilling) around() error {
	names, turned := ways(x.what.Request, exemptAddress(x.q))
	for i, name := range names {
		c := x.what
		c.Request = turned[i]
		a, err := x.try(name, c)
		if err != nil {
			return err
		}
		x.m.Around = append(x.m.Around, a)
	}
	if x.at.Account {
		x.open()
	}
	if o := x.at.Other; o != nil { // whether they share one count
		var err error
		if x.m.Route, err = x.tried(o.Route, o.call(x.c, x.p.Of), x.passes); err != nil {
			return err
		}
		if x.m.Route.Status == 0 {
			x.m.Route = quota.Around{}
		}
	}
	if err := x.behind(); err != nil {
		return err
	}
	x.exempted()
	return x.others()
}

// behind sends the call to the target's direct address while calls are refused: where it is not refused
// there, it is the gateway that counts.
func (x *drilling) behind() (err error) {
	if x.c.Target.Direct == "" || x.what.Request.Host != "" { // the direct address is the API's
		return nil
	}
	c := x.what
	c.Request.Host = check.DirectHost
	if x.m.Direct, err = x.tried("the direct address", c, x.passes); x.m.Direct.Status == 0 {
		x.m.Direct = quota.Around{}
	}
	return err
}

// rightInTurn is how often the right secret is sent before the account is closed anew with wrong ones: what
// had closed it may have ended just before the first.
var rightInTurn = []int{1, 2}

// open logs in with the right secret while wrong ones are refused: an account that is closed
// stays so.
func (x *drilling) open() {
	s := x.c.Doc.SchemeNamed(x.at.Caller.Scheme)
	c := x.what
	c.Request = check.LoginAs(x.c, s.Login, x.c.Doc.IdentityNamed(x.at.Login), s.Name, func(bool) (check.Fill, bool) {
		return check.Fill{}, false
	})
	for _, times := range rightInTurn {
		for range times {
			r := x.send(c)[0]
			if r.Fate != check.Answered {
				return
			}
			x.m.Right = &Right{Status: r.Exchange.Status}
			if r.Class(x.c.Doc.Answers) != check.Admitted {
				return
			}
		}
		if !x.closed() {
			x.m.Right.Ended = true
			return
		}
	}
	x.m.Right.In = true
}

// closed sends wrong secrets until one is refused, at most as many as fill the quota. They come after a right
// one, from which the count may begin anew, and are no part of the drill.
func (x *drilling) closed() bool {
	for range min(x.stack.First()+1, mostCalls) {
		if r := x.send(x.what)[0]; r.Fate != check.Answered || x.refused(r) {
			return r.Fate == check.Answered
		}
	}
	return false
}

// others asks, while calls are refused, with a fresh token of the same caller, which must be
// refused as well, and as another one whom the quota counts by itself, who must not.
func (x *drilling) others() error {
	s := x.c.Doc.SchemeNamed(x.p.Caller.Scheme)
	if s == nil || x.p.Caller.Identity == "" {
		return nil
	}
	if s.Login != nil {
		c := x.what
		c.As = []check.Present{{Caller: x.p.Caller, Fresh: true}}
		if err := x.alsoAround(quota.FreshToken, c); err != nil {
			return err
		}
	}
	bare := x.what
	bare.As = nil
	var err error
	if x.m.Bare, err = x.tried("without the credential", bare, x.passes); err != nil {
		return err
	}
	if x.at.By == "address" { // then another one from here is counted with this one
		if x.at.Beside == "" {
			return nil
		}
		return x.alsoAround("another identity from the same address", x.as(x.at.Beside))
	}
	if c, ok := x.another(); ok {
		x.sawAnother(x.send(c)[0])
	}
	x.strangers()
	return nil
}

// alsoAround tries a way that is told only where it could be sent.
func (x *drilling) alsoAround(name string, c check.Call) error {
	a, err := x.try(name, c)
	if a.Status != 0 {
		x.m.Around = append(x.m.Around, a)
	}
	return err
}

// as is the drill's call as another identity, with its credential of the drill's scheme, or else its first.
func (x *drilling) as(identity string) check.Call {
	c := x.what
	who := check.Caller{Identity: identity, Scheme: x.p.Caller.Scheme, State: access.Sound}
	if id := x.c.Doc.IdentityNamed(identity); who.Scheme == "" && id != nil {
		who.Scheme = id.Credentials[0].Scheme.Name
	}
	c.As = []check.Present{{Caller: who}}
	return c
}

// another is a call as another caller, where the quota counts callers by themselves.
func (x *drilling) another() (c check.Call, ok bool) {
	if x.at.Beside == "" || x.at.By != "identity" && x.at.By != "key" {
		return c, false
	}
	return x.as(x.at.Beside), true
}

// sawAnother keeps what another caller was answered: an answer that never came shows nothing.
func (x *drilling) sawAnother(r check.Report) {
	if r.Fate == check.Answered {
		x.m.Other, x.m.OtherStatus = x.at.Beside, r.Exchange.Status
	}
}

// passes says whether an answer is no refusal and no failure.
func (x *drilling) passes(r check.Report) bool { return r.Exchange.Status < 500 && !x.refused(r) }

// try sends a call another way while calls are refused. It passes where it is answered as an
// admitted call is.
func (x *drilling) try(name string, c check.Call) (quota.Around, error) {
	return x.tried(name, c, func(r check.Report) bool { return r.Exchange.Status == x.m.Passes })
}

func (x *drilling) tried(name string, c check.Call, passes func(check.Report) bool) (quota.Around, error) {
	a := quota.Around{Way: name}
	for _, way := range inTurn {
		if !way {
			if ok, err := x.plain(); err != nil || ok {
				return a, err
			}
			continue
		}
		r := x.send(c)[0]
		if r.Fate == check.Unsent {
			return a, nil // then it is not tried
		}
		if a.Status = r.Exchange.Status; r.Fate != check.Answered || !passes(r) {
			return a, nil
		}
	}
	a.Passed = true
	return a, nil
}
