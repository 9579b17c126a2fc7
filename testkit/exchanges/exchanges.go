// Package exchanges has what pages and services say to each other, as cases that are made: what a
// page asks for, and what it is answered. A browser runs them, and so does core/origin; both must
// come to the same.
package exchanges

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/origin"
)

// Exchange is one generated case: what a page asks for, and what the service
// answers to preflights and to requests, hop by hop.
type Exchange struct {
	Name    string
	Null    bool // the page is a sandboxed frame
	Request origin.Request
	Hops    []Hop
	Times   int // how often it is asked for; 0 is once
}

// Hop is what one address answers.
type Hop struct{ Preflight, Answer origin.Answer }

// Seen is what a real browser made of it.
type Seen struct {
	Resolved bool     `json:"resolved"`
	Type     string   `json:"type"`
	Status   int      `json:"status"`
	Readable []string `json:"readable"`
}

// answered is an answer with what serve adds.
func answered(a origin.Answer) origin.Answer {
	h := slices.Clone(a.Headers)
	h = append(h, [2]string{"Cache-Control", "no-store"})
	if a.Status != 204 && a.Status != 304 {
		h = append(h, [2]string{"Content-Type", "text/plain"}, [2]string{"Content-Length", "2"})
	}
	return origin.Answer{Status: a.Status, Headers: h}
}

// Evaluated is what the evaluator makes of a case.
func Evaluated(x *Exchange, b origin.Browser) origin.Outcome {
	var cache origin.Cache
	var all origin.Outcome
	now := time.Unix(1_790_000_000, 0)
	for range max(x.Times, 1) {
		o := origin.Run(x.Request, &cache, now, b, func(s origin.Sent) (origin.Answer, bool) {
			parts := strings.Split(s.URL, "/")
			n, _ := strconv.Atoi(parts[len(parts)-1])
			if s.Preflight {
				return answered(x.Hops[n].Preflight), true
			}
			return answered(x.Hops[n].Answer), true
		})
		o.Sent = append(slices.Clone(all.Sent), o.Sent...)
		all = o
	}
	return all
}

// Same compares what was computed with what the browser did.
func Same(o origin.Outcome, s Seen, sent []origin.Sent) string {
	if s.Type == "hangs" {
		return "the browser never came back"
	}
	if o.Resolved != s.Resolved {
		return fmt.Sprintf("resolved: computed %v, the browser %v", o.Resolved, s.Resolved)
	}
	if o.Resolved && o.Opaque != (s.Type == "opaque" || s.Type == "opaqueredirect") {
		return fmt.Sprintf("opaque: computed %v, the browser %s", o.Opaque, s.Type)
	}
	if o.Status != s.Status {
		return fmt.Sprintf("status: computed %d, the browser %d", o.Status, s.Status)
	}
	if o.Resolved && !slices.Equal(o.Readable, s.Readable) {
		return fmt.Sprintf("readable: computed %v, the browser %v", o.Readable, s.Readable)
	}
	var a, b []string
	for _, x := range o.Sent {
		// The lab's cookie is a lax one, which a sandboxed frame does not send.
		x.AsUser = x.AsUser && o.Sent[0].Origin != origin.Null
		a = append(a, sentLine(x))
	}
	for _, x := range sent {
		b = append(b, sentLine(x))
	}
	if !slices.Equal(a, b) {
		return fmt.Sprintf("sent: computed %q, the browser %q", a, b)
	}
	return ""
}

func sentLine(s origin.Sent) string {
	out := s.Method
	if s.Preflight {
		var m, h string
		for _, x := range s.Headers {
			switch x[0] {
			case "Access-Control-Request-Method", "acrm":
				m = x[1]
			case "Access-Control-Request-Headers", "acrh":
				h = x[1]
			}
		}
		out = "preflight for " + m + " " + h
	} else {
		for _, x := range s.Headers {
			if strings.EqualFold(x[0], "Authorization") {
				out += " authorized"
			}
		}
		if s.AsUser {
			out += " with cookies"
		}
	}
	return out + " from " + s.Origin
}
