// Package exchanges has what pages and services say to each other, as cases that are made: what
// a page asks for, one after the other, and what it is answered. A browser runs them, and so does
// core/origin; both must come to the same.
//
// The cases stand on grounds, each of which looks at one rule. What a browser made of them is
// recorded beside them, with its version (`make browser-cases`), so that core/origin is held
// against it without a browser too.
package exchanges

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/origin"
)

// Exchange is one case. Its addresses end in /x/ID/N, where N says which hop answers.
type Exchange struct {
	ID     string
	Ground string
	Name   string // no two have one
	Null   bool   // the page is a sandboxed frame
	Public bool   // the page is treated as one of the public network
	Asks   []origin.Request
	Pause  time.Duration // between two asks
	Hops   []Hop
}

// Hop is what one address answers; Later is what it answers to preflights from the second on,
// where that is something else.
type Hop struct {
	Preflight, Answer origin.Answer
	Later             *origin.Answer
}

// Told is what comes of a case: a line for each request that arrived, and one for what the page
// had of each that it asked for. Origins stand as {page}, {service} and {other}.
type Told struct {
	Sent []string
	Had  []string
}

// Same says whether two tell the same.
func (t Told) Same(o Told) bool { return slices.Equal(t.Sent, o.Sent) && slices.Equal(t.Had, o.Had) }

// Had is what a script had of one request.
func Had(resolved, opaque bool, status int, readable []string) string {
	switch {
	case !resolved:
		return "nothing"
	case opaque:
		return "opaque"
	}
	return strconv.Itoa(status) + " " + strings.Join(readable, " ")
}

// Names replaces the hosts of a lab by their names, and their ports where they have other names.
func (h Hosts) Names(s string) string {
	return strings.NewReplacer(h.Page, "{page}", h.Service, "{service}", h.Other, "{other}",
		port(h.Page), "{homeport}", port(h.Service), "{port}").Replace(s)
}

// port is that of an origin which is not the default.
func port(origin string) string { return origin[strings.LastIndexByte(origin, ':')+1:] }

// Line is one request that arrived.
func (h Hosts) Line(s origin.Sent) string {
	out := s.Method
	if s.Preflight {
		out = strings.TrimSpace("preflight for " + s.Headers.Get("Access-Control-Request-Method") + " " +
			s.Headers.Get("Access-Control-Request-Headers"))
	} else {
		if s.Headers.Has("Authorization") {
			out += " authorized"
		}
		if v := s.Headers.Get("User-Agent"); v != "" {
			out += " as " + v
		}
		if s.AsUser {
			out += " with cookies"
		}
	}
	if u, err := url.Parse(s.URL); err == nil {
		out += " to " + h.Names(u.Scheme+"://"+u.Host)
	}
	if s.Origin != "" {
		out += " from " + h.Names(s.Origin)
	}
	return out
}

// Evaluated is what core/origin makes of a case.
func (h Hosts) Evaluated(x *Exchange, b origin.Browser) Told {
	var cache origin.Cache
	var told Told
	preflights := 0
	now := time.Unix(1_790_000_000, 0)
	for _, q := range x.Asks {
		q.Public = x.Public
		o := origin.Run(q, &cache, now, b, func(s origin.Sent) (origin.Answer, bool) {
			if s.Preflight {
				preflights++
			}
			return x.Answer(s.URL, s.Preflight, preflights), true
		})
		for _, s := range o.Sent {
			// The lab's cookie is a lax one of its address, which neither a sandboxed frame nor
			// another name sends.
			u, err := url.Parse(s.URL)
			s.AsUser = s.AsUser && !x.Null && err == nil && u.Hostname() == "127.0.0.1"
			told.Sent = append(told.Sent, h.Line(s))
		}
		told.Had = append(told.Had, Had(o.Resolved, o.Opaque, o.Status, o.Readable))
		now = now.Add(x.Pause)
	}
	return told
}

// Answer is what an address of a case answers, with the fields that a lab adds; preflights is how
// many there were by now. What is no hop is 404 and permits nothing.
func (x *Exchange) Answer(address string, preflight bool, preflights int) origin.Answer {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	last, err := url.PathUnescape(address[strings.LastIndexByte(address, '/')+1:])
	n, err2 := strconv.Atoi(last)
	a := origin.Answer{Status: 404}
	if err == nil && err2 == nil && n < len(x.Hops) {
		hop := x.Hops[n]
		switch {
		case preflight && hop.Later != nil && preflights > 1:
			a = *hop.Later
		case preflight:
			a = hop.Preflight
		default:
			a = hop.Answer
		}
	}
	a.Headers = append(slices.Clone(a.Headers), [2]string{"Cache-Control", "no-store"})
	if a.Status != 204 && a.Status != 304 {
		a.Headers = append(a.Headers, [2]string{"Content-Type", "text/plain"}, [2]string{"Content-Length", "2"})
	}
	return a
}

// Apart says in words where two tell otherwise, "" where they do not.
func Apart(computed, browser Told) string {
	switch {
	case !slices.Equal(computed.Sent, browser.Sent):
		return fmt.Sprintf("sent: computed %q, the browser %q", computed.Sent, browser.Sent)
	case !slices.Equal(computed.Had, browser.Had):
		return fmt.Sprintf("had: computed %q, the browser %q", computed.Had, browser.Had)
	}
	return ""
}
