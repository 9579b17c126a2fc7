// Package lists checks that a list shows each caller the rows that are for it, and no others.
//
// # What is sent
//
// Who must be admitted where records are listed (`listed`) asks for the list, page by page, at most
// 20 of them, each caller as at the crossing of its own.
//
// # What is concluded
//
// A row of a record that the declaration names, and of which no word of `on` holds that admits the
// caller, is OverPermissive. A row of its own that is not there although the list was read to its
// end, and that somebody else was shown in it, is OverRestrictive. That neither is so agrees as far
// as it could have shown: the caller saw a row that is for it, and read the list to its end, or as
// many rows as somebody else needed to be shown one that is not for it. Of rows of which nothing is
// declared nothing is concluded; how many there were is said.
package lists

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/pointer"
)

// Family is that of lists.
type Family struct{}

// Detail is where a list is asked for, and who else asks for it.
type Detail struct {
	Params map[string]string // values for all parameters but the record's
	Beside []Other           // who else asks at the route
}

// Other is another probe of the family at a route.
type Other struct{ Key, Who string }

// Parameters are those values.
func (d Detail) Parameters() map[string]string { return d.Params }

// Measured is what a list has shown.
type Measured struct {
	Rows  []string `json:"rows"`          // the ids, in their order; "" of a row without one
	Pages int      `json:"pages"`         // that were read
	End   bool     `json:"end"`           // there are no more
	Why   string   `json:"why,omitempty"` // why it was not read on, where there may be
}

const (
	version = 1 // of Measured
	// mostPages and mostRows are how much of a list is read, and mostKept how many of its pages are kept.
	mostPages, mostRows, mostKept = 20, 10000, 3
)

// Name is that of its probes.
func (Family) Name() string { return "lists" }

// Version is that of Measured.
func (Family) Version() int { return version }

// Decode reads Measured.
func (Family) Decode(v int, data []byte) (check.Data, error) {
	return check.DecodeAs[Measured](v, version, data, "a list")
}

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request, or as many as there may be pages.
func (Family) Cost(c *check.Context, p *check.Probe) check.Cost {
	if l := c.Doc.List(c.Doc.RouteNamed(p.Route)); l != nil && l.Pages.Paged() {
		return check.Cost{Requests: mostPages}
	}
	return check.Cost{Requests: 1}
}

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "the rows that it is shown"
}

// Who names the caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is what is expected of the crossing.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	return check.ExpectAt(c, p)
}

// Declared is which rows are shown.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	i := c.Doc.RouteNamed(p.Route)
	if c.Doc.List(i) == nil {
		return "lists nothing"
	}
	x := c.Doc.Rows(i, c.Doc.IdentityNamed(p.Caller.Identity))
	if x.All {
		return "shows all rows"
	}
	return "shows " + access.RowsText(x)
}

// Plan plans a list for everybody who must be admitted to it: of those who may see all rows for the first, since what
// that one is shown tells what others might be.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	drafts := check.NewDrafts(c.Doc, c.Target, p.Classes())
	ones := readsOfOne(c.Doc)
	for i, rt := range c.Doc.Routes {
		if c.Doc.List(i) == nil {
			if rec := beside(c.Doc, i, ones); rec != nil {
				p.Leave(check.Omission{Route: rt.Key(), What: "the rows that it shows",
					Why: fmt.Sprintf("nothing says whether it lists the records of %s, and whose; say  listed: "+
						"{ at: %s, each: /… }  there", rec.Name, declaration.Scalar(rt.Key()))})
			}
			continue
		}
		var some []check.Probe
		var all *check.Probe
		for _, q := range p.At(i) {
			if q.Of != "" || q.Caller.State == access.Broken || f.Expect(c, q).Outcome != access.Admit {
				continue
			}
			x := check.Probe{ID: q.ID, Phase: check.SafeFirst, Record: q.Record, Control: q.Key(),
				StandsFor: q.StandsFor, Detail: Detail{Params: check.ParamsOf(q)}}
			x.Family = f.Name()
			if !c.Doc.Rows(i, c.Doc.IdentityNamed(q.Caller.Identity)).All {
				some = append(some, x)
			} else if all == nil {
				all = &x
			}
		}
		if len(some) == 0 { // everybody may see all rows
			continue
		}
		if all != nil {
			some = append(some, *all)
		}
		if all == nil || c.Doc.Record(i) != nil {
			some = f.peers(c, drafts, i, some)
		}
		f.add(p, some)
	}
}

