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
		k := slices.IndexFunc(Order, func(k Kind) bool { return k.IsGap() && (k.Name() == w || string(k) == w) })
		if k < 0 {
			return f, fmt.Errorf("%q is neither a severity (low, medium, high, critical) nor a kind (%s)", w,
				strings.Join(kindWords(), ", "))
		}
		f.Kinds = append(f.Kinds, Order[k])
	}
	return f, nil
}

func kindWords() (out []string) {
	for _, k := range Order {
		if k.IsGap() {
			out = append(out, k.Name())
		}
	}
	return out
}

// Stops says whether it stops for a finding: never for one that is accepted.
func (f FailOn) Stops(x Finding) bool {
	return x.Waived == nil && f.names(x)
}

func (f FailOn) names(x Finding) bool {
	return f.Least != "" && x.Severity.AtLeast(f.Least) || slices.Contains(f.Kinds, x.Kind)
}
