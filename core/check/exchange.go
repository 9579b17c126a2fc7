package check

import (
	"strconv"
	"strings"
	"time"

	"millgate/core/field"
	"millgate/core/mask"
)

// Exchange is a request and its answer, without secrets.
type Exchange struct {
	Method    string     `json:"method"`
	URL       string     `json:"url"`
	Headers   field.List `json:"headers"`
	Body      string     `json:"body"`
	Status    int        `json:"status"` // 0 when there is no answer
	Answer    field.List `json:"answer"`
	Content   string     `json:"content"`
	Truncated bool       `json:"truncated"`
	Texts     []string   `json:"texts,omitempty"` // of never.text, those that stand in the answer
	// Sought has never.text where the answer is not kept as it came: masked, or cut.
	Sought []string      `json:"sought,omitempty"`
	Error  string        `json:"error"`
	At     time.Time     `json:"at"`
	Took   time.Duration `json:"took"`
	// Route is the key of the route that serves the request, "" where none does. It is kept where what an answer
	// means depends on it (Answers.ByRoute).
	Route string `json:"route,omitempty"`
	// Mark is the field by which the request can be found in the service's log, as it was sent:
	// "X-Mill-Gate: 00f067aa0ba902b7"; "" where the target declares none.
	Mark string `json:"mark,omitempty"`
}

// AnswerOf is the answer of an exchange, for the judge. Numbers of marks mean something
// in one fact only, so that it does not see them.
func AnswerOf(x Exchange) Answer {
	return Answer{Status: x.Status, Headers: x.Answer, Body: []byte(mask.Unnumbered(x.Content)), Error: x.Error,
		Sent: []byte(mask.Unnumbered(x.Body)), Asked: asked(x), At: x.At, NoBody: x.Method == "HEAD",
		Texts: x.Texts, Sought: x.Sought, Route: x.Route,
		Partial: x.Truncated || mask.Has(x.Content)}
}

// ReportOf is the report of an exchange that was kept without one.
func ReportOf(name string, x Exchange) Report {
	r := Report{Name: name, Fate: Answered, End: x.Took, Exchange: x}
	if x.Status == 0 {
		r.Fate, r.Why = Lost, x.Error
	}
	return r
}

// longestRetry is the longest Retry-After that is told apart, in seconds: ten years.
const longestRetry = 10 * 365 * 24 * 3600

// clocksAgree is by how much the clock of a service may be off without being another: its Date
// knows no parts of a second.
const clocksAgree = 2 * time.Second

// Answered is when the answer had come, by the clock of who answered: an instant that it names
// was read from that one. It is ours unless Date (RFC 9110 section 6.6.1) says another time.
func (x Exchange) Answered() time.Time {
	ours := x.At.Add(x.Took)
	if theirs, ok := field.Date(x.Answer.Get("Date")); ok && theirs.Sub(ours).Abs() > clocksAgree {
		return theirs
	}
	return ours
}

// RetryAfter reads the field of a 429 or 503 (RFC 9110 section 10.2.3), from when the answer had
// come; it is negative without one.
func (x Exchange) RetryAfter() time.Duration {
	for _, v := range x.Answer.All("Retry-After") {
		v = strings.TrimSpace(v)
		if digits := strings.Trim(v, "0123456789") == "" && v != ""; digits {
			n, err := strconv.ParseInt(v, 10, 64)
			if err != nil || n > longestRetry {
				n = longestRetry // more digits than a number has
			}
			return time.Duration(n) * time.Second
		}
		if t, ok := field.Date(v); ok {
			return min(max(0, t.Sub(x.Answered())), longestRetry*time.Second)
		}
	}
	return -1
}
