package mask

import (
	"regexp"
	"slices"
	"strings"
)

// span is a part of a raw text that is replaced by a mark.
type span struct {
	from, to int
	secret   int // -1: by its looks or name
	kind     Kind
}

var (
	// A compact JWS (RFC 7515 section 7.1), by its beginning {".
	jws = regexp.MustCompile(`eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*\.[A-Za-z0-9_-]*`)
	// Members, in a text that is no JSON, such as one that was cut.
	member = regexp.MustCompile(`(?i)"(?:access_token|refresh_token|id_token|client_secret|password|passwd|api_?key|secret)"\s*:\s*` +
		`"((?:[^"\\]|\\.)*)`)
	// What says of its value that it is a secret, whoever sent it.
	memberName = regexp.MustCompile(`(?i)^(?:access_token|refresh_token|id_token|client_secret|password|passwd|api_?key|secret)$`)
)

// Text masks a text. cut says that its end is not its end: then the beginning of a
// secret at its end is hidden too.
func (m *Masking) Text(text string, cut bool) string {
	return m.value(view{text: text}, text, cut, parts{})
}

// parts are the bytes between which a whole value stands in a text: a secret of under
// six characters is hidden there.
type parts struct{ before, after string }

var (
	ofURL  = parts{"/=", "/&;?#"}
	ofForm = parts{"=", "&"}
	ofHTML = parts{">", "<"}
)

// URL masks a URL, or a part of one.
func (m *Masking) URL(text string) string { return m.value(view{text: text}, text, false, ofURL) }

// wholes are the values of a text that are a short secret.
func (m *Masking) wholes(v view, p parts) (out []span) {
	t := v.text
	for i := 0; i < len(t); i++ {
		if strings.IndexByte(p.before, t[i]) < 0 {
			continue
		}
		end := i + 1
		for end < len(t) && strings.IndexByte(p.after, t[end]) < 0 {
			end++
		}
		for _, w := range m.set.views(view{text: t[i+1 : end]}) {
			if k, ok := m.set.words[strings.TrimSpace(w.text)]; ok && w.text != "" {
				a, b := v.raw(i+1, end)
				out = append(out, span{a, b, k, ""})
				break
			}
		}
	}
	return out
}

// value masks a raw text that reads as a view of it, whole.
func (m *Masking) value(v view, raw string, cut bool, p parts) string {
	if raw == "" {
		return raw
	}
	if i, ok := m.set.words[v.text]; ok {
		return m.markOf(i)
	}
	spans := m.set.find(v, cut)
	if strings.Contains(v.text, "eyJ") {
		for _, at := range jws.FindAllStringIndex(v.text, -1) {
			a, b := v.raw(at[0], at[1])
			spans = append(spans, span{a, b, -1, Token})
		}
	}
	if p != (parts{}) && m.set.short {
		spans = append(spans, m.wholes(v, p)...)
	}
	spans = append(spans, parameters(v)...)
	if strings.IndexByte(v.text, '"') >= 0 && strings.IndexByte(v.text, ':') >= 0 {
		for _, at := range member.FindAllStringSubmatchIndex(v.text, -1) {
			if at[3] > at[2] {
				a, b := v.raw(at[2], at[3])
				spans = append(spans, span{a, b, -1, Named})
			}
		}
	}
	return m.replace(raw, spans)
}

// ofParameter are the names whose values are secrets in a query or a form.
var ofParameter = map[string]bool{"access_token": true, "refresh_token": true, "id_token": true, "client_secret": true,
	"password": true,
	"passwd":   true, "sig": true, "signature": true, "api_key": true, "apikey": true, "secret": true}

// parameters are the values of such parameters in a text.
func parameters(v view) (out []span) {
	t := v.text
	for i := strings.IndexByte(t, '='); i >= 0; {
		from := i
		for from > 0 && i-from < len("client_secret") && (of64(t[from-1]) && t[from-1] != '/' || t[from-1] == '_') {
			from--
		}
		end := i + 1
		if ofParameter[strings.ToLower(t[from:i])] && (from == 0 || strings.IndexByte("?&;", t[from-1]) >= 0) {
			for end < len(t) && strings.IndexByte("&\"'<>\\#; \t\r\n", t[end]) < 0 {
				end++
			}
			if end > i+1 {
				a, b := v.raw(i+1, end)
				out = append(out, span{a, b, -1, Named})
			}
		}
		n := strings.IndexByte(t[end:], '=')
		if n < 0 {
			break
		}
		i = end + n
	}
	return out
}

