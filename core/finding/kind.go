package finding

import "slices"

// Kind of a gap between what is declared and what was observed; the last three are
// no gaps.
type Kind string

// The kinds.
const (
	Unprotected     Kind = "U"
	OverPermissive  Kind = "P"
	Unthrottled     Kind = "T"
	Leaking         Kind = "L"
	Undeclared      Kind = "X"
	Lifetime        Kind = "S"
	WeakToken       Kind = "K"
	OverRestrictive Kind = "R"
	WrongRefusal    Kind = "W"
	Unproven        Kind = "unproven"
	Unprobed        Kind = "unprobed"
	Agrees          Kind = "agrees"
)

// Order lists the kinds, worst first.
var Order = []Kind{Unprotected, OverPermissive, Unthrottled, Leaking, Undeclared, Lifetime, WeakToken, OverRestrictive,
	WrongRefusal, Unproven, Unprobed, Agrees}

// Worse says whether a comes before b in Order.
func Worse(a, b Kind) bool { return slices.Index(Order, a) < slices.Index(Order, b) }

// IsGap says whether the kind is a gap.
func (k Kind) IsGap() bool { return k != Unproven && k != Unprobed && k != Agrees && k != "" }

var kindNames = map[Kind]string{Unprotected: "unprotected", OverPermissive: "over-permissive",
	Unthrottled: "unthrottled",
	Leaking:     "leaking", Undeclared: "undeclared", Lifetime: "lifetime", WeakToken: "weak token",
	OverRestrictive: "over-restrictive", WrongRefusal: "wrong refusal"}

// Name is the kind in words.
func (k Kind) Name() string {
	if n, ok := kindNames[k]; ok {
		return n
	}
	return string(k)
}

// Confidence in a verdict.
type Confidence string

// The confidences.
const (
	Proven  Confidence = "proven"
	Likely  Confidence = "likely"
	NotSure Confidence = "unproven"
)
