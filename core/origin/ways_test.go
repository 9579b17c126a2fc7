package origin

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsTold(t *testing.T) {
	patch := Call{Method: "PATCH", URL: "https://api.example/v1", ContentType: "application/json",
		Credential: "authorization"}
	get := Call{Method: "GET", URL: patch.URL}
	for _, c := range []struct {
		name string
		call Call
		seen Seen
		want []string
	}{
		{"nothing is permitted", get, Seen{Answer: head(200)}, []string{
			"fetches GET, without cookies: no preflight; sent, and the answer cannot be read: the answer has no " + tAO,
			"fetches GET, with the user's cookies: no preflight; sent, and the answer cannot be read: the answer has no " + tAO,
		}},
		{"a star", get, Seen{Answer: head(200, tAO, "*")}, []string{
			"fetches GET, without cookies: no preflight; answer readable",
			"fetches GET, with the user's cookies: no preflight; sent, and the answer cannot be read: " + tAO +
				" is *, which " +
				"does not do for a request with the user's cookies",
		}},
		{"a preflight that allows all but a field", patch, Seen{Preflight: head(204, tAO, page, tAM, "PATCH", tAH,
			"content-type")}, []string{
			"fetches PATCH with Content-Type: text/plain, without cookies: preflight, allowed; answer readable, if it permits " +
				"what its preflight does",
			"fetches PATCH with Content-Type: text/plain, with the user's cookies: preflight, not allowed: the preflight has no " +
				tAC + ", and the user's cookies went with the request; the request is never sent",
			"fetches PATCH with Content-Type: application/json, without cookies: preflight, allowed; answer readable, if it " +
				"permits what its preflight does",
			"fetches PATCH with Content-Type: application/json, with the user's cookies: preflight, not allowed: the preflight " +
				"has no " + tAC + ", and the user's cookies went with the request; the request is never sent",
			"fetches PATCH with Content-Type: application/json, authorization, without cookies: preflight, not allowed: " + tAH +
				" does not have authorization; the request is never sent",
			"fetches PATCH with Content-Type: application/json, authorization, with the user's cookies: preflight, not allowed: " +
				"the preflight has no " + tAC +
				", and the user's cookies went with the request; the request is never sent",
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, a := range Ways(c.call, page, c.seen, Standard) {
				got = append(got, a.Request.Words()+": "+a.Told())
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// What is to be sent is enough, and nothing of it is too much: without any one of them the request
// does not come through.
func TestMends(t *testing.T) {
	n := 0
	for _, m := range []string{"GET", "POST", "PATCH"} {
		for _, cred := range []Credentials{Omit, Include} {
			for _, pre := range []*Answer{nil, head(204), head(401), head(204, tAO, "*"), head(200, tAO, page, tAM,
				"GET, PUT"),
				head(204, tAO, page, tAC, "true", tAM, "PATCH", tAH, "x-a"), head(404, tAO, "https://other.example")} {
				for _, ans := range []*Answer{nil, head(200), head(200, tAO, "*"), head(200, tAO, page, "Vary",
					"Origin")} {
					q := Request{Page: page, URL: "https://api.example/", Method: m, Credentials: cred,
						Body:    m != "GET",
						Headers: [][2]string{{"Authorization", "x"}}}
					list, ok := Mends(q, Seen{Preflight: pre, Answer: ans})
					require.True(t, ok, "%s %s %v %v", m, cred, pre, ans)
					assert.True(t, comes(q, pre, ans, list), "%v", list)
					for i := range list {
						if list[i].Header == "Vary" {
							continue // it is for caches
						}
						less := append(append([]Mend{}, list[:i]...), list[i+1:]...)
						assert.False(t, comes(q, pre, ans, less), "%v is not needed beside %v", list[i], less)
						n++
					}
				}
			}
		}
	}
	assert.Greater(t, n, 300)
	_, ok := Mends(Request{Page: page, URL: "https://api.example/", Method: "TRACE"}, Seen{})
	assert.False(t, ok, "no field lets a page use TRACE")
}

// comes says whether a request comes through when fields are set on the answers.
func comes(q Request, pre, ans *Answer, list []Mend) bool {
	on := map[string]*Answer{"preflight": {Status: 204}, "answer": {Status: 200}}
	for k, a := range map[string]*Answer{"preflight": pre, "answer": ans} {
		if a != nil {
			*on[k] = *a
		} else if pre != nil {
			on[k].Headers = pre.Headers
		}
	}
	for _, m := range list {
		a := on[m.On]
		if m.Header == "status" {
			_, _ = fmt.Sscan(m.Value, &a.Status)
			continue
		}
		a.Headers = append(without(a.Headers, m.Header), [2]string{m.Header, m.Value})
	}
	o := Run(q, nil, time.Time{}, Standard, with(on["preflight"], on["answer"]))
	return o.Resolved && !o.Opaque
}

func TestTheCookieItself(t *testing.T) {
	for _, c := range []struct {
		said string
		got  Does
		want bool
	}{{"lax", ReadAsUser, true}, {"strict", ReadAsUser, true}, {"none", ReadAsUser, false}, {"", ReadAsUser, false},
		{"lax", Read, false}, {"strict", Send, false}} {
		j, ok := SameSite(page, c.said, c.got)
		assert.Equal(t, c.want, ok, c)
		if ok {
			assert.Equal(t, Note, j.Sort)
			assert.Contains(t, j.Text, "SameSite="+c.said)
		}
	}
}

func TestTheScript(t *testing.T) {
	q := Request{Page: page, URL: "https://api.example/v1", Method: "PATCH", Credentials: Include, Body: true,
		Headers: [][2]string{{"Content-Type", "application/json"}}}
	s := Script(q, `{"a":"</script>"}`)
	assert.Contains(t, s, "// In the console of a page of "+page+"\n")
	assert.Contains(t, s, `method: "PATCH",`)
	assert.Contains(t, s, `credentials: "include",`)
	assert.Contains(t, s, `headers: { "Content-Type": "application/json" },`)
	assert.NotContains(t, s, "</script>", "nothing ends the page that it is pasted into")
	assert.NotContains(t, s, "your own network")
	q.URL, q.Page = "http://10.0.0.7:8080/v1", Null
	s = Script(q, "x")
	assert.Contains(t, s, "your own network")
	assert.Contains(t, s, `frame.sandbox = "allow-scripts"`)
}
