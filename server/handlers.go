package server

import (
	"millgate/server/contract"
)

var _ contract.StrictServerInterface = (*Server)(nil)

// word is a value that may be absent, in plain.
func word[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// optional is a value that is absent where it is empty.
func optional[T comparable](v T) *T {
	var empty T
	if v == empty {
		return nil
	}
	return &v
}

// orEmpty makes an empty list of none, so that JSON has [] and not null.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
