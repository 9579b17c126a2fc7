package finding

import "slices"

// Severity in ascending order of weight. The zero value is below all.
type Severity string

// The severities.
const (
	Low      Severity = "low"
	Medium   Severity = "medium"
	High     Severity = "high"
	Critical Severity = "critical"
)

// Severities in ascending order.
var Severities = []Severity{Low, Medium, High, Critical}

// AtLeast says whether s is as grave as other, or graver.
func (s Severity) AtLeast(other Severity) bool {
	return slices.Index(Severities, s) >= slices.Index(Severities, other)
}
