package origin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"millgate/core/field"
	"millgate/core/weburl"
)

// Ways are all ways in which a page's script could call a route, those that ask for least first,
// and what comes of each.
func Ways(c Call, page string, s Seen, b Browser) (out []Ability) {
	for _, q := range requests(c, page) {
		o := runSeen(q, s, b)
		a := Ability{Does: doesOf(q, o), Request: q, Outcome: o, Assumed: s.Answer == nil && o.Executed()}
		if !browserCan(page) {
			a.Does = Nothing
		}
		out = append(out, a)
	}
	return out
}

// Words is a request as a person would say it.
func (q Request) Words() string {
	out := "fetches " + cmp.Or(q.Method, "GET")
	var names []string
	for _, h := range q.Headers {
		n := h[0]
		if strings.EqualFold(n, "Content-Type") {
			n += ": " + h[1]
		}
		names = append(names, n)
	}
	if len(names) > 0 {
		out += " with " + strings.Join(names, ", ")
	}
	if q.Credentials == Include {
		return out + ", with the user's cookies"
	}
	return out + ", without cookies"
}

// Told says what comes of a request, in one sentence without the page: "preflight, allowed;
// answer readable".
func (a Ability) Told() string {
	var out []string
	blocked := a.Outcome.Blocked()
	switch {
	case len(a.Outcome.Sent) == 0 && blocked != nil:
		return "the browser sends nothing: " + blocked.Text
	case !a.Outcome.Executed() && blocked != nil:
		return "preflight, not allowed: " + blocked.Text + "; the request is never sent"
	case !a.Outcome.Executed():
		return "a preflight is needed, and nothing is known of its answer"
	case a.Outcome.Preflights > 0:
		out = append(out, "preflight, allowed")
	default:
		out = append(out, "no preflight")
	}
	switch {
	case blocked != nil:
		out = append(out, "sent, and the answer cannot be read: "+blocked.Text)
	case a.Outcome.Unknown:
		out = append(out, "sent, and nothing is known of its answer")
	case a.Outcome.Opaque:
		out = append(out, "sent, and nothing of the answer can be read")
	case a.Assumed:
		out = append(out, "answer readable, if it permits what its preflight does")
	default:
		out = append(out, "answer readable")
	}
	return strings.Join(out, "; ")
}

// Script is what a person pastes into the console of a page to see with their own eyes what comes
// of a request. Of the page null it makes one. body is the body to send, "" for none.
func Script(q Request, body string) string {
	var b strings.Builder
	js := func(s string) string {
		t, _ := json.Marshal(s) // a string can be written
		return string(t)
	}
	fmt.Fprintf(&b, "fetch(%s, {\n  method: %s,\n  credentials: %s,\n", js(q.URL), js(q.Method),
		js(string(q.Credentials)))
	if len(q.Headers) > 0 {
		b.WriteString("  headers: {")
		for i, h := range q.Headers {
			if i > 0 {
				b.WriteString(",")
			}
			fmt.Fprintf(&b, " %s: %s", js(h[0]), js(h[1]))
		}
		b.WriteString(" },\n")
	}
	if q.Body {
		fmt.Fprintf(&b, "  body: %s,\n", js(body))
	}
	b.WriteString("}).then(\n  async (r) => console.log(\"readable:\", r.status, [...r.headers.keys()].join(\" \"), await " +
		"r.text()),\n  (e) => console.log(\"not readable:\", e.message),\n)")
	asks := ""
	if u, err := weburl.Parse(q.URL, nil); err == nil && weburl.Local(u) {
		asks = "// The address is of your own network: the browser may ask whether this page may reach it\n"
	}
	if q.Page != Null {
		return "// In the console of a page of " + q.Page + "\n" + asks + b.String() + "\n"
	}
	return "// In the console of any page: a sandboxed frame is null\n" + asks +
		"const frame = document.createElement(\"iframe\")\nframe.sandbox = \"allow-scripts\"\n" +
		"frame.srcdoc = \"<script>\" + " + js(b.String()) + " + \"</\" + \"script>\"\ndocument.body.append(frame)\n"
}

// Mend is a field that a service must send for a page to read its answer.
type Mend struct {
	On     string `json:"on"`     // "preflight" or "answer"
	Header string `json:"header"` // "status" for the status
	Value  string `json:"value"`
}

// Mends are what must be sent for a request to come through, found by sending it: each is what the
// browser missed next. ok is false where no field would do.
func Mends(q Request, s Seen) (out []Mend, ok bool) {
	pre, ans := Answer{Status: 204}, Answer{Status: 200}
	for _, x := range []struct{ from, to *Answer }{{s.Preflight, &pre}, {s.Answer, &ans}} {
		if x.from != nil {
			x.to.Status, x.to.Headers = x.from.Status, slices.Clone(x.from.Headers)
		} else if s.Preflight != nil {
			x.to.Headers = slices.Clone(s.Preflight.Headers)
		}
	}
	const most = 12 // two answers with their origin, credentials and Vary, a status and two lists
	for range most {
		o := runSeen(q, Seen{Preflight: &pre, Answer: &ans}, Standard)
		b := o.Blocked()
		if b == nil {
			return out, o.Resolved && !o.Opaque
		}
		m, to := Mend{On: "preflight", Header: b.Header}, &pre
		if b.Name == "answer" {
			m.On, to = "answer", &ans
		}
		switch b.Header {
		case "Access-Control-Allow-Origin":
			m.Value = q.Page
		case "Access-Control-Allow-Credentials":
			m.Value = "true"
		case "Access-Control-Allow-Methods":
			m.Value = q.Method
			if l, fine := list(to.Headers, m.Header); fine && len(l) > 0 {
				m.Value = strings.Join(append(l, q.Method), ", ")
			}
		case "Access-Control-Allow-Headers":
			m.Value = strings.Join(UnsafeNames(q.Headers, Standard), ", ")
			if l, fine := list(to.Headers, m.Header); fine {
				for _, n := range UnsafeNames(q.Headers, Standard) {
					if !slices.ContainsFunc(l, func(h string) bool { return strings.EqualFold(h, n) }) {
						l = append(l, n)
					}
				}
				m.Value = strings.Join(l, ", ")
			}
		case "status":
			m.Value, to.Status = "204", 204
			out = append(out, m)
			continue
		default:
			return out, false
		}
		to.Headers = append(without(to.Headers, m.Header), [2]string{m.Header, m.Value})
		out = append(out, m)
		if v, _ := list(to.Headers, "Vary"); m.Header == "Access-Control-Allow-Origin" && m.On == "answer" &&
			!slices.ContainsFunc(v, func(n string) bool { return n == "*" || strings.EqualFold(n, "Origin") }) {
			out = append(out, Mend{On: "answer", Header: "Vary", Value: "Origin"})
		}
	}
	return out, false
}

func without(h field.List, name string) field.List {
	return slices.DeleteFunc(slices.Clone(h), func(f [2]string) bool { return strings.EqualFold(f[0], name) })
}
