package view

import (
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// soundCaller is a caller that a route admits with a credential that can be
// sent: whatever its record before an owner, as a control is chosen; "" without,
// and on a route that asks for none. expect has a word for each column.
func soundCaller(d *declaration.Document, i int, columns []Column, expect []string) string {
	if expect[0] == "admit" {
		return ""
	}
	for _, word := range []string{"admit", "own"} {
		for c := 1; c < len(columns); c++ {
			if expect[c] != word {
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

// meaning says what is expected of each way at a route; Absent of one that means nothing there.
func meaning(d *declaration.Document, i int, nobody, sound string) func(way string) string {
	mean := map[string]bool{}
	if entry := d.Entry(i); entry != nil &&
		access.Decide(d, i, access.Caller{State: access.Broken}).Outcome == access.Refuse {
		for _, s := range d.Accepted(entry) {
			for _, w := range check.Ways(s) {
				mean[w] = true
			}
		}
	}
	return func(w string) string {
		switch {
		case w == snapshot.WaySound && sound != "":
			return "admit"
		case w == snapshot.WayAbsent:
			return nobody
		case mean[w] && check.MustEnter(w):
			return "admit"
		case mean[w]:
			return "refuse"
		}
		return Absent
	}
}
