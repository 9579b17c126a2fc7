package importing

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/inventory"
	"millgate/core/route"
	"millgate/format/openapi"
)

func (im *Imports) previewOpenAPI(p *Preview, q Request, doc *declaration.Document) error {
	load := func(ref string) ([]byte, error) {
		for _, f := range q.Files[1:] {
			if f.Name == ref || filepath.Base(f.Name) == filepath.Base(ref) {
				return []byte(f.Text), nil
			}
		}
		dir, _ := im.ws.Where()
		return workspace.ReadBeside(dir, ref)
	}
	d := openapi.Describe([]byte(q.Files[0].Text), load)
	for _, e := range d.Problems {
		p.Problems = append(p.Problems, Problem{Text: e.Error()})
	}
	if len(d.Routes) == 0 {
		if len(d.Problems) > 0 {
			return d.Problems[0]
		}
		return fmt.Errorf("it has no paths")
	}
	var in []inventory.Incoming
	origin := ""
	for _, r := range doc.Routes {
		if r.From != "" && filepath.Base(r.From) == filepath.Base(q.Files[0].Name) {
			origin = r.From
		}
	}
	p.replaces = origin
	for _, r := range d.Routes {
		in = append(in, inventory.Incoming{Key: r.Method + " " + r.Path, Summary: r.Summary, Sample: r.Sample,
			Line: r.Line})
	}
	p.Items = inventory.Merge(doc, hosted(in, q.Host), origin != "", origin)
	if origin != "" {
		p.Notes = append(p.Notes, fmt.Sprintf("%s is imported already: this takes its place, under a name of its "+
			"own, so that the old one stays as it is.", origin))
	}
	im.proposals(p, q, d, doc)
	return nil
}

// proposals turn what an OpenAPI file says about security into entries that can
// be chosen. A description says what its author believes; nobody checks it.
func (im *Imports) proposals(p *Preview, q Request, d openapi.Description, doc *declaration.Document) {
	names := make([]string, 0, len(d.Schemes))
	for n := range d.Schemes {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		s := d.Schemes[n]
		if doc.SchemeNamed(n) != nil || s.Kind == "" {
			continue
		}
		text := "{ kind: " + s.Kind
		note := "from the file's securitySchemes"
		switch s.Kind {
		case "api-key":
			text += ", in: " + s.In + ", name: " + declaration.Scalar(s.Field)
		case "cookie":
			text += ", name: " + declaration.Scalar(s.Field)
		case "bearer":
			if strings.EqualFold(s.Format, "jwt") {
				text += ", token: jwt"
			}
			if u, err := url.Parse(s.TokenURL); err == nil && u.Path != "" {
				text += fmt.Sprintf(", login: { send: %s, form: { grant_type: client_credentials, client_id: "+
					"\"{client_id}\", client_secret: \"{client_secret}\" }, take: { access: /access_token } }",
					declaration.Scalar("POST "+u.Path))
				note += "; the login is a guess from its tokenUrl"
			}
		}
		text += " }"
		p.Proposals = append(p.Proposals, Proposal{ID: "scheme " + n, Title: "Scheme " + n, Text: n + ": " + text,
			Note: note, edits: []layout.Edit{{Section: "schemes", Item: n, Text: text}}})
	}
	p.Proposals = append(p.Proposals, accessProposals(q, d, doc)...)
	p.Proposals = append(p.Proposals, recordProposals(q, d, doc)...)
}

