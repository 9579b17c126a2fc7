package declaration

import (
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/pointer"
	"millgate/core/route"
	"millgate/core/weburl"
)

var (
	quotaWords = []string{"at", "allow", "counted_by", "model", "starts", "burst", "queue", "queue_for", "counts",
		"refuse_with", "count_per", "for", "exempt", "locks"}
	permissionWords = []string{"methods", "headers", "expose", "credentials", "max_age"}
	waiverWords     = []string{"check", "finding", "kind", "at", "of", "callers", "reason", "by", "until"}
	countWords      = []string{"address", "identity", Account, "key", "role", "host", "everyone"}
)

// findingID is how findings are named.
var findingID = regexp.MustCompile("^mg-[0-9a-f]{10}$")

// fieldName is a header field's name (RFC 9110 section 5.6.2).
var fieldName = regexp.MustCompile("^[!#$%&'*+.^_|~0-9A-Za-z-]+$")

// ParseAmount reads "8 per 5m", or "3" for calls at the same time.
func ParseAmount(s string) (Amount, error) {
	if n, err := strconv.Atoi(strings.TrimSpace(s)); err == nil {
		if n < 1 {
			return Amount{}, fmt.Errorf("%q is not a whole number above zero", s)
		}
		return Amount{Count: n}, nil
	}
	p, err := ParsePace(s)
	if err != nil {
		return Amount{}, fmt.Errorf("%q is not an amount; write for example 8 per 5m", s)
	}
	return Amount(p), nil
}

func (r *reader) amounts(n ast.Node, what string) (out []Amount) {
	for _, x := range r.list(n) {
		s, ok := r.str(x, what)
		if !ok {
			continue
		}
		a, err := ParseAmount(s)
		if err != nil {
			r.fail(x, "type", err.Error(), "")
			continue
		}
		out = append(out, a)
	}
	return out
}

func (r *reader) number(n ast.Node, what string, least int) int {
	s, ok := r.str(n, what)
	if !ok {
		return 0
	}
	v, err := strconv.Atoi(s)
	if err != nil || v < least {
		r.fail(n, "type", fmt.Sprintf("%s must be a whole number, at least %d", what, least), "")
		return 0
	}
	return v
}

func (r *reader) quota(q pair) *Quota {
	u := &Quota{Name: q.key, Place: q.kpos, Model: FixedWindow, Starts: "first-call", Counts: "all", RefuseWith: 429}
	by := map[string]pair{}
	for _, f := range r.entries(q.val, "quota "+q.key, quotaWords) {
		by[f.key] = f
		switch f.key {
		case "at":
			u.At = r.selectors(f.val)
		case "allow":
			u.Allow = r.amounts(f.val, "allow")
			if len(r.list(f.val)) == 0 {
				r.fail(f.kn, "missing", "`allow` is empty", "write for example  allow: 8 per 5m")
			}
		case "counted_by":
			u.CountedBy = r.countedBy(f.val)
		case "model":
			if m := r.word(f.val, "model", string(FixedWindow), string(SlidingWindow), string(TokenBucket),
				string(LeakyBucket), string(Concurrency)); m != "" {
				u.Model = Model(m)
			}
		case "starts":
			u.Starts = r.word(f.val, "starts", "first-call", "clock")
		case "burst":
			u.Burst = r.number(f.val, "burst", 1)
		case "queue":
			u.Queue = r.number(f.val, "queue", 0)
		case "queue_for":
			u.QueueFor = r.duration(f.val, "queue_for")
		case "counts":
			u.Counts = r.word(f.val, "counts", "all", "admitted")
		case "refuse_with":
			u.RefuseWith = r.status(f.val)
		case "count_per":
			u.PerRoute = r.word(f.val, "count_per", "all", "route") == "route"
		case "for":
			for _, g := range r.entries(f.val, "for", nil) {
				u.For = append(u.For, QuotaFor{Ref{Name: g.key, Place: g.kpos}, r.amounts(g.val, "for "+g.key)})
			}
		case "exempt":
			u.Exempt = r.exemptions(f.val)
		case "locks":
			if r.since(V11, f.kn, "`locks` of a quota") {
				u.Locks = r.locks(f)
			}
		}
	}
	for _, w := range [][2]string{{"at", "at: POST /path"}, {"allow", "allow: 8 per 5m"}} {
		if _, ok := by[w[0]]; !ok {
			r.fail(q.kn, "missing", fmt.Sprintf("quota %q needs `%s`", q.key, w[0]), "add  "+w[1])
		}
	}
	if _, ok := by["counted_by"]; !ok {
		r.fail(q.kn, "missing", fmt.Sprintf("quota %q does not say what is counted", q.key),
			"add  counted_by: address  (or identity, key, role, host, header:NAME, everyone)")
	}
	r.quotaShape(u, by)
	return u
}

