package view

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/review"
	"millgate/core/route"
)

// SheetLine is one thing that is said of a route, and where.
type SheetLine struct {
	Text   string
	Detail string
	File   string
	Line   int
}

// SheetPart is one question about a route with what the declaration answers.
type SheetPart struct {
	Title string // who, how, how long, from where, how often, to see its effect
	Lines []SheetLine
	None  string // what it means that nothing is said
}

// Sheet is everything that is said about one route.
type Sheet struct {
	Key, Summary, Effect, Sensitivity, Group string
	File                                     string
	Line                                     int
	From                                     string // the file that it is imported from
	Parts                                    []SheetPart
	Reach                                    []access.Reached
	Messages                                 []review.Message
	Neighbours                               []string // other methods of the path
	Sample                                   string   // JSON
	Parameters                               []string
}

// RouteSheet gathers what a text says about a route; the kept one when it is
// empty.
func (vw *View) RouteSheet(text, key string) (Sheet, error) {
	now := vw.ws.Present()
	doc, reviewed, msgs := now.Doc, now.Reviewed, now.Messages
	if text != "" && text != now.Text {
		doc, msgs = vw.ws.Parse(text)
		reviewed = nil
	}
	if reviewed == nil {
		reviewed = review.Review(doc, msgs, time.Now())
	}
	i := doc.RouteNamed(key)
	if i < 0 {
		return Sheet{}, fmt.Errorf("%w: there is no route %q", fault.ErrNotFound, key)
	}
	rt := doc.Routes[i]
	s := Sheet{Key: key, Summary: rt.Summary, Effect: string(rt.Effect), Sensitivity: string(rt.Sensitivity),
		Group: rt.Group, File: rt.File, Line: rt.Line, From: rt.From, Parameters: append([]string{},
			rt.Parameters()...), Neighbours: []string{}}
	if b, err := json.MarshalIndent(rt.Send, "", "  "); err == nil {
		s.Sample = string(b)
	}
	for _, j := range doc.Inventory.Siblings(i) {
		if j != i {
			s.Neighbours = append(s.Neighbours, doc.Routes[j].Key())
		}
	}
	s.Reach = access.WhoReaches(doc, i)
	for _, m := range reviewed {
		if m.Route == key {
			s.Messages = append(s.Messages, m)
		}
	}
	e := doc.Entry(i)
	s.Parts = []SheetPart{who(doc, i, e), how(doc, e), howLong(doc, e), fromWhere(doc, i), howOften(doc, i),
		effectOf(rt)}
	return s, nil
}

func at(text, detail string, p declaration.Place) SheetLine {
	return SheetLine{Text: text, Detail: detail, File: p.File, Line: p.Line}
}

