package view

import (
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// soundCaller is a caller that a route admits with a credential that can be
// sent: whatever its record before an owner, as a control is chosen; "" without,
// and on a route that asks for none. expect has a cell for each column.
func soundCaller(d *declaration.Document, i int, columns []Column, expect []access.Cell) string {
	if expect[0].Outcome() == access.Admit && !expect[0].Depends() {
		return ""
	}
	for _, depends := range []bool{false, true} {
		for c := 1; c < len(columns); c++ {
			if expect[c].Outcome() != access.Admit || expect[c].Depends() != depends {
				continue
			}
			if cr := access.Credential(d, i, d.IdentityNamed(columns[c].Key)); cr != nil {
				if s := d.SchemeNamed(cr.Scheme.Name); s != nil {
					return columns[c].Key
				}
			}
		}
	}
	return ""
}

// meaning says what is expected of each way at a route; false for one that means nothing there.
func meaning(d *declaration.Document, i int, nobody access.Cell, sound string) func(way string) (access.Cell, bool) {
	if nobody.Outcome() == access.Undecided {
		return func(string) (access.Cell, bool) { return nobody, true }
	}
	mean := map[string]bool{}
	broken := access.Decide(d, i, access.Caller{State: access.Broken})
	if entry := d.Entry(i); entry != nil && broken.Subject == "soundness" {
		for _, s := range d.Accepted(entry) {
			for _, w := range check.Ways(s) {
				mean[w] = true
			}
		}
	}
	return func(w string) (access.Cell, bool) {
		switch {
		case w == snapshot.WaySound && sound != "":
			return access.Cell(access.Admit), true
		case w == snapshot.WayAbsent:
			return nobody, true
		case mean[w] && check.MustEnter(w):
			return access.Cell(access.Admit), true
		}
		return broken.Cell(), mean[w]
	}
}
