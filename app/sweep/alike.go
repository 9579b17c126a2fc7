package sweep

import (
	"strings"
	"sync"

	"millgate/core/check"
	"millgate/core/field"
)

// alike keeps once what many exchanges of a sweep have in common: most refusals of a
// service are the same, but for a date.
type alike struct {
	mu     sync.Mutex
	texts  map[string]string
	fields map[string]field.List
}

const (
	alikeText = 4 << 10 // bytes of a text that may be like another
	alikeMost = 4096    // different ones that are remembered
)

// share makes an exchange use what others before it have as well. Nobody changes an
// exchange once it is a fact.
func (a *alike) share(x *check.Exchange) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.texts == nil {
		a.texts, a.fields = map[string]string{}, map[string]field.List{}
	}
	for _, t := range []*string{&x.Method, &x.Body, &x.Content, &x.Error} {
		*t = a.text(*t)
	}
	x.Headers, x.Answer = a.list(x.Headers), a.list(x.Answer)
}

func (a *alike) text(t string) string {
	if t == "" || len(t) > alikeText {
		return t
	}
	if known, ok := a.texts[t]; ok {
		return known
	}
	if len(a.texts) < alikeMost {
		a.texts[t] = t
	}
	return t
}

func (a *alike) list(fields field.List) field.List {
	if len(fields) == 0 {
		return fields
	}
	var room [512]byte
	key := room[:0]
	for _, f := range fields {
		key = append(append(append(append(key, f[0]...), 0), f[1]...), 0)
	}
	if known, ok := a.fields[string(key)]; ok {
		return known
	}
	out := make(field.List, len(fields))
	for i, f := range fields {
		out[i] = [2]string{a.text(strings.Clone(f[0])), a.text(strings.Clone(f[1]))}
	}
	if len(a.fields) < alikeMost {
		a.fields[string(key)] = out
	}
	return out
}
