package lists

import (
	"fmt"
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Judge holds the rows against the words by which the caller is admitted.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	j, ok := judgingOf(c, p, fact)
	if !ok {
		return check.Unproven("nothing was sent, or nothing says any more that it lists anything")
	}
	v := j.judge(fact, e)
	v.Answers = fact.Reports
	return v
}

// Rows are those that are not for the caller, and those that it lacks.
func (f Family) Rows(c *check.Context, p *check.Probe, fact *check.Fact) (out []check.Row) {
	j, ok := judgingOf(c, p, fact)
	if !ok || j.m.Pages == 0 {
		return nil
	}
	rec := j.l.Record
	add := func(ids []string, missing bool) {
		for _, id := range ids {
			r := check.Row{ID: id, Owner: rec.OwnerOf(id), Missing: missing}
			for _, g := range rec.Groups {
				if slices.Contains(g.IDs, id) {
					r.Stands = append(r.Stands, g.Name)
				}
			}
			for _, w := range rec.Within {
				for _, place := range rec.In(w.Name, id) {
					r.Stands = append(r.Stands, w.Name+" "+place)
				}
			}
			out = append(out, r)
		}
	}
	add(j.wrong(), false)
	if j.m.End {
		add(j.lacks(), true)
	}
	return out
}

type judging struct {
	c     *check.Context
	p     *check.Probe
	i     int
	l     *declaration.List
	m     *Measured
	first check.Report
	id    *declaration.Identity
	who   string
	may   declaration.Extent // the records of which it may be shown rows
}

// judgingOf is what a fact is judged by; ok is false where there is nothing to judge.
func judgingOf(c *check.Context, p *check.Probe, fact *check.Fact) (j judging, ok bool) {
	i := c.Doc.RouteNamed(p.Route)
	m, _ := fact.Data.(*Measured)
	if i < 0 || c.Doc.List(i) == nil || m == nil || len(fact.Reports) == 0 {
		return judging{}, false
	}
	j = judging{c: c, p: p, i: i, l: c.Doc.List(i), m: m, first: fact.Reports[0],
		id: c.Doc.IdentityNamed(p.Caller.Identity), who: check.WhoOf(p.Caller)}
	j.may = c.Doc.Rows(i, j.id)
	return j, true
}

// wrong are the rows that are not for the caller, each once.
func (j judging) wrong() (out []string) {
	for _, row := range j.m.Rows {
		if shown, known := j.l.Shows(j.may, row, j.id); known && !shown && !slices.Contains(out, row) {
			out = append(out, row)
		}
	}
	return out
}

// lacks are the records that the caller must be shown and was not.
func (j judging) lacks() []string {
	return slices.DeleteFunc(j.expected(), func(id string) bool { return slices.Contains(j.m.Rows, id) })
}

func (j judging) judge(fact *check.Fact, e *check.Evidence) check.Verdict {
	if j.m.Pages == 0 {
		return check.Unproven("%s", j.m.Why)
	}
	if j.may.All {
		return check.Verdict{Says: j.rows() + ", as who may see all", Proof: check.Shown(j.first)}
	}
	var v check.Verdict
	if wrong := j.wrong(); len(wrong) > 0 {
		v.Gaps = append(v.Gaps, check.Gap{Cause: others, Rung: 6,
			Proof: check.Shown(j.showing(fact, wrong[0])),
			Says: fmt.Sprintf("%s is shown %s, and may be shown %s.", j.who, j.named(wrong),
				access.RowsText(j.may))})
	}
	lacks, elsewhere := j.lacks(), j.elsewhere(e)
	seen := len(j.expected()) > len(lacks)
	if k := slices.IndexFunc(lacks, func(id string) bool {
		return slices.ContainsFunc(elsewhere, func(o place) bool { return o.id == id })
	}); k >= 0 && j.m.End {
		v.Gaps = append(v.Gaps, check.Gap{Cause: missing, Rung: 6, Proof: check.Shown(j.first),
			Says: fmt.Sprintf("%s is not shown %s %s, which is for it and which others are shown in this list.", j.who,
				j.l.Record.Name, lacks[k])})
	}
	if len(v.Gaps) > 0 {
		v.Says = j.rows()
		return v
	}
	v.Says = j.rows() + ", none of them somebody else's"
	k := slices.IndexFunc(elsewhere, func(o place) bool {
		shown, known := j.l.Shows(j.may, o.id, j.id)
		return known && !shown && (j.m.End || o.at < len(j.m.Rows))
	})
	switch {
	case k < 0 && !j.m.End:
		return check.Unproven("%s, and %s", v.Says, j.m.Why)
	case k < 0:
		return check.Unproven("%s, and nobody was shown a row that is not for %s, which shows that there could be one",
			v.Says, j.who)
	case len(lacks) > 0 && !seen:
		return check.Unproven("%s; but %s %s, which is for it, is not there either", v.Says, j.l.Record.Name, lacks[0])
	case !seen: // an empty list may be empty for another reason
		v.Proof = check.Speaks(j.first)
	default:
		v.Proof = check.Shown(j.first)
	}
	v.Says += fmt.Sprintf("; %s was shown %s there", elsewhere[k].who, elsewhere[k].id)
	return v
}

// rows says how many were read.
func (j judging) rows() string {
	unknown := 0
	for _, row := range j.m.Rows {
		if _, known := j.l.Shows(j.may, row, j.id); !known {
			unknown++
		}
	}
	out := fmt.Sprintf("%s is shown %d rows", j.who, len(j.m.Rows))
	if len(j.m.Rows) == 1 {
		out = j.who + " is shown 1 row"
	}
	if unknown > 0 {
		out += fmt.Sprintf(" (of %d nothing is declared)", unknown)
	}
	return out
}

// named are records in words: proposal p-202 of tove, and 2 more.
func (j judging) named(ids []string) string {
	out := j.l.Record.Name + " " + ids[0]
	if owner := j.l.Record.OwnerOf(ids[0]); owner != "" {
		out += " of " + owner
	}
	switch n := len(ids) - 1; {
	case n == 1:
		out += " and " + ids[1]
	case n > 1:
		out += fmt.Sprintf(", %s and %d more", ids[1], n-1)
	}
	return out
}

// showing is the page that shows a row, or else the first.
func (j judging) showing(fact *check.Fact, row string) check.Report {
	for _, r := range fact.Reports {
		if ids, _ := rowsOf(j.c, j.l, r); slices.Contains(ids, row) {
			return r
		}
	}
	return j.first
}

// expected are the records that the caller must be shown. Behind a path that names what they stand in these are those
// that stand there; where that is not declared, none is expected.
func (j judging) expected() (out []string) {
	behind := j.c.Doc.Record(j.i)
	for _, id := range j.l.Record.IDs() {
		if shown, _ := j.l.Shows(j.may, id, j.id); !shown || behind != nil &&
			!slices.Contains(j.l.Record.In(behind.Name, id), j.p.Record.Value) {
			continue
		}
		out = append(out, id)
	}
	return out
}

// place is a row that somebody else was shown.
type place struct {
	who, id string
	at      int // how many rows come before it
}

// elsewhere are the rows that others were shown in the list.
func (j judging) elsewhere(e *check.Evidence) (out []place) {
	for _, o := range of(j.p).Beside {
		f := e.Of(o.Key)
		if f == nil {
			continue
		}
		m, _ := f.Data.(*Measured)
		if m == nil {
			continue
		}
		for k, row := range m.Rows {
			if row != "" {
				out = append(out, place{o.Who, row, k})
			}
		}
	}
	return out
}