// readsOfOne are the routes that read one record, by the path before its parameter.
func readsOfOne(d *declaration.Document) map[string][]int {
	out := map[string][]int{}
	for j, rt := range d.Routes {
		path := rt.Path()
		at := strings.LastIndex(path, "/{")
		if rec := d.Record(j); rec != nil && len(rec.OwnedBy) > 1 && rt.Method() == "GET" && at >= 0 &&
			!strings.Contains(path[at+1:], "/") {
			key := rt.Host + " " + path[:at]
			out[key] = append(out[key], j)
		}
	}
	return out
}

// beside is a record that a read at route i seems to list: one that several own, behind one segment more, and that not
// everybody who is admitted here may read whatever it is; nil without.
func beside(d *declaration.Document, i int, ones map[string][]int) *declaration.Record {
	rt := d.Routes[i]
	if rt.Method() != "GET" || rt.Effect != declaration.Read {
		return nil
	}
	for _, j := range ones[rt.Host+" "+strings.TrimSuffix(rt.Path(), "/")] {
		rec := d.Record(j)
		if slices.Contains(d.FilledBy(i), rec.Name) {
			continue
		}
		for id := range d.Ranked() {
			c := access.Caller{Identity: id, State: access.Sound}
			one := access.Decide(d, j, c)
			if access.Decide(d, i, c).Outcome == access.Admit && (one.Outcome != access.Admit || one.Depends) {
				return rec
			}
		}
	}
	return nil
}

// peers adds one more of each class: where nobody may see all rows, or not from one place, what another of them is
// shown tells which rows there could be.
func (f Family) peers(c *check.Context, drafts check.Drafts, i int, list []check.Probe) []check.Probe {
	for k := range list {
		x := &list[k]
		if len(x.StandsFor) == 0 {
			continue
		}
		id := c.Doc.IdentityNamed(x.StandsFor[0])
		draft, _, ok := drafts.For(i, id, x.Relation, false)
		cr := access.Credential(c.Doc, i, id)
		if !ok || cr == nil {
			continue
		}
		peer := *x
		peer.Caller.Identity, peer.Caller.Scheme, peer.StandsFor = id.Name, cr.Scheme.Name, x.StandsFor[1:]
		peer.Record, peer.Detail = draft.Record, Detail{Params: draft.Params}
		x.StandsFor = nil
		list = append(list, peer)
	}
	return list
}

// add adds the probes of a route, each with the others.
func (f Family) add(p *check.Planning, list []check.Probe) {
	made := make([]*check.Probe, 0, len(list))
	for _, x := range list {
		if a := p.Add(x); a != nil {
			made = append(made, a)
		}
	}
	for _, x := range made {
		d := of(x)
		for _, o := range made {
			if o != x {
				d.Beside = append(d.Beside, Other{o.Key(), f.Who(o)})
			}
		}
		x.Detail = d
	}
}

// Script reads the list, page by page.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		i := c.Doc.RouteNamed(p.Route)
		l := c.Doc.List(i)
		m := &Measured{Rows: []string{}}
		t.Measured(m)
		q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), of(p).Params).WithBody(c, i)
		id := c.Doc.IdentityNamed(p.Caller.Identity)
		may, kept, seen := c.Doc.Rows(i, id), 0, map[string]bool{}
		for number := l.Pages.From; m.Why == "" && !m.End; number++ {
			if m.Pages == mostPages {
				m.Why = fmt.Sprintf("no more than %d pages are read", mostPages)
				break
			}
			call := check.Call{Name: page(m.Pages), Request: q, As: check.Bears(c, p), Retry: true, Effect: check.Safe}
			switch {
			case l.Pages.Query != "":
				call.Request.Query = strings.TrimPrefix(call.Request.Query+"&"+
					check.QueryOf([][2]string{{l.Pages.Query, strconv.Itoa(number)}}), "&")
			case l.Pages.Next != "":
				call.Take = []check.Take{{Slot: next, From: check.FromLink, At: string(l.Pages.Next), Plain: true}}
				if m.Pages > 0 {
					call.Request.Link = next
				}
			}
			r := t.Send(call)[0]
			rows, why := rowsOf(c, l, r)
			fresh, telling := 0, false
			for _, row := range rows {
				if m.Rows = append(m.Rows, row); row == "" || !seen[row] {
					fresh++
				}
				seen[row] = true
				shown, known := l.Shows(may, row, id)
				telling = telling || known && !shown
			}
			if kept == 0 || telling && kept < mostKept {
				t.Keep(r)
				kept++
			}
			if why != "" && m.Pages > 0 && l.Pages.Query != "" && r.Class(c.Doc.Answers) == check.Hidden {
				m.End = true // nothing is at a page behind the last
				break
			}
			if m.Why = why; why != "" {
				break
			}
			m.Pages++
			m.End, m.Why = ends(l, r, len(rows), fresh, m.Pages)
			if len(m.Rows) > mostRows && !m.End {
				m.Why = fmt.Sprintf("no more than %d rows are read", mostRows)
			}
		}
	})
}

