package headers

// Rule: A field is read as the standard that defines it says, its odd forms too.

import (
	"mime"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
)

// answer is what a protection is held against.
type answer struct {
	check.Answer
	fields field.List
	data
}

// data says whose the content of an answer is.
type data struct {
	somebodys bool                // only who has a credential gets it
	scheme    *declaration.Scheme // of that credential
}

// slip is where an answer does not protect; the zero one is none.
type slip struct{ row, says string }

// checks hold an answer against each protection; applies is false where there is nothing to
// protect.
var checks = map[declaration.Protection]func(answer) (s slip, applies bool){
	declaration.Frames: frames, declaration.Sniffing: sniffing, declaration.Caching: caching,
	declaration.Referrer: referrer, declaration.Transport: transport, declaration.Resources: resources,
}

// page says whether a browser shows an answer as a page.
func (a answer) page() bool {
	t, _, err := mime.ParseMediaType(a.fields.Get("Content-Type"))
	return err == nil && (t == "text/html" || t == "application/xhtml+xml") && len(a.Body) > 0
}

// words are the elements of a field that is a list, all of its fields together, without blanks.
func words(h field.List, name string) (out []string) {
	for _, v := range h.All(name) {
		for _, w := range strings.Split(v, ",") {
			out = append(out, strings.Trim(w, " \t"))
		}
	}
	return out
}

// frames: Content Security Policy Level 3 section 6.4.2 (frame-ancestors); where no policy has it,
// X-Frame-Options (HTML standard, section 7.6).
func frames(a answer) (slip, bool) {
	if !a.page() {
		return slip{}, false
	}
	said, wide := false, true
	for _, policy := range words(a.fields, "Content-Security-Policy") {
		list, ok := directive(policy, "frame-ancestors")
		said = said || ok
		if ok && !slices.ContainsFunc(list, anyPage) {
			wide = false // every policy must allow it
		}
	}
	switch {
	case said && !wide:
		return slip{}, true
	case said:
		return slip{"frames",
			"The page may be shown within any other: frame-ancestors of its Content-Security-Policy names " +
				"all of them."}, true
	}
	options := map[string]bool{}
	for _, w := range words(a.fields, "X-Frame-Options") {
		options[strings.ToLower(w)] = true
	}
	known := options["deny"] || options["sameorigin"] || options["allowall"]
	switch {
	case len(options) == 0:
		return slip{"frames", "The page may be shown within any other: it has neither frame-ancestors in a " +
			"Content-Security-Policy nor X-Frame-Options."}, true
	case len(options) > 1 && known: // values that contradict each other deny
		return slip{}, true
	case len(options) == 1 && (options["deny"] || options["sameorigin"]):
		return slip{}, true
	}
	return slip{"frames", "The page may be shown within any other: its X-Frame-Options is " +
		quoted(a.fields.Get("X-Frame-Options")) + ", which browsers do not heed."}, true
}

// directive is the value of a directive of a policy; the first of a name counts (CSP section
// 2.2.1).
func directive(policy, name string) (list []string, ok bool) {
	for _, d := range strings.Split(policy, ";") {
		f := strings.Fields(d)
		if len(f) > 0 && strings.EqualFold(f[0], name) {
			return f[1:], true
		}
	}
	return nil, false
}

// anyPage says whether a source expression matches pages of everybody (CSP section 2.3.1).
func anyPage(source string) bool {
	s := strings.ToLower(source)
	if s == "http:" || s == "https:" {
		return true
	}
	if _, rest, ok := strings.Cut(s, "://"); ok {
		s = rest
	}
	host, _, _ := strings.Cut(s, "/")
	host, _, _ = strings.Cut(host, ":")
	return host == "*"
}

// sniffing: Fetch standard, section 3.6 (determine nosniff): the first value counts.
func sniffing(a answer) (slip, bool) {
	if len(a.Body) == 0 {
		return slip{}, false
	}
	if w := words(a.fields, "X-Content-Type-Options"); len(w) > 0 && strings.EqualFold(w[0], "nosniff") {
		return slip{}, true
	}
	return slip{"sniffing",
		"The answer has no X-Content-Type-Options: nosniff, so that a page may load it as a script or a " +
			"style whatever its type."}, true
}

// caching: RFC 9111, sections 3, 3.5 and 5.2.2.
func caching(a answer) (slip, bool) {
	if !a.somebodys || len(a.Body) == 0 {
		return slip{}, false
	}
	d := map[string]string{}
	for _, w := range words(a.fields, "Cache-Control") {
		n, v, _ := strings.Cut(w, "=")
		n = strings.ToLower(strings.TrimSpace(n))
		if _, twice := d[n]; !twice {
			d[n] = strings.Trim(v, " \t\"")
		}
	}
	has := func(n string) bool { _, ok := d[n]; return ok }
	whole := func(n string) bool { return has(n) && d[n] == "" } // private="x" is for x alone
	again := has("must-revalidate") || has("proxy-revalidate")
	if has("no-store") || whole("private") || whole("no-cache") || d["max-age"] == "0" && again && !has("s-maxage") {
		return slip{}, true
	}
	shared := has("public") || has("s-maxage") || has("must-revalidate")
	if _, ends := field.Date(a.fields.Get("Expires")); !a.authorized() && d["max-age"] != "0" {
		shared = shared || has("max-age") || ends || a.fields.Has("Last-Modified")
	}
	if shared && d["s-maxage"] != "0" && !a.varies() {
		return slip{"caching",
			"A cache that others use too may keep the answer and give it to them: Cache-Control is " +
				quoted(strings.Join(a.fields.All("Cache-Control"), ", ")) + "."}, true
	}
	return slip{"keeping", "A browser may keep the answer for whoever uses it next: Cache-Control is " +
			quoted(strings.Join(a.fields.All("Cache-Control"), ", ")) +
			", with neither no-store, private nor no-cache."},
		true
}

