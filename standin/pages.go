package standin

import (
	"net/url"
	"slices"
	"strings"
)

// grant is what pages of one origin may do.
type grant struct {
	methods     []string
	headers     []string
	expose      string
	credentials bool
	age         string
}

// pages writes what a page of another origin may do into the answer, whatever
// comes of the request, so that a page can read refusals too. It answers
// preflights itself: they have no credential to show.
func (s *Service) pages(c *call, table []*rt) (done bool) {
	if &table[0] != &s.api[0] {
		return false // nobody calls the issuer from a page
	}
	page, asked := c.r.Header.Get("Origin"), c.r.Header.Get("Access-Control-Request-Method")
	key := ""
	for _, t := range table {
		if _, ok := t.match(split(c.r.URL.Path), false); ok {
			_, key, _ = strings.Cut(t.key, " ")
		}
	}
	if !strings.HasPrefix(key, "/v1/") {
		return false
	}
	h := c.w.Header()
	h.Add("Vary", "Origin")
	preflight := c.r.Method == "OPTIONS" && asked != "" && page != ""
	method := c.r.Method
	if preflight {
		method = asked
	}
	if g := s.granted(page, key); g != nil && slices.Contains(g.methods, method) {
		h.Set("Access-Control-Allow-Origin", page)
		if g.credentials {
			h.Set("Access-Control-Allow-Credentials", "true")
		}
		if g.expose != "" && !preflight {
			h.Set("Access-Control-Expose-Headers", g.expose)
		}
		if preflight {
			h.Set("Access-Control-Allow-Methods", strings.Join(g.methods, ", "))
			if len(g.headers) > 0 {
				h.Set("Access-Control-Allow-Headers", strings.Join(g.headers, ", "))
			}
			if g.age != "" {
				h.Set("Access-Control-Max-Age", g.age)
			}
		}
	}
	if preflight {
		c.w.WriteHeader(204)
	}
	return preflight
}

// granted is what a page may do at a path, nil for nothing.
func (s *Service) granted(page, path string) *grant {
	sky, desk := "https://"+s.n("sky")+".fernhollow.example", "https://"+s.n("desk")+".fernhollow.example"
	staff := &grant{methods: []string{"GET", "POST", "PUT", "PATCH", "DELETE"},
		headers: []string{"authorization", "content-type"}, expose: "retry-after", credentials: true, age: "600"}
	public := strings.HasPrefix(path, "/v1/sky/")
	if public {
		staff = &grant{methods: []string{"GET"}}
	}
	switch {
	case page == "":
		return nil
	case s.flaws[MirrorOrigin]:
		return &grant{methods: []string{"GET", "POST", "PUT", "PATCH", "DELETE"},
			headers: []string{"authorization", "content-type"}, expose: "retry-after", credentials: true}
	case page == desk && s.flaws[PolicyNotAttached] && !public:
		return nil
	case page == desk,
		page == sky && public,
		page == "null" && s.flaws[NullOrigin],
		page == "http"+strings.TrimPrefix(desk, "https") && s.flaws[PlainHTTPOrigin]:
		return staff
	}
	if u, err := url.Parse(page); err == nil && u.Scheme == "https" && s.flaws[SuffixOrigin] &&
		strings.HasSuffix(u.Host, "fernhollow.example") {
		return staff
	}
	return nil
}
