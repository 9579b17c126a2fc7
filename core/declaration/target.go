package declaration

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/route"
)

// Unsafe says which unsafe methods (RFC 9110 section 9.2.1) may be sent.
type Unsafe string

const (
	UnsafeRefused Unsafe = "refused"           // none; the default
	UnsafeMade    Unsafe = "made-records-only" // only on records made for the purpose
	UnsafeAllowed Unsafe = "allowed"
)

// Pace is a number of requests in a time.
type Pace struct {
	Count int
	Per   time.Duration
}

func (p Pace) String() string { return fmt.Sprintf("%d per %s", p.Count, ShortDuration(p.Per)) }

// PerSecond is the pace in requests per second.
func (p Pace) PerSecond() float64 {
	if p.Per <= 0 {
		return 0
	}
	return float64(p.Count) / p.Per.Seconds()
}

// Target is a running service.
type Target struct {
	Name string
	Place
	Base   string            // absolute URL without a trailing slash
	Hosts  map[string]string // other hosts that belong to it, by name
	Values map[string]string // what {name} stands for on this target
	Direct string            // the same service without its gateway
	Pace   Pace
	Unsafe Unsafe
	AskFor []string      // further undeclared paths to ask for
	Drill  time.Duration // that a quota drill may take within a sweep
	Pass   Pass          // what keeps a sweep out of the target's counts; the zero Pass is none
	// The quotas that are configured lower there, so that a drill need not wait
	// as long as the declared ones take.
	Lowered []Lowered
	// Shorter are the lifetimes that are configured shorter there.
	Shorter []Shorter
	// How it is reached, besides its address: whose certificates count besides those of the
	// system (a file of PEM), what Mill Gate shows for itself, and fields of every request.
	CA      Ref
	Client  Certificate
	Headers []Header
	// Mark is the field by which each request can be found in the service's own log; "" is none.
	Mark string
	// RefusesTests: tokens that only the machines of developers may issue are turned away.
	RefusesTests bool
	// Describes says who may see what describes the API there; nil where nothing does: then nobody.
	// Only its Who counts.
	Describes *Entry
}

// Certificate is what Mill Gate proves itself with to the service (RFC 8446, section 4.4.2):
// a file of PEM, and its private key. The zero Certificate is none.
type Certificate struct {
	Place
	Cert Ref
	Key  Value
}

// Header is a field that every request to a target bears.
type Header struct {
	Place
	Name  string
	Value Value
}

// Shorter is what a lifetime is on one target in place of what is declared; 0 is as declared.
type Shorter struct {
	Ref
	Idle, Max time.Duration
}

// Lifetime is a lifetime on the target, and whether it is shorter there.
func (t *Target) Lifetime(l *Lifetime) (on *Lifetime, shorter bool) {
	for _, x := range t.Shorter {
		if x.Name == l.Name {
			c := *l
			c.Idle, c.Max = cmp.Or(x.Idle, l.Idle), cmp.Or(x.Max, l.Max)
			return &c, true
		}
	}
	return l, false
}

// LifetimeOf is the lifetime of a credential of a scheme on the target; nil where nothing says one.
func (t *Target) LifetimeOf(d *Document, s *Scheme, credential string) (on *Lifetime, shorter bool) {
	if s == nil {
		return nil, false
	}
	l := d.LifetimeNamed(s.Lifetime[credential].Name)
	if l == nil {
		return nil, false
	}
	return t.Lifetime(l)
}

// Lowered is what a quota is on one target in place of what is declared.
type Lowered struct {
	Ref   // the quota
	Allow []Amount
	Burst int // for buckets; 0 is the amount's count
}

// Quota is a quota as it is on this target: lowered where the target says so,
// for everybody alike.
func (t *Target) Quota(q *Quota) (on *Quota, lowered bool) {
	for _, l := range t.Lowered {
		if l.Name == q.Name && len(l.Allow) > 0 {
			c := *q
			c.Allow, c.Burst, c.For = l.Allow, l.Burst, nil
			return &c, true
		}
	}
	return q, false
}

