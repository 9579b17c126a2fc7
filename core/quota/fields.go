package quota

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"millgate/core/field"

	"github.com/dunglas/httpsfv"
)

// Claim is what the answers of a drill say about a limit, in one set of fields.
type Claim struct {
	Form   string  `json:"form"`             // the fields
	Policy string  `json:"policy,omitempty"` // its name, where it has one
	Limit  int64   `json:"limit"`            // calls; -1 when it does not say
	Window int64   `json:"window"`           // ticks; -1 when it does not say
	Left   []int64 `json:"left,omitempty"`   // by call: how many more it lets through; -1 where it does not say
	Reset  []int64 `json:"reset,omitempty"`  // by call: ticks until there is room again; -1 where it does not say
	Bad    string  `json:"bad,omitempty"`    // the first value that cannot be read
}

// Forms of fields.
const (
	// draft-ietf-httpapi-ratelimit-headers: RateLimit as a list of policies (from 08 on) or as
	// limit=, remaining=, reset= (07), and RateLimit-Policy
	FormStructured = "RateLimit"
	FormSeparate   = "RateLimit-Limit"        // its older form, with RateLimit-Remaining and RateLimit-Reset
	FormX          = "X-RateLimit-Limit"      // the same before there was a draft, or X-Rate-Limit-…
	FormRetry      = "Retry-After"            // RFC 9110 section 10.2.3
	epochFrom      = int64(1_000_000_000)     // what is as large as this is an instant, in seconds
	epochMillis    = int64(1_000_000_000_000) // and this one in milliseconds
)

// saying is what one answer says in one set of fields.
type saying struct {
	form, policy               string
	limit, window, left, reset int64 // -1 when it does not say
	bad                        string
}

// Claims collects what answers say, call by call.
type Claims struct {
	List  []Claim
	calls int
}

// Add reads the fields of the answer to the next call, which came at an
// instant. Fields that say nothing of limits are left alone.
func (c *Claims) Add(fields field.List, at time.Time) {
	for _, s := range readFields(fields, at) {
		k := -1
		for i := range c.List {
			if c.List[i].Form == s.form && c.List[i].Policy == s.policy {
				k = i
			}
		}
		if k < 0 {
			k = len(c.List)
			c.List = append(c.List, Claim{Form: s.form, Policy: s.policy, Limit: -1, Window: -1})
		}
		l := &c.List[k]
		if s.limit >= 0 {
			l.Limit = s.limit
		}
		if s.window >= 0 {
			l.Window = s.window
		}
		if l.Bad == "" {
			l.Bad = s.bad
		}
		l.Left = placed(l.Left, c.calls, s.left)
		l.Reset = placed(l.Reset, c.calls, s.reset)
	}
	c.calls++
}

// placed puts a value at an index of a list that has -1 where there is none; a
// list without any stays empty.
func placed(list []int64, at int, v int64) []int64 {
	if v < 0 {
		return list
	}
	for len(list) < at {
		list = append(list, -1)
	}
	return append(list, v)
}

// Asked is after how many ticks the last answer asks to come again, -1 when it
// does not say: Retry-After, or else the reset of another set of fields.
func (c *Claims) Asked() int64 {
	best := int64(-1)
	for _, l := range c.List {
		if len(l.Reset) == c.calls && c.calls > 0 {
			if l.Form == FormRetry {
				return l.Reset[c.calls-1]
			}
			best = max(best, l.Reset[c.calls-1])
		}
	}
	return best
}

func readFields(fields field.List, at time.Time) (out []saying) {
	get := fields.All
	out = append(out, structured(get("RateLimit-Policy"), get("RateLimit"))...)
	for _, p := range []struct{ form, prefix string }{{FormSeparate, "RateLimit-"}, {FormX, "X-RateLimit-"},
		{FormX, "X-Rate-Limit-"}} {
		if s, ok := separate(p.form, get(p.prefix+"Limit"), get(p.prefix+"Remaining"), get(p.prefix+"Reset"), at); ok {
			out = append(out, s)
		}
	}
	if v := get("Retry-After"); len(v) > 0 {
		s := nothing(FormRetry, "")
		if s.reset = instant(v[0], at); s.reset < 0 {
			s.bad = "Retry-After: " + v[0]
		}
		out = append(out, s)
	}
	return out
}

func nothing(form, policy string) saying {
	return saying{form: form, policy: policy, limit: -1, window: -1, left: -1, reset: -1}
}

