package finding

// Rule: A finding is accepted as it was when somebody accepted it; what grew beyond that is open again.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
)

// Waived is how somebody accepted a finding.
type Waived struct {
	Reason string    `json:"reason"`
	By     string    `json:"by,omitempty"`
	Until  time.Time `json:"until"`          // the last day
	Line   int       `json:"line,omitempty"` // of the waiver
	// Whoever: the waiver names no callers, so that only a later sweep can tell that the finding grew.
	Whoever bool `json:"whoever,omitempty"`
}

// String says how long it holds, by whom and why: "until 2027-01-31 by ann: It is known".
func (w Waived) String() string {
	by := ""
	if w.By != "" {
		by = " by " + w.By
	}
	return fmt.Sprintf("until %s%s: %s", w.Until.Format(time.DateOnly), by, w.Reason)
}

// Same says whether it is the same waiver; where it stands does not matter.
func (w Waived) Same(o Waived) bool {
	return w.Reason == o.Reason && w.By == o.By && w.Until.Equal(o.Until) && w.Whoever == o.Whoever
}

// Waive says of findings which are accepted by a declaration at an instant. The list stays as it is.
func Waive(d *declaration.Document, list []Finding, now time.Time) []Finding {
	out := slices.Clone(list)
	for i := range out {
		out[i].Waived = nil
		for _, w := range d.Waivers {
			if !w.Ended(now) && Accepts(d, w, out[i]) {
				out[i].Waived = &Waived{w.Reason, w.By, w.Until, w.Line, len(w.Callers) == 0}
				break
			}
		}
	}
	return out
}

// Concerns says whether a waiver is about a finding, though it may have grown beyond what is accepted: it is the
// one that is named, or of the kind and at one of the routes.
func Concerns(d *declaration.Document, w *declaration.Waiver, f Finding) bool {
	if w.Finding != "" {
		return w.Finding == f.ID
	}
	k, ok := KindNamed(w.Kind)
	return ok && k == f.Kind &&
		slices.ContainsFunc(f.All(), func(key string) bool { return d.Selects(w.At, key) })
}

// Accepts says whether a waiver accepts a finding, whenever that ends: it is about it, each of the finding's
// routes is one that `at` selects, and each of its callers one that is named.
func Accepts(d *declaration.Document, w *declaration.Waiver, f Finding) bool {
	if !Concerns(d, w, f) {
		return false
	}
	for _, key := range f.All() {
		if len(w.At) > 0 && !d.Selects(w.At, key) {
			return false
		}
	}
	for _, who := range slices.Concat(f.Callers, f.Inferred) {
		if len(w.Callers) > 0 && !slices.ContainsFunc(w.Callers, func(n string) bool { return named(d, n, who) }) {
			return false
		}
	}
	return true
}

// Caller is the identity of a caller in words, who may be told more of: of "quill (tokens that ended)" it is
// "quill".
func Caller(who string) string {
	name, _, _ := strings.Cut(who, " (")
	return name
}

// ShownBy says whether a caller of a name is among those who show a finding.
func (f Finding) ShownBy(name string) bool {
	return slices.ContainsFunc(f.Callers, func(who string) bool { return Caller(who) == name })
}

// named says whether a name, of an identity or a role that it has, is a caller's.
func named(d *declaration.Document, name, who string) bool {
	who = Caller(who)
	if name == who {
		return true
	}
	id := d.IdentityNamed(who)
	return id != nil && d.RolesOf(id)[name]
}