// DefaultDrill is how long a quota drill may take within a sweep.
const DefaultDrill = 3 * time.Second

// Pass is a header field with which the target does not count a request, as
// test environments have for their own tests.
type Pass struct {
	Place
	Header string
	Value  Value
}

var drillWords = []string{"for", "quotas", "lifetimes"}

func (r *reader) url(n ast.Node, what string) string {
	s, ok := r.str(n, what)
	if !ok {
		return ""
	}
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		r.fail(n, "type", fmt.Sprintf("%s must be an http or https address, not %q", what, s),
			"write for example https://staging.example")
		return ""
	}
	if wrong := port(u); wrong != "" {
		r.fail(n, "type", wrong, "write for example https://staging.example:8443")
		return ""
	}
	if u.RawQuery != "" || u.Fragment != "" || u.User != nil {
		r.fail(n, "type", what+" must have no user, query or fragment", "leave only scheme, host, port and path")
		return ""
	}
	return strings.TrimRight(s, "/")
}

func (r *reader) targets(doc *Document, n ast.Node) {
	for _, q := range r.entries(n, "targets", nil) {
		t := &Target{Name: q.key, Place: q.kpos, Hosts: map[string]string{}, Values: map[string]string{},
			Pace: DefaultPace, Unsafe: UnsafeRefused, Drill: DefaultDrill}
		based := false
		for _, f := range r.entries(q.val, "target "+q.key, TargetWords) {
			switch f.key {
			case "base":
				based = true
				t.Base = r.url(f.val, "base")
			case "direct":
				t.Direct = r.url(f.val, "direct")
			case "hosts":
				for _, h := range r.entries(f.val, "hosts", nil) {
					t.Hosts[h.key] = r.url(h.val, "host "+h.key)
				}
			case "values":
				t.Values = r.stringMap(f.val, "values")
			case "pace":
				if s, ok := r.str(f.val, "pace"); ok {
					p, err := ParsePace(s)
					if err != nil {
						r.fail(f.val, "type", err.Error(), "write for example 5 per 1s")
					} else {
						t.Pace = p
					}
				}
			case "unsafe":
				t.Unsafe = Unsafe(r.word(f.val, "unsafe", string(UnsafeRefused), string(UnsafeMade),
					string(UnsafeAllowed)))
				if t.Unsafe == "" {
					t.Unsafe = UnsafeRefused
				}
			case "drill":
				r.drill(t, f)
			case "pass":
				t.Pass = r.pass(f)
			case "ca", "client", "headers":
				if r.since(V11, f.kn, "`"+f.key+"` of a target") {
					r.reached(t, f)
				}
			case "mark":
				if r.since(V11, f.kn, "`mark` of a target") {
					t.Mark = r.mark(f)
				}
			case "refuses":
				if r.since(V11, f.kn, "`refuses` of a target") {
					t.RefusesTests = r.word(f.val, "refuses", "tests") == "tests"
				}
			case "describes":
				if r.since(V11, f.kn, "`describes` of a target") {
					t.Describes = r.describes(f)
				}
			case "ask_for":
				for _, x := range r.refs(f.val, "ask_for") {
					if _, err := route.Parse(x.Name); err != nil || !strings.HasPrefix(x.Name, "/") {
						r.sayAt(x.Place, len(x.Name), Error, "type", fmt.Sprintf("ask_for needs paths, not %q", x.Name),
							"write for example /internal/health")
						continue
					}
					t.AskFor = append(t.AskFor, x.Name)
				}
			}
		}
		used := slices.ContainsFunc(t.Headers, func(h Header) bool { return strings.EqualFold(h.Name, t.Mark) })
		if used || t.Mark != "" && strings.EqualFold(t.Mark, t.Pass.Header) {
			r.fail(q.kn, "type", fmt.Sprintf("target %q sends %s with a value of its own", q.key, t.Mark),
				"give `mark` a field that nothing else uses")
		}
		if !based {
			r.fail(q.kn, "missing", fmt.Sprintf("target %q has no base", q.key), "add  base: https://…")
		}
		doc.Targets = append(doc.Targets, t)
	}
}

