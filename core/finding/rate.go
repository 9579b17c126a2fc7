package finding

import (
	"fmt"
	"strings"

	"millgate/core/declaration"
)

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

// Weight is why something is as grave as it is: what adds up to it.
type Weight struct {
	parts  []string
	points int
}

func (w *Weight) add(points int, what string) {
	w.points += points
	if len(w.parts) > 0 && points != 0 {
		what += fmt.Sprintf(" (%+d)", points)
	}
	w.parts = append(w.parts, what)
}

// Rate gives the severity from the kind of gap, what the route does, how
// sensitive it is and who can use the gap. The complete table is in
// docs/severity.md.
func Rate(k Kind, e declaration.Effect, s declaration.Sensitivity, ease Ease) Severity {
	return Weigh(k, e, s, ease).Severity()
}

var easeWords = map[Ease]string{ByAnyone: "anyone can use it", ByMany: "many can use it", ByAFew: "a few can use it",
	AsAll: "anyone can use it, with any caller's rights"}

// Weigh is Rate with its reasons.
func Weigh(k Kind, e declaration.Effect, s declaration.Sensitivity, ease Ease) Weight {
	w := Weight{}
	w.add(kindPoints[k], fmt.Sprintf("%s is %d", k.Name(), kindPoints[k]))
	if k == WrongRefusal || k == OverRestrictive {
		// Nobody gets in: what the route does and who meets it weigh less.
		if s == declaration.High {
			w.add(1, "sensitivity high")
		}
		return w
	}
	w.add(map[bool]int{true: 1}[e != declaration.Read], "effect "+string(e))
	w.add(map[declaration.Sensitivity]int{declaration.High: 1, declaration.Low: -1}[s], "sensitivity "+string(s))
	more := 0
	switch ease {
	case AsAll:
		more = 1
	case ByAnyone:
		more = map[bool]int{true: 1}[k != Unprotected]
	case ByMany:
		more = map[bool]int{true: 1}[k == OverPermissive]
	default:
	}
	w.add(more, easeWords[ease])
	return w
}

// Points are what it adds up to.
func (w Weight) Points() int { return w.points }

// Severity is what it comes to.
func (w Weight) Severity() Severity {
	switch {
	case w.points >= criticalFrom:
		return Critical
	case w.points >= highFrom:
		return High
	case w.points >= mediumFrom:
		return Medium
	}
	return Low
}

// String says it in words: "unprotected is 5, effect update (+1), sensitivity medium, anyone can use it: 6, and
// high is from 5".
func (w Weight) String() string {
	from := map[Severity]int{Medium: mediumFrom, High: highFrom, Critical: criticalFrom}[w.Severity()]
	sum := fmt.Sprintf("%s: %d", strings.Join(w.parts, ", "), w.points)
	if from == 0 {
		return fmt.Sprintf("%s, and %s is below %d", sum, Low, mediumFrom)
	}
	return fmt.Sprintf("%s, and %s is from %d", sum, w.Severity(), from)
}
