package observe

import (
	"slices"
	"strings"
	"unicode"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Ask is one read to send.
type Ask struct {
	Seen // without what was answered
	Call check.Call
}

// Left is a route that is not asked, or not by a caller, and why.
type Left struct {
	Route  string `json:"route"`
	Caller string `json:"caller,omitempty"`
	Why    string `json:"why"`
	// Chosen it would be sent: it is safe by its method, and looks as if it did something.
	Doubtful bool `json:"doubtful,omitempty"`
}

// Choice is what somebody chose to ask.
type Choice struct {
	Callers []string // identities; none is all
	Also    []string // routes that are asked although they look as if they did something
	Only    []string // routes; none is all that nobody has decided, and All every read
	All     bool
}

// Plan says which reads to send: safe ones, as nobody and as each caller, with each of its schemes, on
// its own record and on somebody else's where a record fills the path.
func Plan(c *check.Context, choice Choice) (asks []Ask, left []Left) {
	p := planning{c: c, choice: choice, drafts: check.NewDrafts(wide(c.Doc), c.Target, access.Classes(c.Doc))}
	for i, rt := range c.Doc.Routes {
		switch why, doubtful := p.leave(i); {
		case rt.Unsafe() || len(choice.Only) > 0 && !slices.Contains(choice.Only, rt.Key()) ||
			len(choice.Only) == 0 && !choice.All && !access.IsUndecided(c.Doc, i):
		case why != "":
			p.left = append(p.left, Left{Route: rt.Key(), Why: why, Doubtful: doubtful})
		default:
			p.route(i)
		}
	}
	return p.asks, p.left
}

// wide is a document by which every word of `on` that can hold of a route's record counts there, so that a record of
// each is asked for.
func wide(d *declaration.Document) *declaration.Document {
	for _, rec := range d.Records {
		e := &declaration.Entry{Who: []declaration.Who{}, OwnerOf: declaration.Ref{Name: rec.Name}}
		for _, o := range d.WordsOf(rec) {
			w := declaration.Who{Kind: declaration.WhoSignedIn, On: o}
			if ofGroup(o) {
				w.Kind = declaration.WhoAnyone
			}
			e.Who = append(e.Who, w)
		}
		var routes []int
		for i := range d.Routes {
			if d.Record(i) == rec {
				routes = append(routes, i)
			}
		}
		if len(e.Who) > 0 {
			d = d.Decided(e, routes...)
		}
	}
	return d
}

type planning struct {
	c      *check.Context
	choice Choice
	drafts check.Drafts
	asks   []Ask
	left   []Left
}

// does are words of a path or a summary that say that a route does something, whatever its method.
var does = []string{"accept", "activate", "approve", "archive", "cancel", "clear", "close", "confirm", "deactivate",
	"delete", "disable", "enable", "end", "flush", "generate", "invite", "kill", "logout", "publish", "purge",
	"refresh",
	"reject", "remove", "rerun", "resend", "reset", "restart", "restore", "revoke", "rotate", "run", "send", "sign-out",
	"signout", "start", "stop", "submit", "subscribe", "sync", "toggle", "trigger", "unlock", "unsubscribe", "verify",
	"withdraw"}

// leave says why a read is not sent; doubtful where somebody may choose it all the same.
func (p *planning) leave(i int) (why string, doubtful bool) {
	rt := p.c.Doc.Routes[i]
	if rt.Unsafe() {
		return "", false
	}
	if d := p.c.Doc; d.Sealed(i) != "" || len(rt.Changes) > 0 {
		return "it takes a link, and what a link does happens", false
	}
	if slices.Contains(p.choice.Also, rt.Key()) {
		return "", false
	}
	if rt.Effect != declaration.Read {
		return "it is declared as a " + string(rt.Effect), true
	}
	words := strings.FieldsFunc(strings.ToLower(rt.Path()+" "+rt.Summary), func(r rune) bool {
		return !unicode.IsLetter(r) && r != '-'
	})
	inBraces := map[string]bool{}
	for _, n := range rt.Parameters() {
		inBraces[strings.ToLower(n)] = true
	}
	for _, w := range words {
		if slices.Contains(does, w) && !inBraces[w] {
			return `"` + w + `" sounds as if it did something`, true
		}
	}
	return "", false
}

// route plans the reads of a route.
func (p *planning) route(i int) {
	named := false
	for _, rel := range p.relations(i, nil) {
		named = p.ask(i, nil, "", rel) || named
	}
	if !named {
		return // nothing is known that its path could name
	}
	p.options(i)
	for _, id := range p.c.Doc.Identities {
		if len(p.choice.Callers) > 0 && !slices.Contains(p.choice.Callers, id.Name) {
			continue
		}
		for _, cr := range id.Credentials {
			s := p.c.Doc.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Kind == declaration.Link {
				continue
			}
			for _, rel := range p.relations(i, id) {
				p.ask(i, id, s.Name, rel)
			}
		}
	}
}

// relations are those of a caller (nil is nobody) to the records that it asks for at a route: as many as there are
// records for, and NoRecord where no word tells them apart.
func (p *planning) relations(i int, id *declaration.Identity) (out []access.Relation) {
	none := []access.Relation{access.NoRecord}
	rec := p.c.Doc.Record(i)
	if rec == nil {
		return none
	}
	if words := p.c.Doc.WordsOf(rec); len(words) == 0 || id == nil && !slices.ContainsFunc(words, ofGroup) {
		return none
	}
	for _, rel := range p.drafts.Relations(i, id) {
		if p.drafts.HasAt(i, id, rel) {
			out = append(out, rel)
		}
	}
	if len(out) == 0 {
		return none
	}
	return out
}

// ask plans one read.
func (p *planning) ask(i int, id *declaration.Identity, scheme string, rel access.Relation) bool {
	rt := p.c.Doc.Routes[i]
	who := check.Caller{State: access.Absent}
	if id != nil {
		who = check.Caller{Identity: id.Name, Scheme: scheme, State: access.Sound}
	}
	d, why, ok := p.drafts.For(i, id, rel, false)
	if !ok {
		p.left = append(p.left, Left{Route: rt.Key(), Caller: who.Identity, Why: why})
		return false
	}
	probe := &check.Probe{ID: check.ID{Route: rt.Key(), Caller: who, Relation: rel}, Record: d.Record}
	p.asks = append(p.asks, Ask{
		Seen: Seen{Route: rt.Key(), Identity: who.Identity, Scheme: scheme, Relation: rel, Record: d.Record.Value,
			Owner: d.Record.Owner},
		Call: check.Call{Name: check.TheRequest, As: check.Bears(p.c, probe), Effect: check.Safe, Retry: true,
			Request: check.RequestOf(p.c, probe, i, rt.Path(), d.Params).WithBody(p.c, i)}})
	return true
}

// options asks as nobody which methods there are where a route was asked for, once for each path (RFC 9110, section
// 9.3.7).
func (p *planning) options(i int) {
	rt := p.c.Doc.Routes[i]
	for _, j := range p.c.Doc.Inventory.Siblings(i) {
		if p.c.Doc.Routes[j].Method() == "OPTIONS" || j < i && p.c.Doc.Routes[j].Method() == "GET" {
			return
		}
	}
	q := p.asks[len(p.asks)-1].Call
	q.Request.Method, q.As, q.Retry = "OPTIONS", nil, false
	p.asks = append(p.asks, Ask{Seen: Seen{Route: rt.Key(), Options: true}, Call: q})
}

// Answered is what an ask was answered.
func (a Ask) Answered(r check.Report, answers declaration.Answers) Seen {
	s := a.Seen
	if r.Fate != check.Answered {
		s.Why = r.Why
		if s.Why == "" {
			s.Why = r.Exchange.Error
		}
		s.Exchange = &r.Exchange
		return s
	}
	s.Class, s.Status, s.Exchange = r.Class(answers), r.Exchange.Status, &r.Exchange
	for _, m := range strings.Split(r.Exchange.Answer.Get("Allow"), ",") {
		if m = strings.ToUpper(strings.TrimSpace(m)); m != "" {
			s.Allows = append(s.Allows, m)
		}
	}
	return s
}