// replace puts marks in the place of spans. Spans that overlap get one, that of the
// longest which is known.
func (m *Masking) replace(raw string, spans []span) string {
	if len(spans) == 0 {
		return raw
	}
	slices.SortFunc(spans, func(a, b span) int {
		if a.from != b.from {
			return a.from - b.from
		}
		return b.to - a.to
	})
	var b strings.Builder
	at := 0
	for i := 0; i < len(spans); {
		one := spans[i]
		best := one
		for i++; i < len(spans) && spans[i].from < one.to; i++ {
			one.to = max(one.to, spans[i].to)
			if better(spans[i], best) {
				best = spans[i]
			}
		}
		b.WriteString(raw[at:one.from])
		if best.secret >= 0 {
			b.WriteString(m.markOf(best.secret))
		} else {
			b.WriteString(m.markFor(best.kind, raw[one.from:one.to]))
		}
		at = one.to
	}
	b.WriteString(raw[at:])
	return b.String()
}

func better(a, b span) bool {
	if (a.secret >= 0) != (b.secret >= 0) {
		return a.secret >= 0
	}
	return a.to-a.from > b.to-b.from
}

// find are the known secrets in a view, in any of their encodings.
func (s *Set) find(base view, cut bool) (out []span) {
	if len(s.forms) == 0 {
		return nil
	}
	out = s.in(base, nil)
	if cut {
		out = append(out, s.tail(base, base)...)
	}
	if strings.ContainsAny(base.text, escapes) {
		for _, v := range s.views(base)[1:] {
			if out = s.in(v, out); cut {
				out = append(out, s.tail(v, base)...)
			}
		}
	}
	return out
}

// escapes are the characters that begin what a decoder reads.
const escapes = `%\&+`

// in are the known secrets in one reading of a text.
func (s *Set) in(v view, out []span) []span {
	t := v.text
	for i := 0; i+Everywhere <= len(t); i++ {
		k := first4(t[i:])
		if at, bit := slot(k); s.filter[at]&bit == 0 {
			continue
		}
		for _, f := range s.forms[k] {
			if !strings.HasPrefix(t[i:], f.text) {
				continue
			}
			from, to := i, i+len(f.text)
			if f.left && from > 0 && of64(t[from-1]) {
				from--
			}
			if f.right && to < len(t) && of64(t[to]) {
				to++
			}
			a, b := v.raw(from, to)
			out = append(out, span{a, b, f.secret, ""})
			break
		}
	}
	return out
}

// unfinished is an escape that the cut went through.
var unfinished = regexp.MustCompile(`(?:%[0-9A-Fa-f]?|\\(?:u[0-9A-Fa-f]{0,3})?|&#?[0-9A-Za-z]*)$`)

// tail is the beginning of a secret at the end of a view that was cut.
func (s *Set) tail(v, base view) []span {
	end := unfinished.FindStringIndex(v.text)
	for _, t := range []int{len(v.text), cutAt(end, len(v.text))} {
		from := max(0, t-maxForm)
		for i := from; i+cutFrom <= t; i++ {
			for _, f := range s.forms[first4(v.text[i:])] {
				if len(f.text) > t-i && strings.HasPrefix(f.text, v.text[i:t]) {
					a, _ := v.raw(i, t)
					_, b := base.raw(0, len(base.text))
					return []span{{a, b, f.secret, ""}}
				}
			}
		}
	}
	return nil
}

const maxForm = 8 << 10 // of the longest secrets only their end is looked for at a cut

func cutAt(at []int, n int) int {
	if at == nil {
		return n
	}
	return at[0]
}

// of64 says whether a character is one of base64 or base64url (RFC 4648).
func of64(c byte) bool {
	return 'a' <= c|32 && c|32 <= 'z' || '0' <= c && c <= '9' || strings.IndexByte("+/-_", c) >= 0
}
