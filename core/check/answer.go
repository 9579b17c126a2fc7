package check

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"time"

	"millgate/core/declaration"
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
	Sought  []string  // of never.text, what was looked for then
	Partial bool      // something of it is masked or cut
}

// Header returns the first value of a field, "" without it.
func (a Answer) Header(name string) string { return Field(a.Headers, name) }

// Field is the first value of a header field, "" without it. Names have no letter case
// (RFC 9110 section 5.1).
func Field(fields [][2]string, name string) string {
	for _, f := range fields {
		if strings.EqualFold(f[0], name) {
			return f[1]
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
		if _, ok := Lookup(a.JSON(), r.RefusedWhen.Has); ok {
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

// Class is that of a report's answer.
func (r Report) Class(a declaration.Answers) Class { return Classify(AnswerOf(r.Exchange), a) }

var loginWords = regexp.MustCompile(`(?i)(^|[/._-])(log-?in|sign-?in|sso|auth(orize|enticate)?)([/?._-]|$)`)

func isLogin(location, glob string) bool {
	if glob != "" {
		return Glob(glob, location)
	}
	return loginWords.MatchString(location)
}

// Lookup looks up a JSON Pointer (RFC 6901).
func Lookup(v any, p string) (any, bool) {
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
	v, ok := Lookup(Answer{Body: body}.JSON(), p)
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
