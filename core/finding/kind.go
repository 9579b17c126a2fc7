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

// KindNamed is the kind of gap with a name or a letter; ok is false without one.
func KindNamed(word string) (k Kind, ok bool) {
	i := slices.IndexFunc(Order, func(k Kind) bool { return k.IsGap() && (k.Name() == word || string(k) == word) })
	if i < 0 {
		return "", false
	}
	return Order[i], true
}

// KindWords are the names of the kinds of gaps, worst first.
func KindWords() (out []string) {
	for _, k := range Order {
		if k.IsGap() {
			out = append(out, k.Name())
		}
	}
	return out
}

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