// quotaShape checks words that only have a meaning together.
func (r *reader) quotaShape(u *Quota, by map[string]pair) {
	bucket := u.Model == TokenBucket || u.Model == LeakyBucket
	for word, fits := range map[string]bool{"starts": u.Model == FixedWindow, "burst": bucket} {
		if f, ok := by[word]; ok && !fits {
			r.fail(f.kn, "unknown-word", fmt.Sprintf("`%s` has no meaning for the model %s", word, u.Model),
				"remove it, or choose another model")
		}
	}
	if f, ok := by["locks"]; ok && u.Locks != nil && !u.ByAccount() {
		r.fail(f.kn, "unknown-word", "`locks` has a meaning where the quota is counted by account",
			"write  counted_by: account  or remove it")
	}
	all := slices.Clone(u.Allow)
	for _, g := range u.For {
		all = append(all, g.Amounts...)
	}
	for _, a := range all {
		if (a.Per == 0) != (u.Model == Concurrency) {
			hint := "write for example 8 per 5m"
			if u.Model == Concurrency {
				hint = "write how many may run at once, for example 2"
			}
			at := by["allow"]
			r.fail(at.val, "type", fmt.Sprintf("the amount %s does not fit the model %s", a, u.Model), hint)
			break
		}
	}
	if bucket && len(u.Allow) > 1 {
		r.fail(by["allow"].val, "type", "a bucket has one amount, its rate", "make it two quotas with the same `at`")
	}
}

func (r *reader) countedBy(n ast.Node) (out []CountKey) {
	s, ok := r.str(n, "counted_by")
	if !ok {
		return nil
	}
	for _, w := range strings.Split(s, " or ") {
		w = strings.TrimSpace(w)
		if h, isHeader := strings.CutPrefix(w, "header:"); isHeader && fieldName.MatchString(h) {
			out = append(out, CountKey{By: "header", Header: h})
			continue
		}
		if !slices.Contains(countWords, w) {
			r.unknown(n, w, "counted_by", append(slices.Clone(countWords), "header:NAME"))
			continue
		}
		if w == Account && !r.since(V11, n, "`account` of counted_by") {
			continue
		}
		out = append(out, CountKey{By: w})
	}
	return out
}

// locks is how an account is closed.
func (r *reader) locks(f pair) *Locks {
	l := &Locks{Place: f.kpos}
	for _, g := range r.entries(f.val, "locks", []string{"for", "tried_on"}) {
		switch g.key {
		case "for":
			l.For = r.duration(g.val, "for")
		case "tried_on":
			if s, ok := r.str(g.val, "tried_on"); ok {
				l.TriedOn = Ref{Name: s, Place: r.place(g.val)}
			}
		}
	}
	return l
}