// next is the slot of the address of the next page.
const next = "next"

// page names the call of one: the first is the request.
func page(n int) string {
	if n == 0 {
		return check.TheRequest
	}
	return fmt.Sprintf("page %d", n+1)
}

// ends says whether a page is the last, or why it is not known which is next.
func ends(l *declaration.List, r check.Report, rows, fresh, pages int) (end bool, why string) {
	switch {
	case l.Pages.Next != "":
		at, _ := l.Pages.Next.In(check.AnswerOf(r.Exchange).JSON())
		if text, _ := at.(string); text != "" && r.Took[next] == "" {
			return false, fmt.Sprintf("the address of the next page, %q, is none of the target", text)
		}
		return r.Took[next] == "", ""
	case l.Pages.Query == "" || rows == 0:
		return true, ""
	case pages > 1 && fresh == 0:
		return false, fmt.Sprintf("page %d shows no other rows than those before, so that there may be more", pages)
	}
	return false, ""
}

// rowsOf are the ids of the rows of an answer; why says why it has none that can be read.
func rowsOf(c *check.Context, l *declaration.List, r check.Report) (ids []string, why string) {
	switch a := check.AnswerOf(r.Exchange); {
	case r.Fate != check.Answered:
		return nil, "there was no answer to " + r.Name
	case r.Class(c.Doc.Answers) != check.Admitted || a.Status >= 300:
		return nil, fmt.Sprintf("%s was answered %s", r.Name, a.Code())
	case r.Exchange.Truncated:
		return nil, "the answer to " + r.Name + " is longer than what is kept of one; ask for fewer rows with send: " +
			"{ query: … } of the route"
	default:
		list, ok := rowsAt(l.Each, a.JSON())
		if !ok {
			return nil, fmt.Sprintf("the answer to %s has no rows at %s", r.Name, where(l.Each))
		}
		for _, row := range list {
			id, _ := idIn(l.ID, row)
			ids = append(ids, id)
		}
		return ids, ""
	}
}

func where(p pointer.JSON) string {
	if p == "" {
		return "its top, as an array or an object"
	}
	return string(p)
}

// rowsAt are the rows at a pointer: the items of an array, or the members of an object by their names.
func rowsAt(p pointer.JSON, v any) (rows []any, ok bool) {
	if p != "" {
		if v, ok = p.In(v); !ok {
			return nil, false
		}
	}
	switch x := v.(type) {
	case []any:
		return x, true
	case map[string]any:
		for _, n := range slices.Sorted(maps.Keys(x)) {
			rows = append(rows, x[n])
		}
		return rows, true
	case nil: // no rows, as some say it
		return nil, p != ""
	}
	return nil, false
}

func idIn(p pointer.JSON, row any) (string, bool) {
	if p != "" {
		return p.Text(row)
	}
	switch x := row.(type) {
	case string:
		return x, true
	case fmt.Stringer: // a number
		return x.String(), true
	}
	return "", false
}

// Causes are that a list shows too much, or too little.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "lists", Title: "Lists",
		Shown: "A row whose id is that of a record which the declaration names, and of which no word of `on` " +
			"holds that " +
			"admits the caller, was in the list that the caller was shown.",
		Refuted: "A word of `on` that holds of the record: its owner, a group, what it stands in. Rows of which " +
			"nothing is " +
			"declared count as nothing.",
		Rows: []*finding.Row{others, missing}}
}

var (
	others = &finding.Row{Cause: "list of others", Kind: finding.OverPermissive, Rung: 6,
		Title: "A list shows rows of others",
		Means: "Whoever may ask for the list reads records that are not for it, and learns their ids.",
		Advice: "Ask for the caller's own rows where the list is read from the database, so that no row of " +
			"somebody else " +
			"is there to be left out.",
		OWASP: finding.API1, CWE: 639}
	missing = &finding.Row{Cause: "list lacks its own", Kind: finding.OverRestrictive, Rung: 6,
		Title:   "A list lacks rows that are for its caller",
		Means:   "Who owns a record, or may see it, is not shown it where it is listed.",
		Advice:  "Compare what the list asks the database for with who may read a record of it.",
		Shown:   "The list was read to its end, and a row that is for its caller was not there.",
		Refuted: "That nobody else was shown that row in the list either: then it may not be there any more.",
		OWASP:   finding.API1, CWE: 863}
)
