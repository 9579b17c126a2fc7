package origin

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/field"
)

// unsafeNames are the CORS-unsafe request-header names (section 2.2.2).
func (r *run) unsafeNames() []string { return UnsafeNames(r.headers, r.b) }

// preflight is CORS-preflight fetch (section 4.8).
func (r *run) preflight() bool {
	const section = "4.8"
	names := r.unsafeNames()
	s := Sent{Method: "OPTIONS", URL: r.current().String(), Preflight: true, Origin: r.serialised()}
	s.Headers = field.List{{"Origin", s.Origin}, {"Access-Control-Request-Method", r.method}}
	if len(names) > 0 {
		s.Headers = append(s.Headers, [2]string{"Access-Control-Request-Headers", strings.Join(names, ",")})
	}
	r.out.Sent = append(r.out.Sent, s)
	r.out.Preflights++
	a, known := r.ask(s)
	if !known {
		r.out.Unknown = true
		return false
	}
	if !r.check("preflight", a) {
		return false
	}
	if a.Status < 200 || a.Status > 299 {
		text := fmt.Sprintf("the preflight was answered %d in place of 2xx", a.Status)
		switch {
		case a.Status == 401 || a.Status == 403:
			text += "; it has no credential, and never will"
		case redirectStatus(a.Status):
			text += "; a preflight follows no redirect"
		}
		r.block("preflight", "status", text, section)
		return false
	}
	const am, ah = "Access-Control-Allow-Methods", "Access-Control-Allow-Headers"
	methods, fine := list(a.Headers, am)
	if !fine {
		v, _ := get(a.Headers, am)
		r.block("method", am, fmt.Sprintf("%s cannot be read: %q", am, v), section)
		return false
	}
	allowed, fine := list(a.Headers, ah)
	if !fine {
		v, _ := get(a.Headers, ah)
		r.block("header", ah, fmt.Sprintf("%s cannot be read: %q", ah, v), section)
		return false
	}
	if !r.permitsMethod(methods) || !r.permitsHeaders(allowed, names) {
		return false
	}
	r.out.CachedFor = r.maxAge(a)
	r.cache.add(r, methods, allowed)
	r.ok("cache", "Access-Control-Max-Age", "the browser does not ask again for "+r.out.CachedFor.String(), section)
	return true
}

// permitsMethod says whether the methods that a preflight allows have the request's.
func (r *run) permitsMethod(methods []string) bool {
	const section, am = "4.8", "Access-Control-Allow-Methods"
	star := r.q.Credentials != Include
	switch {
	case slices.Contains(methods, r.method):
		r.ok("method", am, am+" has "+r.method, section)
	case safeMethod(r.method):
		r.ok("method", am, r.method+" needs no permission", section)
	case star && slices.Contains(methods, "*"):
		r.ok("method", am, am+" is *", section)
	default:
		text := am + " does not have " + r.method
		switch {
		case slices.Contains(methods, "*"):
			text += ", and * does not do for a request with the user's cookies"
		case slices.ContainsFunc(methods, func(m string) bool { return strings.EqualFold(m, r.method) }):
			text += "; letter case counts"
		}
		r.block("method", am, text, section)
		return false
	}
	return true
}

// permitsHeaders says whether the fields that a preflight allows have the request's unsafe
// ones.
func (r *run) permitsHeaders(allowed, names []string) bool {
	const section, ah = "4.8", "Access-Control-Allow-Headers"
	star := r.q.Credentials != Include
	for _, n := range names {
		named := slices.ContainsFunc(allowed, func(h string) bool { return strings.EqualFold(h, n) })
		wild := star && slices.Contains(allowed, "*")
		auth := n == "authorization" && !r.b.does(StarCoversAuth)
		switch {
		case named || wild && !auth:
			continue
		case wild:
			r.block("header", ah, ah+" is *, which does not cover authorization: it must be named", section)
		case slices.Contains(allowed, "*"):
			r.block("header", ah, fmt.Sprintf("%s does not have %s, and * does not do for a request with the user's "+
				"cookies", ah, n), section)
		default:
			r.block("header", ah, fmt.Sprintf("%s does not have %s", ah, n), section)
		}
		return false
	}
	if len(names) > 0 {
		r.ok("header", ah, ah+" covers "+strings.Join(names, ", "), section)
	}
	return true
}

// maxAge is how long a preflight holds.
func (r *run) maxAge(a Answer) time.Duration {
	ages := values(a.Headers, "Access-Control-Max-Age")
	d := defaultMaxAge
	if len(ages) == 1 {
		n, ok := deltaSeconds(ages[0])
		if r.b.does(SignedMaxAge) {
			n, ok = signedSeconds(ages[0])
		}
		if ok {
			d = time.Duration(n) * time.Second
		}
	}
	if r.b.LongestCache > 0 {
		d = min(d, r.b.LongestCache)
	}
	return d
}

// mostSeconds is as much as a number of seconds counts for (RFC 9111 section 1.2.2).
const mostSeconds = 1 << 31

// deltaSeconds reads 1*DIGIT; what does not fit is as much as does (RFC 9111
// section 1.2.2).
func deltaSeconds(s string) (int64, bool) {
	if s == "" || !every(s, digit) {
		return 0, false
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		n = mostSeconds
	}
	return min(n, mostSeconds), true
}

// signedSeconds reads a number with or without a sign that fits into 64 bits; below zero is zero.
func signedSeconds(s string) (int64, bool) {
	n, err := strconv.ParseInt(s, 10, 64)
	return max(min(n, mostSeconds), 0), err == nil
}