func (r *reader) exemptions(n ast.Node) (out []Exemption) {
	for _, ref := range r.refs(n, "exempt") {
		kind, name, ok := strings.Cut(ref.Name, ":")
		if _, err := netip.ParsePrefix(ref.Name); err == nil {
			out = append(out, Exemption{"address", ref})
			continue
		}
		if _, err := netip.ParseAddr(ref.Name); err == nil {
			out = append(out, Exemption{"address", ref})
			continue
		}
		if !ok {
			out = append(out, Exemption{"role", ref})
			continue
		}
		if kind != "target" && kind != "identity" {
			r.sayAt(ref.Place, len(ref.Name), Error, "unknown-word", fmt.Sprintf("%q is not something that can be "+
				"exempt", ref.Name), "write target:NAME, identity:NAME, a role, or an address range like 10.0.0.0/8")
			continue
		}
		out = append(out, Exemption{kind, Ref{Name: name, Place: ref.Place}})
	}
	return out
}

// SentOrigin is the origin of an address as a browser sends it (URL standard, section 4.7; HTML
// standard, serialization of an origin): scheme, host and, when it is not the default, port. It is
// "" for what no page can be at. Of other schemes than http and https, whose origins are up to who
// opens them, it is the address without what is behind the host.
func SentOrigin(s string) string {
	if o := weburl.Origin(s); o != "" {
		if strings.Contains(o, "*") {
			return "" // a name with a * is no name that can be looked up (RFC 1034 section 4.3.3)
		}
		return o
	}
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || u.Scheme == "http" || u.Scheme == "https" {
		return ""
	}
	return u.Scheme + "://" + strings.ToLower(u.Host)
}

// origin says what is wrong with a declared origin that no browser sends.
func (r *reader) origin(n ast.Node, s string) {
	sent := SentOrigin(s)
	if sent == s {
		return
	}
	hint := "write scheme and host in lower case, with the port when it is not the default, and nothing behind: " +
		"https://app.example"
	switch {
	case sent != "":
		hint = "write  " + sent + "  , as browsers do"
	case strings.Contains(s, "*"):
		hint = "a page has one origin, so list each; or write any"
	}
	r.fail(n, "type", fmt.Sprintf("%q is not an origin as a browser sends it", s), hint)
}

func (r *reader) originEntry(n ast.Node) *OriginEntry {
	e := &OriginEntry{Place: r.place(n)}
	by := map[string]pair{}
	for _, f := range r.entries(n, "an origin entry", []string{"at", "allow"}) {
		by[f.key] = f
		switch f.key {
		case "at":
			e.At = r.selectors(f.val)
			if len(e.At) > 0 {
				e.Place = r.place(r.list(f.val)[0])
			}
		case "allow":
			e.Allow = r.permissions(f.val)
		}
	}
	for _, w := range [][2]string{{"at", "at: /v1/**"}, {"allow", "allow: { https://app.example: { methods: [GET] } " +
		"}  (or any, or none)"}} {
		if _, ok := by[w[0]]; !ok {
			r.fail(n, "missing", fmt.Sprintf("an origin entry needs `%s`", w[0]), "add  "+w[1])
		}
	}
	return e
}

func (r *reader) permissions(n ast.Node) (out []Permission) {
	n = r.plain(n)
	if s, ok := n.(*ast.StringNode); ok {
		switch s.Value {
		case "any":
			return []Permission{{Place: r.place(n), Origin: "any"}}
		case "none":
			return nil
		}
		r.unknown(n, s.Value, "allow", []string{"any", "none", "a mapping of origins"})
		return nil
	}
	if isNull(n) {
		r.fail(n, "type", "allow must be a mapping of origins, any or none", "write  allow: none")
		return nil
	}
	for _, f := range r.entries(n, "allow", nil) {
		p := Permission{Place: f.kpos, Origin: f.key}
		if f.key != "any" && f.key != "null" {
			r.origin(f.kn, f.key)
		}
		for _, g := range r.entries(f.val, "permission of "+f.key, permissionWords) {
			switch g.key {
			case "methods":
				for _, m := range r.refs(g.val, "methods") {
					if !slices.Contains(route.Methods, m.Name) {
						r.sayAt(m.Place, len(m.Name), Error, "type", fmt.Sprintf("%q is not a method", m.Name),
							"known are "+strings.Join(route.Methods, ", "))
						continue
					}
					p.Methods = append(p.Methods, m.Name)
				}
			case "headers":
				p.Headers = lower(r.strings(g.val, "headers"))
			case "expose":
				p.Expose = lower(r.strings(g.val, "expose"))
			case "credentials":
				p.Credentials = r.bool(g.val, "credentials")
			case "max_age":
				p.MaxAge = r.duration(g.val, "max_age")
			}
		}
		out = append(out, p)
	}
	return out
}

