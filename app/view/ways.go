package view

import (
	"strings"

	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// soundCaller is a caller that a route admits with a credential that can be
// sent: whatever its record before an owner, as a control is chosen; "" without,
// and on a route that asks for none.
func soundCaller(d *declaration.Document, i int, columns []Column, row Row) string {
	if row.Expect[0] == 'a' {
		return ""
	}
	for _, letter := range []byte("ad") {
		for c := 1; c < len(columns); c++ {
			if row.Expect[c] != letter {
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

// wayLetters are a row's cells in the Tokens lens.
func wayLetters(d *declaration.Document, i int, all []string, row Row, seen map[[2]string]finding.Kind) (expect,
	found string) {
	var e, v strings.Builder
	mean := map[string]bool{}
	if entry := d.Entry(i); entry != nil &&
		access.Decide(d, i, access.Caller{State: access.Broken}).Outcome == access.Refuse {
		for _, s := range d.Accepted(entry) {
			for _, w := range check.Ways(s) {
				mean[w] = true
			}
		}
	}
	for _, w := range all {
		letter := byte('-')
		switch {
		case w == snapshot.WaySound && row.TokenCaller != "":
			letter = 'a'
		case w == snapshot.WayAbsent:
			letter = row.Expect[0]
		case mean[w] && check.MustEnter(w):
			letter = 'a'
		case mean[w]:
			letter = 'r'
		}
		e.WriteByte(letter)
		k := verdictLetter(seen[[2]string{row.Key, w}])
		if letter == '-' {
			k = '.'
		}
		v.WriteByte(k)
	}
	return e.String(), v.String()
}
