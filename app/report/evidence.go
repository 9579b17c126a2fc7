package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"strings"

	"millgate/app/snapshot"
	"millgate/core/check"
)

const (
	usualCrossings = 3  // of a finding that are shown with their exchanges
	mostExchanges  = 12 // of a crossing
)

// evidence is a crossing of a finding with what was sent, ok where it is known.
func (s Source) evidence(id, reason string) (e Evidence, ok bool) {
	p := s.Plan.Find(id)
	if p == nil || s.Facts == nil {
		return e, false
	}
	fact := s.Facts(id)
	if fact == nil {
		return e, false
	}
	e = Evidence{Probe: id, Route: p.Route, Who: s.Plan.Who(p), What: snapshot.KindOf(p)}
	add := func(name string, x check.Exchange) {
		if x.URL == "" || len(e.Exchanges) >= mostExchanges {
			return
		}
		if !s.Values {
			x.Content = Typed(x.Content, x.Answer.Get("Content-Type"), reason)
		}
		e.Exchanges = append(e.Exchanges, Named{name, x})
	}
	if fact.Check != nil {
		for _, r := range fact.Check.Reports {
			add(r.Name, r.Exchange)
		}
	}
	if len(e.Exchanges) == 0 {
		add(check.TheRequest, *fact.Exchange)
	}
	if c := s.Facts(p.Control); c != nil {
		name := "the control"
		if by := s.Plan.Find(p.Control); by != nil {
			name += ", " + s.Plan.Who(by)
		}
		add(name, *c.Exchange)
	}
	return e, true
}

// Typed is the body of an answer with its values as their types: {"id": "<string>"}. Values that a reason names
// stay. What is no JSON is told by its type and length.
func Typed(body, contentType, reason string) string {
	if body == "" {
		return ""
	}
	d := json.NewDecoder(strings.NewReader(body))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil || d.Decode(new(any)) != io.EOF {
		kind, _, err := mime.ParseMediaType(contentType)
		if err != nil {
			kind = "bytes"
		}
		return fmt.Sprintf("<%s, %d bytes>", kind, len(body))
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(typed(v, reason)); err != nil {
		return fmt.Sprintf("<%d bytes>", len(body))
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// mostOfList is how many elements of a list are shown: the others have the same types.
const mostOfList = 3

func typed(v any, reason string) any {
	named := func(text, kind string) any {
		const least = 3 // shorter ones stand in any sentence
		if len(text) >= least && strings.Contains(reason, text) {
			return v
		}
		return kind
	}
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, y := range x {
			out[k] = typed(y, reason)
		}
		return out
	case []any:
		out := []any{}
		for _, y := range x[:min(len(x), mostOfList)] {
			out = append(out, typed(y, reason))
		}
		if n := len(x) - len(out); n > 0 {
			out = append(out, fmt.Sprintf("<%d more>", n))
		}
		return out
	case string:
		return named(x, "<string>")
	case json.Number:
		return named(x.String(), "<number>")
	case bool:
		return "<boolean>"
	}
	return v // null
}