func lower(list []string) []string {
	for i, s := range list {
		list[i] = strings.ToLower(s)
	}
	return list
}

func (r *reader) assumptions(doc *Document, n ast.Node) {
	for _, f := range r.entries(n, "review", []string{"guesses", "guessed_in", "bearer"}) {
		switch f.key {
		case "guesses":
			doc.Assume.Guesses = r.number(f.val, "guesses", 1)
		case "guessed_in":
			doc.Assume.GuessedIn = r.duration(f.val, "guessed_in")
		case "bearer":
			for _, g := range r.entries(f.val, "bearer", []string{"low", "medium", "high"}) {
				doc.Assume.Bearer[Sensitivity(g.key)] = r.duration(g.val, g.key)
			}
		}
	}
}

func (r *reader) waiver(n ast.Node) *Waiver {
	w := &Waiver{Place: r.place(n)}
	by := map[string]pair{}
	for _, f := range r.entries(n, "a waiver", waiverWords) {
		by[f.key] = f
		switch f.key {
		case "check":
			w.Check, _ = r.str(f.val, "check")
		case "finding":
			if s, ok := r.str(f.val, "finding"); ok && r.since(V11, f.kn, "`finding` of a waiver") {
				if w.Finding = s; !findingID.MatchString(s) {
					r.fail(f.val, "type", fmt.Sprintf("%q is no id of a finding", s), "write for example mg-41c0be77a2")
				}
			}
		case "kind":
			if s, ok := r.str(f.val, "kind"); ok && r.since(V11, f.kn, "`kind` of a waiver") {
				w.Kind = s
			}
		case "at":
			w.At = r.selectors(f.val)
		case "of":
			w.Of = r.strings(f.val, "of")
		case "callers":
			if r.since(V11, f.kn, "`callers` of a waiver") {
				w.Callers = r.strings(f.val, "callers")
			}
		case "reason":
			if w.Reason, _ = r.str(f.val, "reason"); strings.TrimSpace(w.Reason) == "" {
				r.fail(f.val, "missing", "the reason is empty", "say why it is accepted")
			}
		case "by":
			w.By, _ = r.str(f.val, "by")
		case "until":
			s, ok := r.str(f.val, "until")
			t, err := time.Parse(time.DateOnly, s)
			if ok && err != nil {
				r.fail(f.val, "type", fmt.Sprintf("%q is not a date", s), "write for example 2027-03-31")
			}
			w.Until = t
		}
	}
	r.waiverShape(n, by)
	return w
}

// waiverShape checks that a waiver says what it accepts, why and how long.
func (r *reader) waiverShape(n ast.Node, by map[string]pair) {
	has := func(word string) bool { _, ok := by[word]; return ok }
	what := slices.DeleteFunc([]string{"check", "finding", "kind"}, func(w string) bool { return !has(w) })
	switch {
	case len(what) == 0:
		r.fail(n, "missing", "a waiver says what it accepts", "add  check: the id in brackets behind a message of the "+
			"review,  or  finding: the id of a finding,  or  kind: a kind of findings, with at")
	case len(what) > 1:
		r.fail(by[what[1]].kn, "unknown-word", fmt.Sprintf("a waiver accepts one thing; `%s` stands beside `%s`",
			what[1], what[0]), "make it two waivers")
	case what[0] == "check" && !has("at") && !has("of"):
		r.fail(n, "missing", "a waiver says what it is about", "add  at: a selector  or  of: a name")
	case what[0] == "kind" && !has("at"):
		r.fail(n, "missing", "a waiver of a kind of findings says at which routes", "add  at: a selector")
	case what[0] == "check" && has("callers"):
		r.fail(by["callers"].kn, "unknown-word", "`callers` has a meaning where findings are accepted", "remove it")
	case what[0] != "check" && has("of"):
		r.fail(by["of"].kn, "unknown-word", "`of` has a meaning where a message of the review is accepted", "remove it")
	}
	for _, need := range [][2]string{{"reason", "reason: why it is accepted"}, {"until", "until: 2027-03-31"}} {
		if !has(need[0]) {
			r.fail(n, "missing", fmt.Sprintf("a waiver needs `%s`", need[0]), "add  "+need[1])
		}
	}
}

