package finding

import (
	"fmt"
	"slices"
	"strings"
)

// FailOn is what a pipeline stops for. The zero FailOn stops for nothing.
type FailOn struct {
	Least Severity // this one and what is graver; "" none
	Kinds []Kind
}

// ParseFailOn reads words: a severity, which names itself and what is graver, or a kind as in the closed list.
func ParseFailOn(words ...string) (f FailOn, err error) {
	for _, w := range words {
		if s := Severity(w); slices.Contains(Severities, s) {
			if f.Least == "" || f.Least.AtLeast(s) {
				f.Least = s
			}
			continue
		}
		k, ok := KindNamed(w)
		if !ok {
			return f, fmt.Errorf("%q is neither a severity (low, medium, high, critical) nor a kind (%s)", w,
				strings.Join(KindWords(), ", "))
		}
		f.Kinds = append(f.Kinds, k)
	}
	return f, nil
}

// Stops says whether it stops for a finding: never for one that is accepted.
func (f FailOn) Stops(x Finding) bool {
	if x.Waived != nil {
		return false
	}
	return f.Least != "" && x.Severity.AtLeast(f.Least) || slices.Contains(f.Kinds, x.Kind)
}