// describes is who may see descriptions of the API.
func (r *reader) describes(f pair) *Entry {
	e := &Entry{Place: r.place(f.val), Who: r.whos(f)}
	r.alone(e, f.key)
	if words := e.Words(); len(words) > 0 {
		says := "`on`"
		if words[0].Kind == OnOwn {
			says = "`owner`"
		}
		r.fail(f.val, "owner", says+" is of a record, and a description of the API is none", "name a role, or "+
			"identity:NAME")
	}
	return e
}

// drill is how long a quota drill may take, or that and the quotas that are
// lower on this target.
func (r *reader) drill(t *Target, p pair) {
	if !isMap(r.plain(p.val)) {
		t.Drill = r.duration(p.val, "drill")
		return
	}
	for _, f := range r.entries(p.val, "drill", drillWords) {
		switch f.key {
		case "for":
			t.Drill = r.duration(f.val, "for")
		case "quotas":
			for _, g := range r.entries(f.val, "the lowered quotas", nil) {
				t.Lowered = append(t.Lowered, r.lowered(g))
			}
		case "lifetimes":
			if !r.since(V11, f.kn, "`lifetimes` of a drill") {
				continue
			}
			for _, g := range r.entries(f.val, "the shorter lifetimes", nil) {
				t.Shorter = append(t.Shorter, r.shorter(g))
			}
		}
	}
}

func (r *reader) shorter(p pair) Shorter {
	l := Shorter{Ref: Ref{Name: p.key, Place: p.kpos}}
	for _, f := range r.entries(p.val, "shorter lifetime "+p.key, []string{"idle", "max"}) {
		if d := r.duration(f.val, f.key); f.key == "idle" {
			l.Idle = d
		} else {
			l.Max = d
		}
	}
	if l.Idle <= 0 && l.Max <= 0 {
		r.fail(p.kn, "missing", fmt.Sprintf("the shorter lifetime %q has no time", p.key),
			"write for example  "+p.key+": { idle: 2s }")
	}
	return l
}

func (r *reader) lowered(p pair) Lowered {
	l := Lowered{Ref: Ref{Name: p.key, Place: p.kpos}}
	none := false
	if !isMap(r.plain(p.val)) {
		l.Allow = r.amounts(p.val, p.key)
		none = len(r.list(p.val)) == 0
	} else {
		none = true
		for _, f := range r.entries(p.val, "lowered quota "+p.key, []string{"allow", "burst"}) {
			if f.key == "allow" {
				l.Allow = r.amounts(f.val, "allow")
				none = len(r.list(f.val)) == 0
			} else {
				l.Burst = r.number(f.val, "burst", 1)
			}
		}
	}
	if none {
		r.fail(p.kn, "missing", fmt.Sprintf("the lowered quota %q has no amount", p.key),
			"write for example  "+p.key+": 5 per 2s")
	}
	return l
}