func (r *reader) followUp(n ast.Node) *FollowUp {
	q, by := r.request(n, "then", "as", "with", "shows")
	if q == nil {
		return nil
	}
	u := &FollowUp{Request: *q}
	if f, ok := by["as"]; ok {
		if s, ok := r.str(f.val, "as"); ok {
			u.As = Ref{Name: s, Place: r.place(f.val)}
		}
	}
	if f, ok := by["with"]; ok {
		u.With = map[string]pointer.JSON{}
		for _, g := range r.entries(f.val, "with", nil) {
			u.With[g.key] = r.pointer(g.val, "with "+g.key)
		}
	}
	if f, ok := by["shows"]; ok {
		for _, g := range r.entries(f.val, "shows", []string{"status", "has", "lacks"}) {
			switch g.key {
			case "status":
				u.Status = r.status(g.val)
			case "has", "lacks":
				for _, x := range r.list(g.val) {
					p := r.pointer(x, g.key)
					if g.key == "has" {
						u.Has = append(u.Has, p)
					} else {
						u.Lacks = append(u.Lacks, p)
					}
				}
			}
		}
	}
	return u
}

// AmountsFor are the amounts that hold for an identity; nil is nobody. An
// identity's own come before those of its roles, and of those the role that
// includes the others. ok is false where two roles tie.
func (u *Quota) AmountsFor(d *Document, id *Identity) (amounts []Amount, ok bool) {
	if id == nil {
		return u.Allow, true
	}
	var best *QuotaFor
	for i := range u.For {
		f := &u.For[i]
		switch {
		case f.Name == "identity:"+id.Name:
			return f.Amounts, true
		case !d.RolesOf(id)[f.Name]:
		case best == nil || d.includes(f.Name, best.Name):
			best = f
		}
	}
	if best == nil {
		return u.Allow, true
	}
	for _, f := range u.For {
		if f.Name != best.Name && d.RolesOf(id)[f.Name] && !d.includes(best.Name, f.Name) &&
			!slices.Equal(f.Amounts, best.Amounts) {
			return nil, false
		}
	}
	return best.Amounts, true
}

// IsExempt says whether a quota does not count an identity, because it or one
// of its roles is exempt; nil is nobody.
func (u *Quota) IsExempt(d *Document, id *Identity) bool {
	return id != nil && slices.ContainsFunc(u.Exempt, func(x Exemption) bool {
		return x.Kind == "identity" && x.Name == id.Name || x.Kind == "role" && d.RolesOf(id)[x.Name]
	})
}

// includes says whether role a has all that role b has.
func (d *Document) includes(a, b string) bool {
	seen := map[string]bool{}
	var walk func(string) bool
	walk = func(n string) bool {
		if n == b {
			return true
		}
		if seen[n] {
			return false
		}
		seen[n] = true
		ro := d.RoleNamed(n)
		return ro != nil && slices.ContainsFunc(ro.Includes, func(i Ref) bool { return walk(i.Name) })
	}
	return walk(a)
}

// ExemptIdentity says whether the quota does not count an identity.
func (u *Quota) ExemptIdentity(d *Document, id *Identity) bool {
	return slices.ContainsFunc(u.Exempt, func(e Exemption) bool {
		return id != nil && (e.Kind == "identity" && e.Name == id.Name || e.Kind == "role" && d.RolesOf(id)[e.Name])
	})
}
