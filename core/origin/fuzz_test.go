package origin

import (
	"slices"
	"strings"
	"testing"
	"time"

	"millgate/core/declaration"
	"millgate/core/field"
)

// said is a field of an answer as the standard takes it: all of its lines, joined (Fetch, section
// 2.2.2, "get"); "" without one.
func said(a Answer, name string) string {
	var all []string
	for _, h := range a.Headers {
		if strings.EqualFold(h[0], name) {
			all = append(all, strings.Trim(h[1], " \t\r\n"))
		}
	}
	return strings.Join(all, ", ")
}

// permits is the CORS check (Fetch, section 4.10) in two lines.
func permits(a Answer, page string, cookies bool) bool {
	ao := said(a, "Access-Control-Allow-Origin")
	return ao == "*" && !cookies ||
		ao == page && (!cookies || said(a, "Access-Control-Allow-Credentials") == "true")
}

// Whatever a service answers to whatever a page asks, no page reads what the standard's check does not
// permit, nothing but GET, HEAD and POST is carried out unasked, and what is said to help does.
func FuzzPages(f *testing.F) {
	f.Add("https://app.example", "PATCH", "/v1", "X-A: 1\nContent-Type: application/json", true,
		"204\nAccess-Control-Allow-Origin: https://app.example\nAccess-Control-Allow-Methods: PATCH",
		"200\nAccess-Control-Allow-Origin: *\nAccess-Control-Allow-Credentials: true")
	f.Add("null", "GET", "/", "", true, "", "200\nAccess-Control-Allow-Origin: null\nSet-Cookie: a=b; SameSite=Lax")
	f.Add("https://app.example", "put", "//x", "Range: bytes=0-", false, "301\nLocation: /",
		"302\nLocation: https://other.example/\nAccess-Control-Allow-Origin: https://app.example\n"+
			"Access-Control-Allow-Origin: *")
	allow := []declaration.Permission{{Origin: "https://app.example", Methods: []string{"GET", "PATCH"},
		Credentials: true}}
	f.Fuzz(func(t *testing.T, page, method, path, headers string, cookies bool, pre, ans string) {
		if Of(page) != page && page != Null {
			return
		}
		first, err := ParseHead(pre)
		last, err2 := ParseHead(ans)
		asked, err3 := ParseHead(headers)
		if err != nil || err2 != nil || err3 != nil {
			return
		}
		q := Request{Page: page, Method: method, URL: "https://api.example" + path, Headers: asked.Headers,
			Credentials: Omit}
		if cookies {
			q.Credentials = Include
		}
		s := Seen{Preflight: &first, Answer: &last}
		o := Run(q, nil, time.Unix(0, 0), Standard, func(x Sent) (Answer, bool) {
			if x.Preflight {
				return first, true
			}
			return last, true
		})
		held(t, q, o, s)
		c := Call{Method: method, URL: q.URL, Credential: "authorization"}
		_, _, list := Judge(c, Page{Origin: page}, allow, s, &last)
		for _, j := range list {
			if j.ID == "" || strings.Contains(j.Text, "%!") {
				t.Fatalf("%+v", j)
			}
		}
		if list, ok := Mends(q, s); ok {
			mended(t, q, s, list)
		}
	})
}

// held fails where a page could do what the standard does not let it.
func held(t *testing.T, q Request, o Outcome, s Seen) {
	if len(o.Sent) > 2*(maxRedirects+1) {
		t.Fatalf("%d requests went out", len(o.Sent))
	}
	asked := false
	for _, x := range o.Sent {
		if x.Preflight {
			asked = true
			continue
		}
		away := Of(x.URL) != q.Page
		if away && !slices.Contains([]string{"GET", "HEAD", "POST"}, x.Method) && !asked {
			t.Fatalf("%s was sent without a question", x.Method)
		}
		if asked && (s.Preflight.Status < 200 || s.Preflight.Status > 299 ||
			!permits(*s.Preflight, q.Page, q.Credentials == Include)) {
			t.Fatalf("%s was sent although the preflight does not permit it", x.Method)
		}
	}
	if n := len(o.Sent); o.Resolved && !o.Opaque && n > 0 && Of(o.Sent[n-1].URL) != q.Page {
		origin := o.Sent[n-1].Origin
		if origin == "" {
			origin = q.Page
		}
		if !permits(*s.Answer, origin, q.Credentials == Include) {
			t.Fatalf("%s reads what nothing permits", origin)
		}
	}
}

// mended fails where a page cannot read even with what is said to help.
func mended(t *testing.T, q Request, s Seen, list []Mend) {
	pre, ans := *s.Preflight, *s.Answer
	for _, m := range list {
		to := &pre
		if m.On == "answer" {
			to = &ans
		}
		if m.Header == "status" {
			to.Status = 204
			continue
		}
		to.Headers = append(field.List{{m.Header, m.Value}}, without(to.Headers, m.Header)...)
	}
	o := Run(q, nil, time.Unix(0, 0), Standard, func(x Sent) (Answer, bool) {
		if x.Preflight {
			return pre, true
		}
		return ans, true
	})
	if !o.Resolved || o.Opaque {
		t.Fatalf("with %v the page is stopped: %+v", list, o.Blocked())
	}
}