// accessProposals have an entry for all routes that need the same. An entry takes any of several schemes; what needs
// two of them together, or other scopes with each, is more than it can say, and is noted.
func accessProposals(q Request, d openapi.Description, doc *declaration.Document) (out []Proposal) {
	type need struct {
		declaration.Required
		lost, keys []string
	}
	groups := map[string]*need{}
	var order []string
	for _, r := range d.Routes {
		ways, ok := d.Security[r.Method+" "+r.Path]
		if !ok {
			continue
		}
		sel, err := route.ParseTemplate(r.Method + " " + route.Hosted(q.Host, r.Path))
		if err != nil {
			continue
		}
		if i := doc.RouteNamed(sel.String()); i >= 0 && doc.Deciding[i] >= 0 {
			continue // it is decided
		}
		req, lost := openapi.Required(ways)
		var words []string
		for _, n := range ways {
			if !req.Nothing {
				words = append(words, n.String())
			}
		}
		k := strings.Join(words, " or ")
		if groups[k] == nil {
			groups[k] = &need{req, lost, nil}
			order = append(order, k)
		}
		groups[k].keys = append(groups[k].keys, sel.String())
	}
	for _, k := range order {
		g := groups[k]
		who, title := "who: anyone", plural(len(g.keys), "route that needs", "routes that need")+
			" nothing: open to anyone"
		if !g.Nothing {
			who, title = "who: signed-in, by: "+declaration.FlowList(g.Schemes), plural(len(g.keys), "route that needs",
				"routes that need")+" "+k+": for who is signed in"
			if len(g.Scopes) > 0 {
				who += ", scope: " + declaration.FlowList(g.Scopes)
			}
		}
		note := "from the file's security; it says who may come, not what they may do"
		for _, l := range g.lost {
			note += "; " + l + " is left out"
		}
		text := "{ at: " + declaration.FlowList(g.keys) + ", " + who + " }"
		out = append(out, Proposal{ID: "access " + k, Title: title, Text: text, Note: note,
			edits: []layout.Edit{{Section: "access", Text: text}}})
	}
	return out
}

// recordProposals are records that links say how to make: an operation whose answer has what others take as the last
// parameter of their path. Whose they are nobody says.
func recordProposals(q Request, d openapi.Description, doc *declaration.Document) (out []Proposal) {
	for _, l := range d.Links {
		made := slices.IndexFunc(d.Routes, func(r declaration.Imported) bool { return r.Method+" "+r.Path == l.From })
		method, path, _ := strings.Cut(l.To, " ")
		if made < 0 || !strings.HasPrefix(l.From, "POST ") || method != "GET" || strings.Contains(l.From, "{") {
			continue
		}
		fills := route.Hosted(q.Host, path)
		segments := route.Split(path)
		if len(segments) < 2 {
			continue
		}
		name := strings.TrimSuffix(inventory.ParamName(segments[len(segments)-2], map[string]bool{}), "_id")
		taken := doc.RecordNamed(name) != nil || slices.ContainsFunc(doc.Records, func(r *declaration.Record) bool {
			return slices.ContainsFunc(r.Fills, func(s route.Selector) bool { return s.Path() == fills })
		})
		if taken || slices.ContainsFunc(out, func(p Proposal) bool { return p.ID == "record "+name }) {
			continue
		}
		send := "send: " + declaration.Scalar("POST "+route.Hosted(q.Host, strings.TrimPrefix(l.From, "POST ")))
		if body := d.Routes[made].Sample.JSON; len(body) > 0 {
			send += ", json: " + string(body)
		}
		text := fmt.Sprintf("{ fills: %s, make: { %s, id: %s }", declaration.Scalar(fills), send,
			declaration.Scalar(l.Pointer))
		deleted := func(r declaration.Imported) bool { return r.Method == "DELETE" && r.Path == path }
		if slices.ContainsFunc(d.Routes, deleted) {
			last := strings.TrimSuffix(fills, "{"+l.Parameter+"}") + "{id}"
			text += ", remove: " + declaration.Scalar("DELETE "+last)
		}
		text += " }"
		out = append(out, Proposal{ID: "record " + name, Title: "Record " + name, Text: name + ": " + text,
			Note:  "from the links of the file: how a throwaway one is made; say whose there are (owned_by)",
			edits: []layout.Edit{{Section: "records", Item: name, Text: text}}})
	}
	return out
}

// static are files that pages load; they are no routes of an API.
var static = []string{".js", ".mjs", ".css", ".png", ".jpg", ".jpeg", ".gif", ".svg", ".ico", ".woff", ".woff2", ".ttf",
	".map", ".webp", ".mp4"}