func who(d *declaration.Document, i int, e *declaration.Entry) SheetPart {
	p := SheetPart{Title: "Who", None: "No access entry selects it, so it is for nobody."}
	if e == nil {
		return p
	}
	var detail []string
	if d.NamesRoute(d.Deciding[i], i) {
		detail = append(detail, "the entry names this route")
	} else {
		detail = append(detail, "by the pattern "+entrySelectors(e))
	}
	p.Lines = append(p.Lines, at(upper(access.WhoText(e)), strings.Join(detail, ", "), e.Place))
	for _, g := range sortedAny(e.Given) {
		p.Lines = append(p.Lines, at(fmt.Sprintf("given %s: %v", g, e.Given[g]), "an attribute that must hold",
			e.Place))
	}
	if len(e.Scope) > 0 {
		p.Lines = append(p.Lines, at("with the scope "+strings.Join(e.Scope, ", "), "", e.Place))
	}
	if rec := d.Record(i); rec != nil {
		owners := make([]string, 0, len(rec.Owners))
		for _, o := range rec.Owners {
			owners = append(owners, o.Name)
		}
		p.Lines = append(p.Lines, at("its parameter is a "+rec.Name, "owned by "+
			strings.Join(owners[:min(6, len(owners))], ", "), rec.Place))
	}
	if l := d.List(i); l != nil {
		p.Lines = append(p.Lines, at("lists "+l.Record.Name, "rows "+whereRows(l), l.Place))
	}
	if e.Hide {
		p.Lines = append(p.Lines, at("hidden from others", "404 in place of 403", e.Place))
	}
	if t := e.Turned.Text(); t != "" {
		p.Lines = append(p.Lines, at("turned away with "+strings.Trim(t, "{ }"), "", e.Place))
	}
	if len(e.Opens().On) > 0 || e.Open() {
		p.Lines = append(p.Lines, at("a broken credential is "+
			map[declaration.Broken]string{declaration.BrokenEither: "admitted or refused",
				declaration.BrokenIgnored: "ignored", declaration.BrokenRefused: "refused"}[e.Broken], "", e.Place))
	}
	return p
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func entrySelectors(e *declaration.Entry) string {
	out := make([]string, len(e.At))
	for i, s := range e.At {
		out[i] = s.String()
	}
	return strings.Join(out, ", ")
}

func sortedAny(m map[string]any) []string {
	k := make([]string, 0, len(m))
	for s := range m {
		k = append(k, s)
	}
	slices.Sort(k)
	return k
}

func accepted(d *declaration.Document, e *declaration.Entry) []*declaration.Scheme {
	if e == nil || e.Open() || len(e.Who) > 0 && e.Who[0].Kind == declaration.WhoNobody {
		return nil
	}
	return d.Accepted(e)
}

func how(d *declaration.Document, e *declaration.Entry) SheetPart {
	p := SheetPart{Title: "How", None: "No credential is needed, or none would do."}
	for _, s := range accepted(d, e) {
		detail := ""
		switch s.Kind {
		case declaration.Bearer:
			detail = s.Token + " in Authorization: Bearer"
			if s.Issuer != "" {
				detail += ", issued by " + s.Issuer
			}
			if s.Audience != "" {
				detail += ", for " + s.Audience
			}
			if len(s.Algorithms) > 0 {
				detail += ", " + strings.Join(s.Algorithms, " or ")
			}
		case declaration.APIKey:
			detail = "in the " + s.In + " " + s.Field
		case declaration.Cookie:
			detail = "cookie " + s.Field + ", SameSite " + s.Cookie.SameSite
			if s.Cookie.HTTPOnly {
				detail += ", HttpOnly"
			}
			if s.Cookie.Secure {
				detail += ", Secure"
			}
		case declaration.Basic:
			detail = "user name and password in Authorization: Basic"
		case declaration.Signature:
			detail = s.Signing.Algorithm + " of " + s.Signing.Covers + " in " + s.Field
		case declaration.Link:
			detail = "signed link: " + s.Expires + " and " + s.Field + " in the query"
		}
		p.Lines = append(p.Lines, at(s.Name, detail, s.Place))
	}
	return p
}

func howLong(d *declaration.Document, e *declaration.Entry) SheetPart {
	p := SheetPart{Title: "How long", None: "Nothing bounds the life of a credential here."}
	for _, s := range accepted(d, e) {
		for _, what := range []string{"access", "refresh"} {
			l := d.LifetimeNamed(s.Lifetime[what].Name)
			if l == nil {
				continue
			}
			var parts []string
			if l.Max > 0 {
				parts = append(parts, "at most "+declaration.ShortDuration(l.Max))
			}
			if l.Idle > 0 {
				parts = append(parts, "unused at most "+declaration.ShortDuration(l.Idle))
			}
			if l.EndedSaid {
				parts = append(parts, "ended within "+declaration.ShortDuration(l.EndedWithin))
			}
			if l.Rotates {
				parts = append(parts, "rotates")
			}
			kind := "credential"
			if s.Kind == declaration.Bearer {
				kind = what + " token"
			}
			p.Lines = append(p.Lines, at(upper(kind), "of "+s.Name+": "+strings.Join(parts, ", "), l.Place))
		}
		if s.Signing.Tolerance > 0 {
			p.Lines = append(p.Lines, at("Timestamp", "of "+s.Name+": off by at most "+
				declaration.ShortDuration(s.Signing.Tolerance), s.Place))
		}
	}
	return p
}

func fromWhere(d *declaration.Document, i int) SheetPart {
	p := SheetPart{Title: "From where", None: "No page of another origin may call it."}
	e := d.OriginEntry(i)
	if e == nil {
		return p
	}
	for _, x := range e.Allow {
		var parts []string
		if len(x.Methods) > 0 {
			may := slices.Contains(x.Methods, d.Routes[i].Method())
			parts = append(parts, strings.Join(x.Methods, ", "))
			if !may {
				parts = append(parts, "not this method")
			}
		}
		if x.Credentials {
			parts = append(parts, "with credentials")
		}
		if len(x.Headers) > 0 {
			parts = append(parts, "may set "+strings.Join(x.Headers, ", "))
		}
		if len(x.Expose) > 0 {
			parts = append(parts, "may read "+strings.Join(x.Expose, ", "))
		}
		if x.MaxAge > 0 {
			parts = append(parts, "remembered "+declaration.ShortDuration(x.MaxAge))
		}
		p.Lines = append(p.Lines, at(x.Origin, strings.Join(parts, ", "), x.Place))
	}
	return p
}

func howOften(d *declaration.Document, i int) SheetPart {
	p := SheetPart{Title: "How often", None: "No quota counts its calls."}
	for _, q := range d.QuotasAt[i] {
		u := d.Quotas[q]
		detail := fmt.Sprintf("by %s, %s", snapshot.CountedBy(u), u.Model)
		if u.Burst > 0 {
			detail += fmt.Sprintf(", burst %d", u.Burst)
		}
		if u.Queue > 0 {
			detail += fmt.Sprintf(", %d may wait", u.Queue)
			if u.QueueFor > 0 {
				detail += ", each for " + declaration.ShortDuration(u.QueueFor)
			}
		}
		for _, f := range u.For {
			detail += fmt.Sprintf("; %s: %s", f.Name, declaration.AmountsText(f.Amounts))
		}
		if len(u.Exempt) > 0 {
			list := make([]string, len(u.Exempt))
			for k, x := range u.Exempt {
				list[k] = x.Name
			}
			detail += "; exempt: " + strings.Join(list, ", ")
		}
		if u.RefuseWith != 429 {
			detail += fmt.Sprintf("; refused with %d", u.RefuseWith)
		}
		p.Lines = append(p.Lines, at(u.Name+": "+declaration.AmountsText(u.Allow), detail, u.Place))
	}
	return p
}

func effectOf(rt *declaration.Route) SheetPart {
	p := SheetPart{Title: "To see its effect", None: "Nothing is asked after it was admitted."}
	for _, u := range rt.Then {
		as := u.As.Name
		if as == "" {
			as = "nobody"
		}
		want := "2xx"
		if u.Status > 0 {
			want = fmt.Sprint(u.Status)
		}
		p.Lines = append(p.Lines, at(u.Method+" "+route.Hosted(u.Host, u.Path)+" as "+as, "must be answered "+want,
			u.Place))
	}
	return p
}

// whereRows says where an answer has the rows of a list, and how the next of them are asked for.
func whereRows(l *declaration.List) string {
	out := "are the whole answer"
	if l.Each != "" {
		out = "at " + string(l.Each)
	}
	switch {
	case l.Pages.Query != "":
		out += ", pages by " + l.Pages.Query
	case l.Pages.Next != "":
		out += ", the next page at " + string(l.Pages.Next)
	}
	return out
}
