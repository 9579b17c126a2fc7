// Package severity has the four words in which everything that is found says
// how grave it is, whether in a declaration, a token or a service.
package severity

import "slices"

// Severity in ascending order of weight. The zero value is below all.
type Severity string

const (
	Low      Severity = "low"
	Medium   Severity = "medium"
	High     Severity = "high"
	Critical Severity = "critical"
)

// All severities in ascending order.
var All = []Severity{Low, Medium, High, Critical}

// AtLeast says whether s is as grave as other, or graver.
func (s Severity) AtLeast(other Severity) bool {
	return slices.Index(All, s) >= slices.Index(All, other)
}
