package finding

import "millgate/core/declaration"

// Ease is who can use the gap.
type Ease string

// The eases.
const (
	ByAnyone Ease = "anyone" // no account is needed
	ByMany   Ease = "many"   // three or more signed-in callers, or everyone who was sent and should be out
	ByAFew   Ease = "few"    // one or two signed-in callers of more
	AsAll    Ease = "all"    // no account is needed, and it gives the rights of any caller
)

// ManyFrom is how many callers are many.
const ManyFrom = 3

// Points from which on a severity holds.
const (
	mediumFrom   = 3
	highFrom     = 5
	criticalFrom = 7
)

var kindPoints = map[Kind]int{Unprotected: 5, OverPermissive: 4, Unthrottled: 3, Leaking: 4, Undeclared: 4, Lifetime: 3,
	WeakToken: 4, OverRestrictive: 3, WrongRefusal: 1}

// Rate gives the severity from the kind of gap, what the route does, how
// sensitive it is and who can use the gap. The complete table is in
// docs/severity.md.
func Rate(k Kind, e declaration.Effect, s declaration.Sensitivity, ease Ease) Severity {
	points := kindPoints[k]
	if k == WrongRefusal || k == OverRestrictive {
		// Nobody gets in: what the route does and who meets it weigh less.
		if s == declaration.High {
			points++
		}
	} else {
		if e != declaration.Read {
			points++
		}
		switch s {
		case declaration.High:
			points++
		case declaration.Low:
			points--
		default:
		}
		switch ease {
		case AsAll:
			points++
		case ByAnyone:
			if k != Unprotected {
				points++
			}
		case ByMany:
			if k == OverPermissive {
				points++
			}
		default:
		}
	}
	switch {
	case points >= criticalFrom:
		return Critical
	case points >= highFrom:
		return High
	case points >= mediumFrom:
		return Medium
	}
	return Low
}
