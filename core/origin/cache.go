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

// of says whether an entry is for the page and the address of a request, so that it is forgotten
// with it.
func (e cacheEntry) of(r *run) bool { return e.page == r.serialised() && e.url == r.current().String() }

func (c *Cache) live(r *run, f func(cacheEntry) bool) bool {
	return !r.asksAlways() && slices.ContainsFunc(c.entries, func(e cacheEntry) bool {
		return e.of(r) && r.now.Before(e.until) && (e.credentials || r.q.Credentials != Include) && f(e)
	})
}

// star says whether a * that was remembered covers more than its own name.
func (e cacheEntry) star(r *run) bool { return !e.credentials || !r.b.does(StarOfUsers) }

// conditional are fields with which a request is answered from no cache (section 4.6).
var conditional = []string{"If-Modified-Since", "If-None-Match", "If-Unmodified-Since", "If-Match", "If-Range"}

// mode is the cache mode that a request comes to (section 4.6).
func (r *run) mode() CacheMode {
	if r.q.Cache == "" && slices.ContainsFunc(conditional, r.headers.Has) {
		return NoStore
	}
	return r.q.Cache
}

// asksAlways says whether nothing that is remembered counts.
func (r *run) asksAlways() bool {
	m := r.mode()
	return r.b.does(ModesAskAgain) && (m == NoStore || m == Reload || m == NoCache) ||
		r.b.does(NullForgets) && r.serialised() == Null
}

// misses says what is not covered by earlier preflights, "" when all is.
func (c *Cache) misses(r *run, names []string) string {
	if !safeMethod(r.method) && !c.live(r, func(e cacheEntry) bool {
		return e.method == r.method || e.method == "*" && e.star(r)
	}) {
		return r.method
	}
	for _, n := range names {
		if !c.live(r, func(e cacheEntry) bool {
			return strings.EqualFold(e.header, n) || e.header == "*" && n != "authorization" && e.star(r)
		}) {
			return n
		}
	}
	return ""
}

// add remembers what a preflight allowed (section 4.8, its last steps).
func (c *Cache) add(r *run, methods, headers []string) {
	if r.b.does(NoStoreForgets) && r.q.Cache == NoStore || r.b.does(NullForgets) && r.serialised() == Null {
		return
	}
	e := cacheEntry{page: r.serialised(), url: r.current().String(), until: r.now.Add(r.out.CachedFor),
		credentials: r.q.Credentials == Include}
	for _, m := range methods {
		e.method = m
		c.put(r, e)
	}
	e.method = ""
	for _, h := range headers {
		e.header = h
		c.put(r, e)
	}
}

// put remembers one name anew; one that is there already, for this request, lives from now on.
func (c *Cache) put(r *run, e cacheEntry) {
	c.entries = slices.DeleteFunc(c.entries, func(o cacheEntry) bool {
		return o.of(r) && o.credentials == e.credentials && o.method == e.method &&
			strings.EqualFold(o.header, e.header)
	})
	c.entries = append(c.entries, e)
}

// clear forgets what is remembered for a request (section 4.9).
func (c *Cache) clear(r *run) {
	c.entries = slices.DeleteFunc(c.entries, func(e cacheEntry) bool { return e.of(r) })
}