// structured reads RateLimit-Policy and RateLimit as lists of structured fields
// (RFC 9651): "name";q=8;w=300 and "name";r=0;t=20.
func structured(policy, state []string) (out []saying) {
	at := map[string]int{}
	entry := func(name string) *saying {
		k, ok := at[name]
		if !ok {
			k = len(out)
			at[name] = k
			out = append(out, nothing(FormStructured, name))
		}
		return &out[k]
	}
	read := func(field string, values []string, take func(s *saying, p *httpsfv.Params)) {
		if len(values) == 0 {
			return
		}
		list, err := httpsfv.UnmarshalList(values)
		if s, ok := dictionary(values); err != nil && ok {
			*entry("") = s
			return
		}
		if err != nil {
			entry("").bad = field + ": " + strings.Join(values, ", ")
			return
		}
		for _, m := range list {
			it, ok := m.(httpsfv.Item)
			if !ok {
				entry("").bad = field + ": " + strings.Join(values, ", ")
				continue
			}
			if n, ok := it.Value.(int64); ok && n >= 0 { // drafts 03 to 07: the number itself, 8;w=300
				s := entry("")
				s.limit = n
				if w := param(it.Params, "w"); w >= 0 {
					s.window = Ticks(time.Duration(w) * time.Second)
				}
				continue
			}
			take(entry(fmt.Sprint(it.Value)), it.Params)
		}
	}
	read("RateLimit-Policy", policy, func(s *saying, p *httpsfv.Params) {
		s.limit = param(p, "q")
		if w := param(p, "w"); w >= 0 {
			s.window = Ticks(time.Duration(w) * time.Second)
		}
	})
	read("RateLimit", state, func(s *saying, p *httpsfv.Params) {
		s.left = param(p, "r")
		if t := param(p, "t"); t >= 0 {
			s.reset = Ticks(time.Duration(t) * time.Second)
		}
	})
	return out
}

// dictionary reads RateLimit as draft 07 has it: limit=8, remaining=5, reset=20.
func dictionary(values []string) (s saying, ok bool) {
	d, err := httpsfv.UnmarshalDictionary(values)
	if err != nil {
		return s, false
	}
	s = nothing(FormStructured, "")
	for name, into := range map[string]*int64{"limit": &s.limit, "remaining": &s.left, "reset": &s.reset} {
		m, there := d.Get(name)
		it, isItem := m.(httpsfv.Item)
		if n, isInt := it.Value.(int64); there && isItem && isInt && n >= 0 && n < 1<<40 {
			*into, ok = n, true
		}
	}
	if s.reset >= 0 {
		s.reset = Ticks(time.Duration(s.reset) * time.Second)
	}
	return s, ok
}

// param is a parameter that is a whole number, -1 otherwise.
func param(p *httpsfv.Params, name string) int64 {
	if v, ok := p.Get(name); ok {
		if n, ok := v.(int64); ok && n >= 0 && n < 1<<40 {
			return n
		}
	}
	return -1
}

// separate reads three fields of one number each. A limit may have its policies
// behind it: 8, 8;w=300.
func separate(form string, limit, left, reset []string, at time.Time) (s saying, ok bool) {
	if len(limit)+len(left)+len(reset) == 0 {
		return s, false
	}
	s = nothing(form, "")
	num := func(values []string) int64 {
		if len(values) == 0 {
			return -1
		}
		head, _, _ := strings.Cut(values[0], ",")
		head, _, _ = strings.Cut(head, ";")
		n, err := strconv.ParseFloat(strings.TrimSpace(head), 64)
		if err != nil || n < 0 || n > 1<<40 {
			s.bad = values[0]
			return -1
		}
		return int64(n)
	}
	s.limit, s.left = num(limit), num(left)
	if len(limit) > 0 {
		if _, w, found := strings.Cut(limit[0], ";w="); found {
			w, _, _ = strings.Cut(w, ",")
			w, _, _ = strings.Cut(w, ";")
			if n, err := strconv.ParseInt(strings.TrimSpace(w), 10, 40); err == nil && n > 0 {
				s.window = Ticks(time.Duration(n) * time.Second)
			}
		}
	}
	if len(reset) > 0 {
		if s.reset = instant(reset[0], at); s.reset < 0 {
			s.bad = reset[0]
		}
	}
	return s, true
}

// instant reads how long until an instant: seconds from now, seconds or
// milliseconds since 1970, or a date; -1 for anything else. In ticks.
func instant(text string, at time.Time) int64 {
	text = strings.TrimSpace(text)
	if t, ok := field.Date(text); ok {
		return Ticks(t.Sub(at))
	}
	for _, layout := range []string{time.RFC1123, time.RFC3339} { // dates that HTTP does not have
		if t, err := time.Parse(layout, text); err == nil {
			return Ticks(t.Sub(at))
		}
	}
	n, err := strconv.ParseFloat(text, 64)
	switch v := int64(n); {
	case err != nil || n < 0 || n > 1<<50:
		return -1
	case v >= epochMillis:
		return max(0, v*1000-at.UnixMicro())
	case v >= epochFrom:
		return max(0, v*1_000_000-at.UnixMicro())
	}
	return Ticks(time.Duration(n * float64(time.Second)))
}
