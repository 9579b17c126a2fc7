package check

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"mime"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/mask"
	"millgate/core/pointer"
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
	Headers field.List // names as received
	Body    []byte
	Error   string    // why there is no answer
	Sent    []byte    // the request's body, to compare with the control's
	Asked   string    // the request's address and body, which an answer may show again
	At      time.Time // when it was sent; zero where that is not known
	NoBody  bool      // to HEAD, which has none (RFC 9110 section 9.3.2)
	Texts   []string  // of never.text, what stood in it before secrets were masked
	Sought  []string  // of never.text, what was looked for then
	Partial bool      // something of it is masked or cut
	Route   string    // the key of the route that serves it, where what it means depends on that
}

// Header returns the first value of a field, "" without it.
func (a Answer) Header(name string) string { return a.Headers.Get(name) }

// Code is the status code as text, and "no answer" without one.
func (a Answer) Code() string {
	if a.Status == 0 {
		return "no answer"
	}
	return strconv.Itoa(a.Status)
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

// Parts says whether its body is JSON with members or items.
func (a Answer) Parts() bool {
	switch a.JSON().(type) {
	case map[string]any, []any:
		return true
	default:
	}
	return false
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

// Refuses says whether by an answer of that class somebody is turned away for who it is of or what that one may.
func (c Class) Refuses() bool { return c == Refused || c == Forbidden || c == Hidden }

// Classify sorts an answer into its class (status codes: RFC 9110 section 15,
// 429: RFC 6585 section 4).
func Classify(a Answer, r declaration.Answers) Class {
	if a.Status == 0 {
		return Unreachable
	}
	if k := slices.IndexFunc(r.RefusedWhen, func(f declaration.Refusal) bool { return a.saysNo(&f) }); k >= 0 {
		return Class(r.RefusedWhen[k].Is)
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

// saysNo says whether an answer is one that is declared to say no.
func (a Answer) saysNo(f *declaration.Refusal) bool {
	if f.Status != a.Status || !f.Serves(a.Route) {
		return false
	}
	body := a.JSON()
	if _, ok := f.Has.In(body); !ok && f.Has != "" {
		return false
	}
	return !slices.ContainsFunc(f.Equals, func(e declaration.EqualMember) bool {
		text, ok := e.At.Text(body)
		return !ok || text != e.Text
	})
}

// Class is that of a report's answer.
func (r Report) Class(a declaration.Answers) Class { return Classify(AnswerOf(r.Exchange), a) }

var loginWords = regexp.MustCompile(`(?i)(^|[/._-])(log-?in|sign-?in|sso|auth(orize|enticate)?)([/?._-]|$)`)

func isLogin(location, glob string) bool {
	if glob != "" {
		return Glob(glob, location)
	}
	return loginWords.MatchString(location)
}

// Points is what a JSON Pointer names in a body; ok is false where it is not JSON, or nothing
// stands there.
func Points(body []byte, p pointer.JSON) (text string, ok bool) {
	return p.Text(Answer{Body: body}.JSON())
}

// SameType says whether two answers are of one media type (RFC 9110 section 8.3), or both
// of none and without a body.
func SameType(a, b Answer) bool {
	x, _, err1 := mime.ParseMediaType(a.Header("Content-Type"))
	y, _, err2 := mime.ParseMediaType(b.Header("Content-Type"))
	if err1 == nil || err2 == nil {
		return err1 == nil && err2 == nil && x == y
	}
	return len(a.Body) == 0 && len(b.Body) == 0
}

// SameContent says whether an answer shows something of another.
func SameContent(a, b Answer) bool {
	if len(a.Body) == 0 {
		return false
	}
	theirs, shown := b.Values(), a.Values()
	for k := range theirs {
		if shown[k] {
			return true
		}
	}
	return len(theirs) == 0 && bytes.Equal(a.Body, b.Body)
}

// Alike says whether two answers are of one kind: of one media type, and JSON objects with the
// same members, lists both, or texts of much the same length, in which no more than an address
// differs.
func Alike(a, b Answer) bool {
	if !SameType(a, b) {
		return false
	}
	const address = 64 // bytes that an address in it may differ by
	switch x := a.JSON().(type) {
	case map[string]any:
		y, ok := b.JSON().(map[string]any)
		return ok && slices.Equal(slices.Sorted(maps.Keys(x)), slices.Sorted(maps.Keys(y)))
	case []any:
		_, ok := b.JSON().([]any)
		return ok
	}
	return max(len(a.Body), len(b.Body))-min(len(a.Body), len(b.Body)) <= address
}

// Describe says what an answer of a class was to who asked.
func Describe(c Class, a Answer) string {
	switch c {
	case ToLogin:
		return fmt.Sprintf("sent to a login page (%d, %s)", a.Status, a.Header("Location"))
	case Invalid:
		return fmt.Sprintf("told that the request is invalid (%d)", a.Status)
	default:
	}
	return fmt.Sprintf("%d", a.Status)
}

// Values are the values of an answer's JSON with their member's name, by which a record is
// known; short and common ones do not identify one.
func (a Answer) Values() map[string]bool {
	into := map[string]bool{}
	collect("", a.JSON(), into)
	return into
}

func collect(name string, v any, into map[string]bool) {
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			collect(k, m, into)
		}
	case []any:
		for _, m := range x {
			collect(name, m, into)
		}
	case string:
		if len(x) > 1 && !mask.Anonymous(x) {
			into[name+"="+x] = true
		}
	case json.Number:
		into[name+"="+x.String()] = true
	}
}

// Spent says whether an answer to an unsafe request may speak of what its control did
// before: after an admitted request that made, used up or ended something, an equal one
// meets another state (RFC 9110 sections 15.5.1, 15.5.10, 15.5.11, 15.5.13 and 15.5.21).
func Spent(control, a Answer) bool {
	return !control.At.IsZero() && control.At.Before(a.At) && slices.Contains([]int{400, 409, 410, 412, 422}, a.Status)
}

// SpentText says so.
func SpentText(a Answer) string {
	return fmt.Sprintf("answered %s after the control, which may have made, used up or ended what it was sent for",
		a.Code())
}

// AsDeclared says whether an answer, of its class and with its status, turns a caller away as is expected.
func AsDeclared(x access.Expectation, class Class, status int) bool {
	switch {
	case x.Outcome == access.Either:
		return class == Refused
	case !x.Plain():
		return status == x.Status()
	case x.Outcome == access.Refuse:
		return class == Refused
	case x.Outcome == access.Forbid:
		return class == Forbidden
	}
	return class == Hidden
}