func isMap(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// ownFields are fields that a target's `headers` cannot set: what frames a request, and what
// says who calls, which is for probes to say.
var ownFields = []string{"authorization", "connection", "content-length", "content-type", "cookie", "host", "origin",
	"proxy-authorization", "te", "trailer", "transfer-encoding", "upgrade"}

// reached is how a target is reached.
func (r *reader) reached(t *Target, f pair) {
	switch f.key {
	case "ca":
		t.CA = r.fileRef(f)
	case "client":
		t.Client.Place = f.kpos
		for _, g := range r.entries(f.val, "client", []string{"cert", "key"}) {
			if g.key == "cert" {
				t.Client.Cert = r.fileRef(g)
			} else {
				t.Client.Key = r.value(g)
			}
		}
		if t.Client.Cert.Name == "" || t.Client.Key == (Value{}) {
			r.fail(f.kn, "missing", "a client certificate needs `cert` and `key`",
				"write  client: { cert: client.pem, key: env:CLIENT_KEY }")
		}
	case "headers":
		for _, h := range r.entries(f.val, "headers", nil) {
			switch {
			case !fieldName.MatchString(h.key):
				r.fail(h.kn, "type", fmt.Sprintf("%q is no header field", h.key), "write for example X-Site")
			case slices.Contains(ownFields, strings.ToLower(h.key)):
				r.fail(h.kn, "type", fmt.Sprintf("%s is for probes to say", h.key),
					"who calls stands in schemes and identities; here stand fields of every request, as X-Site")
			default:
				v := r.value(h)
				if strings.ContainsAny(v.Literal, "\r\n\x00") {
					r.fail(h.val, "type", "the value of a header field is one line", "write it without line breaks")
					continue
				}
				t.Headers = append(t.Headers, Header{h.kpos, h.key, v})
			}
		}
	}
}

// mark is the name of the field that marks each request.
func (r *reader) mark(f pair) string {
	s, ok := r.str(f.val, "mark")
	switch {
	case !ok:
		return ""
	case !fieldName.MatchString(s):
		r.fail(f.val, "type", fmt.Sprintf("%q is no header field", s), "write for example X-Mill-Gate")
		return ""
	case slices.Contains(ownFields, strings.ToLower(s)), strings.EqualFold(s, "traceparent"),
		strings.EqualFold(s, "accept"), strings.EqualFold(s, "user-agent"):
		r.fail(f.val, "type", s+" has a meaning of its own", "name a field that nothing else uses, as X-Mill-Gate; "+
			"traceparent goes with it")
		return ""
	}
	return s
}

// fileRef is a file beside the declaration.
func (r *reader) fileRef(f pair) Ref {
	s, ok := r.str(f.val, f.key)
	if ok && s == "" {
		r.fail(f.val, "type", "the name of the file is missing", "write for example  "+f.key+": staging.pem")
	}
	return Ref{Name: s, Place: r.place(f.val)}
}

func (r *reader) pass(p pair) Pass {
	out := Pass{Place: p.kpos}
	valued := false
	for _, f := range r.entries(p.val, "pass", []string{"header", "value"}) {
		switch f.key {
		case "header":
			s, _ := r.str(f.val, "header")
			if !fieldName.MatchString(s) {
				r.fail(f.val, "type", fmt.Sprintf("%q is no header field", s), "write for example X-Test-Pass")
			}
			out.Header = s
		case "value":
			out.Value, valued = r.value(f), true
		}
	}
	if out.Header == "" || !valued {
		r.fail(p.kn, "missing", "a pass needs `header` and `value`", "write  pass: { header: X-Test-Pass, value: "+
			"env:TEST_PASS }")
	}
	return out
}

// On says on which host of a target an address is, "" is its base, and what path it has there, normalised; ok is false
// where it is on none. An address is scheme://host[:port]/path; without a scheme it is taken for each. Of several hosts
// the one whose base is longest takes it.
func (t *Target) On(address string) (host, path string, ok bool) {
	best := -1
	try := func(name, base string) {
		base = strings.TrimSuffix(base, "/")
		if !strings.Contains(address, "://") {
			_, base, _ = strings.Cut(base, "://")
		}
		if rest, is := strings.CutPrefix(address, base); is && strings.HasPrefix(rest, "/") && len(base) > best {
			host, path, best, ok = name, rest, len(base), true
		}
	}
	try("", t.Base)
	for name, base := range t.Hosts {
		try(name, base)
	}
	return host, route.Normalise(path), ok
}
