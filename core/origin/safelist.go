package origin

import (
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"millgate/core/field"
)

// safeMethod is a CORS-safelisted method (section 2.2.1).
func safeMethod(m string) bool { return m == "GET" || m == "HEAD" || m == "POST" }

// token is RFC 9110 section 5.6.2.
func token(s string) bool {
	if s == "" {
		return false
	}
	for _, c := range []byte(s) {
		if !tokenByte(c) {
			return false
		}
	}
	return true
}

func tokenByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
		strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0
}

// forbiddenHeader is a forbidden request-header (section 2.2.2): the browser
// alone sets it.
func forbiddenHeader(name, value string) bool {
	n := strings.ToLower(name)
	if strings.HasPrefix(n, "proxy-") || strings.HasPrefix(n, "sec-") || slices.Contains(forbidden, n) {
		return true
	}
	if n == "x-http-method" || n == "x-http-method-override" || n == "x-method-override" {
		for _, m := range strings.Split(value, ",") {
			switch strings.ToUpper(strings.Trim(m, "\t ")) {
			case "CONNECT", "TRACE", "TRACK":
				return true
			}
		}
	}
	return false
}

var forbidden = []string{"accept-charset", "accept-encoding", "access-control-request-headers",
	"access-control-request-method", "connection", "content-length",
	"cookie", "cookie2", "date", "dnt", "expect", "host", "keep-alive", "origin", "referer", "set-cookie", "te",
	"trailer", "transfer-encoding", "upgrade", "via"}

// noCORSSafe is a no-CORS-safelisted request-header (section 2.2.2).
func noCORSSafe(name, value string) bool {
	switch strings.ToLower(name) {
	case "accept", "accept-language", "content-language", "content-type":
		return Safelisted(name, value)
	}
	return false
}

const (
	longestValue = 128  // bytes of one safelisted value
	longestAll   = 1024 // bytes of all of them
)

// unsafeByte is a CORS-unsafe request-header byte (section 2.2.2).
func unsafeByte(c byte) bool {
	return c < 0x20 && c != '\t' || c == 0x7f || strings.IndexByte("\"():<>?@[\\]{}", c) >= 0
}

func languageByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte(" *,-.;=", c) >= 0
}

func every(s string, f func(byte) bool) bool {
	for i := 0; i < len(s); i++ {
		if !f(s[i]) {
			return false
		}
	}
	return true
}

// Safelisted says whether a header field with this value is a CORS-safelisted
// request-header (section 2.2.2): a page may set it without asking.
func Safelisted(name, value string) bool { return safelisted(name, value, Standard) }

func safelisted(name, value string, b Browser) bool {
	if len(value) > longestValue {
		return false
	}
	plain := every(value, func(c byte) bool { return !unsafeByte(c) })
	switch strings.ToLower(name) {
	case "accept":
		return plain
	case "accept-language", "content-language":
		return every(value, languageByte)
	case "content-type":
		if !plain {
			return false
		}
		switch essence(value) {
		case "application/x-www-form-urlencoded", "multipart/form-data", "text/plain":
			return true
		}
	case "range":
		return simpleRange(value, b)
	}
	return false
}

// hints are header fields that a browser may count as safelisted, and the values that it does so
// with.
var hints = map[string]func(string) bool{
	"dpr": decimal, "device-memory": decimal, "downlink": decimal,
	"rtt": whole, "viewport-width": whole, "width": whole,
	"save-data": func(v string) bool { return strings.EqualFold(v, "on") },
	"ect":       func(v string) bool { return slices.Contains([]string{"2g", "3g", "4g", "slow-2g"}, v) },
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

func whole(s string) bool { return s != "" && every(s, digit) }

// decimal is digits, and perhaps a point and more of them.
func decimal(s string) bool {
	n, part, pointed := strings.Cut(s, ".")
	return whole(n) && (!pointed || whole(part))
}

// UnsafeNames are the names of the header fields for which a page must ask
// first, lower case and sorted (section 2.2.2).
func UnsafeNames(headers field.List, b Browser) []string {
	out, small, size := []string{}, []string{}, 0
	for _, h := range headers {
		n := strings.ToLower(h[0])
		may, hint := hints[n]
		hint = hint && b.does(HintsSafelisted) && len(h[1]) <= longestValue && may(h[1])
		if !safelisted(n, h[1], b) && !hint {
			out = append(out, n)
			continue
		}
		small = append(small, n)
		size += len(h[1])
	}
	if size > longestAll {
		out = append(out, small...)
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// essence is type and subtype of a MIME type, lower case; "" where it cannot be
// read (MIME Sniffing standard section 4.4). Parameters never make it unreadable.
func essence(s string) string {
	s = strings.Trim(s, "\t\n\r ")
	typ, rest, ok := strings.Cut(s, "/")
	if !ok || !token(typ) {
		return ""
	}
	sub, _, _ := strings.Cut(rest, ";")
	if sub = strings.TrimRight(sub, "\t\n\r "); !token(sub) {
		return ""
	}
	return strings.ToLower(typ + "/" + sub)
}

// simpleRange is a range header value with a start (section 2.2.2, parse a
// single range header value, without white space).
func simpleRange(s string, b Browser) bool {
	s, ok := strings.CutPrefix(s, "bytes=")
	if !ok {
		return false
	}
	from, to, ok := strings.Cut(s, "-")
	if !ok || !whole(from) || !every(to, digit) {
		return false
	}
	if b.does(RangeOverflow) && (tooLarge(from) || to != "" && tooLarge(to)) {
		return false
	}
	first, last := strings.TrimLeft(from, "0"), strings.TrimLeft(to, "0")
	return to == "" || len(first) < len(last) || len(first) == len(last) && first <= last
}

// tooLarge says whether a number is 2^63-1 or more.
func tooLarge(digits string) bool {
	n, err := strconv.ParseInt(digits, 10, 64)
	return err != nil || n == math.MaxInt64
}

func trim(s string) string { return strings.Trim(s, "\t ") }

// get is the combined value of a header field (section 2.2.2, get).
func get(h field.List, name string) (string, bool) {
	list := values(h, name)
	return strings.Join(list, ", "), len(list) > 0
}

// values are those of the fields with a name, each without blanks around it.
func values(h field.List, name string) []string {
	list := h.All(name)
	for i := range list {
		list[i] = trim(list[i])
	}
	return list
}

// list extracts the tokens of a header field that is a list (section 2.2.2,
// extract header list values; RFC 9110 section 5.6.1). ok is false when it
// cannot be read; a field that is not there is an empty list.
func list(h field.List, name string) (out []string, ok bool) {
	v, there := get(h, name)
	if !there {
		return nil, true
	}
	for _, e := range strings.Split(v, ",") {
		if e = trim(e); e == "" {
			continue
		}
		if !token(e) {
			return nil, false
		}
		out = append(out, e)
	}
	return out, true
}
