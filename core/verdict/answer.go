// Package verdict turns an answer into a verdict and verdicts into findings.
//
// An answer belongs to a class. Expectation and class give the verdict by the
// matrix below; the rest of the package is the rules under it.
//
//	expected            admitted refused forbidden hidden throttled to-login invalid  wrong-method failed
//	admit               agrees   R       R         R      again     R        unproven unproven     unproven
//	refuse (401)        U        agrees  W         W      again     W        W or ?   W            unproven
//	forbid (403)        P        W       agrees    W      again     W        W or ?   unproven     unproven
//	hide (404)          P        W       W         agrees again     W        W or ?   unproven     unproven
//	not in the inventory X       agrees  agrees    agrees agrees    W        agrees   agrees       W
//
// "W or ?": a wrong class of refusal when the admitted control sent the same
// bytes, otherwise unproven. An admission proves itself; an answer that turns
// somebody away needs an admitted control, without one it is unproven.
package verdict

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/mask"
)

// Class of an answer.
type Class string

const (
	Admitted    Class = "admitted"
	Refused     Class = "refused"
	Forbidden   Class = "forbidden"
	Hidden      Class = "hidden"
	Throttled   Class = "throttled"
	ToLogin     Class = "to-login"
	Invalid     Class = "invalid"
	WrongMethod Class = "wrong-method"
	Failed      Class = "failed"
	Unreachable Class = "unreachable"
)

// Answer is what came back, or why nothing did.
type Answer struct {
	Status  int
	Headers [][2]string // names as received
	Body    []byte
	Error   string    // why there is no answer
	Sent    []byte    // the request's body, to compare with the control's
	At      time.Time // when it was sent; zero where that is not known
	NoBody  bool      // to HEAD, which has none (RFC 9110 section 9.3.2)
	Texts   []string  // of never.text, what stood in it before secrets were masked
}

// Header returns the first value of a field, "" without it.
func (a Answer) Header(name string) string {
	for _, h := range a.Headers {
		if strings.EqualFold(h[0], name) {
			return h[1]
		}
	}
	return ""
}

// JSON decodes the body; nil when it is not JSON.
func (a Answer) JSON() any {
	var v any
	d := json.NewDecoder(bytes.NewReader(a.Body))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return nil
	}
	return v
}

// Glob matches text against a pattern in which * stands for anything.
func Glob(pattern, text string) bool {
	parts := strings.FieldsFunc(pattern, func(r rune) bool { return r == '*' })
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	expr := strings.Join(parts, ".*")
	if strings.HasPrefix(pattern, "*") {
		expr = ".*" + expr
	}
	if strings.HasSuffix(pattern, "*") && len(parts) > 0 {
		expr += ".*"
	}
	re, err := regexp.Compile("(?s)^" + expr + "$")
	return err == nil && re.MatchString(text)
}

// Classify sorts an answer into its class (status codes: RFC 9110 section 15,
// 429: RFC 6585 section 4).
func Classify(a Answer, r declaration.Answers) Class {
	if a.Status == 0 {
		return Unreachable
	}
	if r.RefusedWhen.Status == a.Status && r.RefusedWhen.Has != "" {
		if _, ok := pointer(a.JSON(), r.RefusedWhen.Has); ok {
			return Refused
		}
	}
	switch s := a.Status; {
	case s >= 300 && s < 400:
		if loc := a.Header("Location"); loc != "" && isLogin(loc, r.LoginPage) {
			return ToLogin
		}
		return Admitted
	case s >= 200 && s < 300:
		return Admitted
	case s == 401:
		return Refused
	case s == 403:
		return Forbidden
	case s == 404 || s == 410:
		return Hidden
	case s == 429:
		return Throttled
	case s == 405 || s == 501:
		return WrongMethod
	case s >= 400 && s < 500, s < 200: // 101 to who asked for no other protocol
		return Invalid
	}
	return Failed
}

var loginWords = regexp.MustCompile(`(?i)(^|[/._-])(log-?in|sign-?in|sso|auth(orize|enticate)?)([/?._-]|$)`)

func isLogin(location, glob string) bool {
	if glob != "" {
		return Glob(glob, location)
	}
	return loginWords.MatchString(location)
}

// pointer looks up a JSON Pointer (RFC 6901).
func pointer(v any, p string) (any, bool) {
	if p == "" {
		return v, v != nil
	}
	for _, t := range strings.Split(strings.TrimPrefix(p, "/"), "/") {
		t = strings.NewReplacer("~1", "/", "~0", "~").Replace(t)
		switch x := v.(type) {
		case map[string]any:
			var ok bool
			if v, ok = x[t]; !ok {
				return nil, false
			}
		case []any:
			i := 0
			if _, err := fmt.Sscanf(t, "%d", &i); err != nil || i < 0 || i >= len(x) {
				return nil, false
			}
			v = x[i]
		default:
			return nil, false
		}
	}
	return v, true
}

