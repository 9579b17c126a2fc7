package answers

import (
	"cmp"
	"fmt"
	"mime"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/mask"
	"millgate/core/pointer"
)

// Slip is one way in which an answer departs from the declared shape.
type Slip struct {
	Kind   finding.Kind
	Cause  string // stable: what was missing or shown
	Reason string
}

// Shared says in words what answers have in common that depart in the same way.
func (s Slip) Shared(status int) string {
	what := "an error"
	if status < 400 {
		what = fmt.Sprint(status)
	}
	if name, ok := strings.CutPrefix(s.Cause, "header "); ok {
		return fmt.Sprintf("answered with %s without %s", what, name)
	}
	if at, ok := strings.CutPrefix(s.Cause, "has "); ok {
		return fmt.Sprintf("answered with %s without %s", what, at)
	}
	if at, ok := strings.CutPrefix(s.Cause, "equals "); ok {
		return fmt.Sprintf("answered with %s in which %s is another text", what, at)
	}
	if name, ok := strings.CutPrefix(s.Cause, "challenge "); ok {
		return fmt.Sprintf("answered with %s without a challenge of %s", what, name)
	}
	return fmt.Sprintf("answered with %s of another type", what)
}

// CheckAnswer holds an answer against the declared shape of answers, and
// against the response schema of its route (nil when there is none).
func CheckAnswer(a check.Answer, r declaration.Answers, schema map[int]*declaration.Shape) []Slip {
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
	rules := []declaration.AnswerRule{rule, r.All}
	var body any // is read only where something is said of it
	if len(r.NeverFields)+len(r.Never) > 0 || r.Schema != "" || slices.ContainsFunc(rules, ofBody) {
		body = a.JSON()
	}
	for _, rule := range rules {
		for _, s := range misshapen(a, body, ct, rule) {
			if !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	shown := mask.Without(string(a.Body))
	for _, t := range r.NeverText {
		if t != "" && (strings.Contains(shown, t) || slices.Contains(a.Texts, t)) {
			out = append(out, Slip{finding.Leaking, "text " + t, fmt.Sprintf("the answer shows %q, which must never "+
				"be shown", t)})
		}
	}
	for _, f := range shownMembers(a, body, r) {
		out = append(out, Slip{finding.Leaking, "field " + f.Last(),
			fmt.Sprintf("the answer has %s, which must never be shown", f)})
	}
	if r.Schema != "" && a.Status < 300 && !a.NoBody {
		shape := schema[a.Status]
		if shape == nil {
			shape = schema[0]
		}
		extra := slices.DeleteFunc(beyond(body, shape, r.Schema == "exact", "", nil), func(p pointer.JSON) bool {
			// said above
			return slices.ContainsFunc(r.NeverFields, func(n string) bool { return strings.EqualFold(n, p.Last()) })
		})
		if len(extra) > 0 {
			slices.Sort(extra)
			list := declaration.Names(extra, func(p pointer.JSON) string { return string(p) })
			out = append(out, Slip{finding.Leaking, "schema " + strings.Join(list, ","),
				fmt.Sprintf("the answer has %s, which the response schema does not list", strings.Join(list, ", "))})
		}
	}
	return out
}

// ofBody says whether a rule asks for something in a body.
func ofBody(rule declaration.AnswerRule) bool { return len(rule.Has)+len(rule.Equals) > 0 }

// misshapen is what an answer with a media type departs from a rule in.
func misshapen(a check.Answer, body any, ct string, rule declaration.AnswerRule) (out []Slip) {
	wrong := func(cause, format string, args ...any) {
		out = append(out, Slip{finding.WrongRefusal, cause, fmt.Sprintf(format, args...)})
	}
	if rule.Type != "" && ct != strings.ToLower(rule.Type) && !a.NoBody {
		wrong("type", "a %d must come as %s, it came as %s", a.Status, rule.Type, cmp.Or(ct, "no content type"))
	}
	for _, h := range rule.Headers {
		if a.Header(h) == "" {
			wrong("header "+strings.ToLower(h), "a %d must carry %s, it does not", a.Status, h)
		}
	}
	if a.NoBody { // so that nothing is said of one
		return out
	}
	for _, p := range rule.Has {
		if _, ok := p.In(body); !ok {
			wrong("has "+string(p), "the body of a %d must have %s, it has not", a.Status, p)
		}
	}
	for _, e := range rule.Equals {
		text, scalar := e.At.Text(body)
		switch _, ok := e.At.In(body); {
		case !ok:
			wrong("has "+string(e.At), "the body of a %d must have %s, it has not", a.Status, e.At)
		case !scalar || text != e.Text:
			wrong("equals "+string(e.At), "in the body of a %d, %s must be %q, it is another text", a.Status, e.At,
				e.Text)
		}
	}
	return out
}

// unsought are the texts that must never be shown, and of which the answer does not tell
// whether it did: they were declared after it came, and something of it is masked or cut.
func unsought(a check.Answer, r declaration.Answers) (out []string) {
	if a.Status == 0 || !a.Partial {
		return nil
	}
	shown := mask.Without(string(a.Body))
	for _, t := range r.NeverText {
		if t != "" && !slices.Contains(a.Sought, t) && !slices.Contains(a.Texts, t) && !strings.Contains(shown, t) {
			out = append(out, fmt.Sprintf("%q", t))
		}
	}
	return out
}

// beyond lists members that the shape does not have.
func beyond(v any, s *declaration.Shape, exact bool, at pointer.JSON, out []pointer.JSON) []pointer.JSON {
	if s == nil || s.Open {
		return out
	}
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			f, ok := s.Fields[k]
			p := at.Member(k)
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
