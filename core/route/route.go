// Package route holds the inventory's path templates and the selectors of the
// declaration, both as sets of requests.
//
// # Paths
//
// A path is compared after RFC 3986 section 6.2.2 normalisation: unreserved
// characters are decoded, percent-encodings are upper case, dot segments are
// removed. It is then a list of segments. A trailing slash is an empty last
// segment, so /a and /a/ are different paths.
//
// # Patterns
//
//	/v1/sky/calendar     literal segments
//	/v1/proposals/{id}   a parameter: exactly one non-empty segment
//	/v1/*/status         the same, without a name
//	/v1/sky/**           only at the end: zero or more segments
//
// A selector is methods, an optional host name and a pattern:
// "GET,HEAD id:/v1/session". No method means every method. GET covers HEAD.
//
// # Sets
//
// Every selector is a set of (method, host, path). A contains B when every
// request in B is in A; because a parameter stands for infinitely many
// segments, comparing segment by segment is exact and needs no search.
//
// A route of the inventory is its template minus the templates more specific
// than it: /proposals/mine is never /proposals/{id}.
package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Methods are the methods that a selector or a route may name (RFC 9110
// section 9, RFC 5789).
var Methods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE"}

// Common are the methods that a path is tried with where nothing says which it has.
var Common = []string{"GET", "POST", "PUT", "PATCH", "DELETE"}

// ErrSelector is wrapped by every error of Parse and ParseTemplate.
var ErrSelector = errors.New("not a selector")

// Segment is one segment of a pattern: a literal, or any non-empty segment.
type Segment struct {
	Literal string
	Any     bool
	Name    string // a parameter's name; it does not take part in matching
}

// Selector is a set of requests. The zero Selector matches nothing.
type Selector struct {
	Methods  []string // sorted; empty means every method
	Host     string   // "" is the target's base
	Segments []Segment
	Tail     bool // ends in **
	valid    bool
}

// Parse reads "METHOD[,METHOD] [host:]/path".
func Parse(text string) (Selector, error) {
	fields := strings.Fields(text)
	var s Selector
	switch len(fields) {
	case 1:
		fields = []string{"", fields[0]}
	case 2:
	default:
		return s, fmt.Errorf("%w: %q; write METHOD /path, or a path alone for every method", ErrSelector, text)
	}
	if fields[0] != "" {
		for _, m := range strings.Split(fields[0], ",") {
			if !slices.Contains(Methods, m) {
				return s, fmt.Errorf("%w: %q is not a method; known are %s", ErrSelector, m,
					strings.Join(Methods, ", "))
			}
			if !slices.Contains(s.Methods, m) {
				s.Methods = append(s.Methods, m)
			}
		}
		slices.Sort(s.Methods)
	}
	path := fields[1]
	if i := strings.Index(path, ":/"); i > 0 {
		s.Host, path = path[:i], path[i+1:]
		if strings.ContainsAny(s.Host, "/{}*.") {
			return s, fmt.Errorf("%w: %q is not a host name of a target; write id:/path with a name from `hosts`",
				ErrSelector, s.Host)
		}
	}
	if !strings.HasPrefix(path, "/") {
		return s, fmt.Errorf("%w: the path %q must begin with /", ErrSelector, path)
	}
	if strings.ContainsAny(path, "?#") {
		return s, fmt.Errorf("%w: %q has a query or a fragment; a selector is a path only", ErrSelector, path)
	}
	parts := strings.Split(path[1:], "/")
	for i, part := range parts {
		switch {
		case part == "**":
			if i != len(parts)-1 {
				return s, fmt.Errorf("%w: ** may only be the last segment of %q", ErrSelector, path)
			}
			s.Tail = true
		case part == "*":
			s.Segments = append(s.Segments, Segment{Any: true})
		case strings.HasPrefix(part, "{") && strings.HasSuffix(part, "}") && len(part) > 2 &&
			!strings.ContainsAny(part[1:len(part)-1], "{}*"):
			s.Segments = append(s.Segments, Segment{Any: true, Name: part[1 : len(part)-1]})
		case strings.ContainsAny(part, "{}*"):
			return s, fmt.Errorf("%w: a parameter or * must fill a whole segment, %q does not", ErrSelector, part)
		case part == "" && i != len(parts)-1:
			return s, fmt.Errorf("%w: %q has an empty segment", ErrSelector, path)
		default:
			lit := NormaliseSegment(part)
			if lit == "." || lit == ".." {
				return s, fmt.Errorf("%w: %q has a dot segment; write the path it leads to", ErrSelector, path)
			}
			s.Segments = append(s.Segments, Segment{Literal: lit})
		}
	}
	s.valid = true
	return s, nil
}

// ParseTemplate reads one route of the inventory: exactly one method, no * and
// no **.
func ParseTemplate(text string) (Selector, error) {
	s, err := Parse(text)
	if err != nil {
		return s, err
	}
	if len(s.Methods) != 1 {
		return Selector{}, fmt.Errorf("%w: a route needs exactly one method, as in GET %s", ErrSelector, s.Path())
	}
	if s.Wild() {
		return Selector{}, fmt.Errorf("%w: a route has parameters like {id}, not * or **", ErrSelector)
	}
	return s, nil
}

// Wild says whether the pattern has a * or a **.
func (s Selector) Wild() bool {
	return s.Tail || slices.ContainsFunc(s.Segments, func(g Segment) bool { return g.Any && g.Name == "" })
}

// Valid is false for the zero Selector.
func (s Selector) Valid() bool { return s.valid }

// Path is the pattern without methods and host.
func (s Selector) Path() string {
	var b strings.Builder
	for _, g := range s.Segments {
		b.WriteByte('/')
		switch {
		case g.Name != "":
			b.WriteString("{" + g.Name + "}")
		case g.Any:
			b.WriteByte('*')
		default:
			b.WriteString(g.Literal)
		}
	}
	if s.Tail {
		b.WriteString("/**")
	}
	if b.Len() == 0 {
		return "/"
	}
	return b.String()
}

// String is the selector as one writes it.
func (s Selector) String() string {
	p := Hosted(s.Host, s.Path())
	if len(s.Methods) == 0 {
		return p
	}
	return strings.Join(s.Methods, ",") + " " + p
}

// Hosted writes a path as a selector has it: with its host's name, if it has
// one.
func Hosted(host, path string) string {
	if host != "" {
		return host + ":" + path
	}
	return path
}

// Method is the method of a route; "" for a selector with none or several.
func (s Selector) Method() string {
	if len(s.Methods) == 1 {
		return s.Methods[0]
	}
	return ""
}

// Parameters are the names of the parameters, from left to right.
func (s Selector) Parameters() []string {
	var out []string
	for _, g := range s.Segments {
		if g.Name != "" {
			out = append(out, g.Name)
		}
	}
	return out
}

// shape is equal for selectors with the same paths, whatever the parameters
// are called.
func (s Selector) shape() string {
	var b strings.Builder
	b.WriteString(s.Host)
	for _, g := range s.Segments {
		if g.Any {
			b.WriteString("/{}")
		} else {
			b.WriteString("/" + g.Literal)
		}
	}
	if s.Tail {
		b.WriteString("/**")
	}
	return b.String()
}

// TemplateKey is equal for routes that share host and path pattern, whatever
// their method and parameter names.
func (s Selector) TemplateKey() string { return s.shape() }

// Prefix groups routes: the host and the path up to the first segment behind a version, or
// the first segment.
func (s Selector) Prefix() string {
	var out []string
	for _, g := range s.Segments {
		if g.Any || g.Literal == "" {
			break
		}
		out = append(out, g.Literal)
		if !isVersion(g.Literal) {
			break
		}
	}
	return Hosted(s.Host, "/"+strings.Join(out, "/"))
}

// isVersion says whether a segment is one like v2.
func isVersion(segment string) bool {
	digits, ok := strings.CutPrefix(segment, "v")
	return ok && digits != "" && strings.Trim(digits, "0123456789") == ""
}

// Matches says whether the request is in the set. path is normalised first.
func (s Selector) Matches(method, host, path string) bool {
	if !s.valid || host != s.Host || !s.hasMethod(method) {
		return false
	}
	return s.MatchesPath(path)
}

// MatchesPath is Matches for any method and host.
func (s Selector) MatchesPath(path string) bool {
	segs := Split(Normalise(path))
	if len(segs) < len(s.Segments) || (len(segs) > len(s.Segments) && !s.Tail) {
		return false
	}
	for i, g := range s.Segments {
		if g.Any && segs[i] == "" || !g.Any && g.Literal != segs[i] {
			return false
		}
	}
	return true
}

func (s Selector) hasMethod(m string) bool {
	return len(s.Methods) == 0 || slices.Contains(s.Methods, m) || m == "HEAD" && slices.Contains(s.Methods, "GET")
}

// Contains says whether every request of b is in s.
func (s Selector) Contains(b Selector) bool {
	return s.valid && b.valid && s.Host == b.Host && s.containsMethods(b) && s.containsPath(b)
}

func (s Selector) containsMethods(b Selector) bool {
	if len(s.Methods) == 0 {
		return true
	}
	if len(b.Methods) == 0 {
		return false
	}
	for _, m := range b.Methods {
		if !s.hasMethod(m) {
			return false
		}
	}
	return true
}

func (s Selector) containsPath(b Selector) bool {
	if len(s.Segments) > len(b.Segments) || !s.Tail && (b.Tail || len(s.Segments) != len(b.Segments)) {
		return false
	}
	for i, g := range s.Segments {
		o := b.Segments[i]
		if g.Any && !o.Any && o.Literal == "" || !g.Any && (o.Any || o.Literal != g.Literal) {
			return false
		}
	}
	return true
}

// Intersect is the set of requests that are in both; ok is false when it is
// empty.
func (s Selector) Intersect(b Selector) (out Selector, ok bool) {
	if !s.valid || !b.valid || s.Host != b.Host {
		return out, false
	}
	switch {
	case len(s.Methods) == 0:
		out.Methods = b.Methods
	case len(b.Methods) == 0:
		out.Methods = s.Methods
	default:
		for _, m := range Methods {
			if s.hasMethod(m) && b.hasMethod(m) {
				out.Methods = append(out.Methods, m)
			}
		}
		if len(out.Methods) == 0 {
			return out, false
		}
	}
	long, short := s, b
	if len(long.Segments) < len(short.Segments) {
		long, short = short, long
	}
	if len(long.Segments) > len(short.Segments) && !short.Tail {
		return out, false
	}
	for i, g := range long.Segments {
		if i < len(short.Segments) {
			o := short.Segments[i]
			switch {
			case g.Any && o.Any:
			case g.Any && o.Literal == "", o.Any && g.Literal == "":
				return out, false
			case g.Any:
				g = o
			case o.Any:
			case g.Literal != o.Literal:
				return out, false
			}
		}
		out.Segments = append(out.Segments, g)
	}
	out.Host, out.Tail, out.valid = s.Host, s.Tail && b.Tail, true
	if len(long.Segments) > len(short.Segments) {
		out.Tail = long.Tail
	}
	return out, true
}

// Fill puts values in place of the parameters, percent-encoded as RFC 3986
// section 3.3 asks. missing names the first parameter without a value.
func (s Selector) Fill(values map[string]string) (path, missing string) {
	var b strings.Builder
	for _, g := range s.Segments {
		b.WriteByte('/')
		if !g.Any {
			b.WriteString(g.Literal)
			continue
		}
		v, ok := values[g.Name]
		if !ok {
			return "", g.Name
		}
		b.WriteString(EscapeSegment(v))
	}
	if b.Len() == 0 {
		return "/", ""
	}
	return b.String(), ""
}