// authorized says whether the request bore Authorization, for which shared caches have a rule of
// their own (RFC 9111 section 3.5).
func (a answer) authorized() bool {
	return a.scheme.Kind == declaration.Bearer || a.scheme.Kind == declaration.Basic ||
		strings.EqualFold(a.scheme.Field, "Authorization")
}

// varies says whether a cache gives the answer only to requests with the same credential (RFC
// 9111 section 4.1).
func (a answer) varies() bool {
	at := a.scheme.Field
	switch {
	case a.scheme.Kind == declaration.Cookie:
		at = "Cookie"
	case a.authorized():
		at = "Authorization"
	case inAddress(a.scheme):
		return true // another credential is another address
	}
	return slices.ContainsFunc(words(a.fields, "Vary"), func(w string) bool {
		return w == "*" || strings.EqualFold(w,
			at)
	})
}

// policies of referrers, and whether one hands the whole address on to other origins (Referrer
// Policy, section 3).
var policies = map[string]bool{"no-referrer": false, "same-origin": false, "origin": false, "strict-origin": false,
	"origin-when-cross-origin": false, "strict-origin-when-cross-origin": false, "no-referrer-when-downgrade": true,
	"unsafe-url": true}

// referrer: Referrer Policy, section 8.1: the last value that is known counts.
func referrer(a answer) (slip, bool) {
	leads := a.Status >= 300 && a.Status < 400 && a.fields.Has("Location")
	if a.scheme == nil || !inAddress(a.scheme) || !a.page() && !leads {
		return slip{}, false
	}
	policy := ""
	for _, w := range words(a.fields, "Referrer-Policy") {
		if _, known := policies[strings.ToLower(w)]; known {
			policy = strings.ToLower(w)
		}
	}
	switch {
	case policy == "":
		return slip{"unsaid referrer",
			"A credential stands in the address, and the answer has no Referrer-Policy: what a " +
				"browser hands on is up to the browser. Those of today hand on the origin alone."}, true
	case policies[policy]:
		return slip{"referrer", "A credential stands in the address, and Referrer-Policy is " + quoted(policy) +
			": every " +
			"page and file that the answer leads to is told the address."}, true
	}
	return slip{}, true
}

// transport: RFC 6797, section 6.1: the first field counts, and none where it cannot be read.
func transport(a answer) (slip, bool) {
	const name = "Strict-Transport-Security"
	v, there := a.fields.Find(name)
	if !there {
		return slip{"transport", "The answer has no " + name +
				": who sits on the network can bring a browser to plain http."},
			true
	}
	age, seen := "", map[string]bool{}
	for _, d := range strings.Split(v, ";") {
		n, value, _ := strings.Cut(d, "=")
		n = strings.ToLower(strings.TrimSpace(n))
		if n == "" {
			continue
		}
		if seen[n] {
			return slip{"transport", name + " says " + n + " twice, so that browsers heed none of it."}, true
		}
		if seen[n] = true; n == "max-age" {
			age = strings.Trim(strings.TrimSpace(value), "\"")
		}
	}
	switch {
	case age == "" || strings.Trim(age, "0123456789") != "":
		return slip{"transport", name + " is " + quoted(v) + ", which has no max-age that can be read."}, true
	case strings.Trim(age, "0") == "":
		return slip{"transport", name + " has a max-age of 0, which ends it."}, true
	}
	return slip{}, true
}

// resources: Fetch standard, section 3.7 (Cross-Origin-Resource-Policy): letter case counts, and
// what is not known is as none.
func resources(a answer) (slip, bool) {
	if !a.somebodys || !ambient(a.scheme) || len(a.Body) == 0 {
		return slip{}, false
	}
	const name = "Cross-Origin-Resource-Policy"
	switch v := strings.Join(words(a.fields, name), ", "); v {
	case "same-origin", "same-site":
		return slip{}, true
	case "":
		return slip{"resources",
			"Any page can load the answer with the user's cookies, as an image or a script: it has no " +
				name + "."}, true
	default:
		return slip{"resources", "Any page can load the answer with the user's cookies, as an image or a script: " +
			name +
			" is " + quoted(v) + "."}, true
	}
}

func quoted(s string) string {
	if s == "" {
		return "not there"
	}
	return "\"" + s + "\""
}
