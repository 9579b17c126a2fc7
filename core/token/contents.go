package token

import (
	"fmt"
	"strconv"

	"millgate/core/pointer"
)

// plainly writes an attribute's value as it stands in JSON.
func plainly(v any) string {
	switch v := v.(type) {
	case bool:
		return strconv.FormatBool(v)
	case string:
		return v
	}
	return fmt.Sprint(v)
}

// at finds what a JSON Pointer names among the claims.
func (t *Token) at(p pointer.JSON) (m *Member) {
	o := &t.Claims
	for name, rest, more := p.Cut(); more; name, rest, more = rest.Cut() {
		if m = o.Get(name); m == nil || rest == "" {
			return m
		}
		inner, why, _ := parseObject(m.Raw)
		if why != "" {
			return nil
		}
		o = &inner
	}
	return m
}

func (m *Member) plain() string {
	if s, ok := m.String(); ok {
		return s
	}
	return string(m.Raw)
}