// Pointer looks up a JSON Pointer (RFC 6901) in a body and returns a string,
// number or boolean as text.
func Pointer(body []byte, p string) (string, bool) {
	v, ok := pointer(Answer{Body: body}.JSON(), p)
	if !ok {
		return "", false
	}
	switch x := v.(type) {
	case string:
		return x, true
	case json.Number:
		return x.String(), true
	case bool:
		return fmt.Sprint(x), true
	}
	return "", false
}

// Slip is one way in which an answer departs from the declared shape.
type Slip struct {
	Kind   finding.Kind
	Cause  string // stable: what was missing or shown
	Reason string
}

// CheckAnswer holds an answer against the declared shape of answers, and
// against the response schema of its route (nil when there is none).
func CheckAnswer(a Answer, r declaration.Answers, schema map[int]*declaration.Shape) []Slip {
	if a.Status == 0 {
		return nil
	}
	var out []Slip
	ct, _, err := mime.ParseMediaType(a.Header("Content-Type"))
	if err != nil {
		ct = strings.TrimSpace(strings.ToLower(strings.Split(a.Header("Content-Type"), ";")[0]))
	}
	rule, said := r.Status[a.Status]
	if !said && a.Status >= 400 {
		rule = r.Errors
	}
	if a.NoBody { // so that nothing is said of one
		rule.Type, rule.Has = "", nil
	}
	if rule.Type != "" && ct != strings.ToLower(rule.Type) {
		got := ct
		if got == "" {
			got = "no content type"
		}
		out = append(out, Slip{finding.WrongRefusal, "type", fmt.Sprintf("a %d must come as %s, it came as %s", a.Status, rule.Type, got)})
	}
	for _, h := range rule.Headers {
		if a.Header(h) == "" {
			out = append(out, Slip{finding.WrongRefusal, "header " + strings.ToLower(h), fmt.Sprintf("a %d must carry %s, it does not", a.Status, h)})
		}
	}
	body := a.JSON()
	for _, p := range rule.Has {
		if _, ok := pointer(body, p); !ok {
			out = append(out, Slip{finding.WrongRefusal, "has " + p, fmt.Sprintf("the body of a %d must have %s, it has not", a.Status, p)})
		}
	}
	shown := mask.Without(string(a.Body))
	for _, t := range r.NeverText {
		if t != "" && (strings.Contains(shown, t) || slices.Contains(a.Texts, t)) {
			out = append(out, Slip{finding.Leaking, "text " + t, fmt.Sprintf("the answer shows %q, which must never be shown", t)})
		}
	}
	if body != nil && len(r.NeverFields) > 0 {
		for _, f := range fieldsNamed(body, r.NeverFields, "", nil) {
			out = append(out, Slip{finding.Leaking, "field " + path.Base(f), fmt.Sprintf("the answer has %s, which must never be shown", f)})
		}
	}
	if r.Schema != "" && a.Status < 300 && !a.NoBody {
		shape := schema[a.Status]
		if shape == nil {
			shape = schema[0]
		}
		extra := slices.DeleteFunc(beyond(body, shape, r.Schema == "exact", "", nil), func(p string) bool {
			return slices.ContainsFunc(r.NeverFields, func(n string) bool { return strings.EqualFold(n, path.Base(p)) }) // said above
		})
		if len(extra) > 0 {
			sort.Strings(extra)
			out = append(out, Slip{finding.Leaking, "schema " + strings.Join(extra, ","), fmt.Sprintf("the answer has %s, which the response schema does not list", strings.Join(extra, ", "))})
		}
	}
	return out
}

// fieldsNamed returns the pointers of members with one of the names, array
// indexes left out, without repetition.
func fieldsNamed(v any, names []string, at string, out []string) []string {
	switch x := v.(type) {
	case map[string]any:
		keys := make([]string, 0, len(x))
		for k := range x {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			p := at + "/" + k
			if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, k) }) && x[k] != nil && !slices.Contains(out, p) {
				out = append(out, p)
			}
			out = fieldsNamed(x[k], names, p, out)
		}
	case []any:
		for _, e := range x {
			out = fieldsNamed(e, names, at, out)
		}
	}
	return out
}

// beyond lists members that the shape does not have.
func beyond(v any, s *declaration.Shape, exact bool, at string, out []string) []string {
	if s == nil || s.Open {
		return out
	}
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			f, ok := s.Fields[k]
			p := at + "/" + k
			if !ok {
				if (exact && len(s.Fields) > 0 || s.Closed) && !slices.Contains(out, p) {
					out = append(out, p)
				}
				continue
			}
			out = beyond(m, f, exact, p, out)
		}
	case []any:
		for _, e := range x {
			out = beyond(e, s.Items, exact, at, out)
		}
	}
	return out
}
