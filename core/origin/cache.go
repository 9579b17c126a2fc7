package origin

import (
	"slices"
	"strings"
	"time"
)

// Cache is a browser's CORS-preflight cache (section 4.9). The zero value is
// empty.
type Cache struct{ entries []cacheEntry }

type cacheEntry struct {
	page, url   string
	until       time.Time
	credentials bool
	method      string // one of method and header is set
	header      string
}

func (c *Cache) live(r *run, f func(cacheEntry) bool) bool {
	return slices.ContainsFunc(c.entries, func(e cacheEntry) bool {
		return e.page == r.serialised() && e.url == r.current().String() && r.now.Before(e.until) &&
			(e.credentials || r.q.Credentials != Include) && f(e)
	})
}

// misses says what is not covered by earlier preflights, "" when all is.
func (c *Cache) misses(r *run, names []string) string {
	if !safeMethod(r.method) && !c.live(r, func(e cacheEntry) bool {
		return e.method == r.method ||
			e.method == "*" && !e.credentials
	}) {
		return r.method
	}
	for _, n := range names {
		if !c.live(r, func(e cacheEntry) bool {
			return strings.EqualFold(e.header, n) || e.header == "*" && !e.credentials &&
				(n != "authorization" || r.b.does(StarCoversAuth))
		}) {
			return n
		}
	}
	return ""
}

// add remembers what a preflight allowed.
func (c *Cache) add(r *run, methods, headers, asked []string) {
	if r.out.CachedFor <= 0 {
		return
	}
	e := cacheEntry{page: r.serialised(), url: r.current().String(), until: r.now.Add(r.out.CachedFor),
		credentials: r.q.Credentials == Include}
	if len(methods) == 0 && safeMethod(r.method) {
		methods = []string{r.method}
	}
	for _, m := range methods {
		e.method = m
		c.entries = append(c.entries, e)
	}
	e.method = ""
	for _, h := range headers {
		e.header = h
		c.entries = append(c.entries, e)
	}
}

// clear forgets what is remembered for a request (section 4.9).
func (c *Cache) clear(r *run) {
	c.entries = slices.DeleteFunc(c.entries, func(e cacheEntry) bool {
		return e.page == r.serialised() &&
			e.url == r.current().String()
	})
}
