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
	groups := map[string][]string{}
	var order []string
	for _, r := range d.Routes {
		need, ok := d.Security[r.Method+" "+r.Path]
		if !ok {
			continue
		}
		k := strings.Join(need, " or ")
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], r.Method+" "+route.Hosted(q.Host, r.Path))
	}
	for _, k := range order {
		var keys []string
		for _, key := range groups[k] {
			sel, err := route.ParseTemplate(key)
			if err != nil {
				continue
			}
			if i := doc.RouteNamed(sel.String()); i < 0 || doc.Deciding[i] < 0 {
				keys = append(keys, sel.String())
			}
		}
		if len(keys) == 0 {
			continue
		}
		who, title := "who: anyone", plural(len(keys), "route that needs", "routes that need")+
			" nothing: open to anyone"
		if k != "" {
			var by []string
			for _, n := range d.Security[groups[k][0][:strings.IndexByte(groups[k][0], ' ')]+" "+pathOf(groups[k][0])] {
				first, _, _ := strings.Cut(n, " ")
				if !slices.Contains(by, first) && first != "" {
					by = append(by, first)
				}
			}
			who, title = "who: signed-in", plural(len(keys), "route that needs", "routes that need")+" "+k+
				": for who is signed in"
			if len(by) > 0 {
				who += ", by: " + declaration.FlowList(by)
			}
		}
		text := "{ at: " + declaration.FlowList(keys) + ", " + who + " }"
		p.Proposals = append(p.Proposals, Proposal{ID: "access " + k, Title: title, Text: text,
			Note:  "from the file's security; it says who may come, not what they may do",
			edits: []layout.Edit{{Section: "access", Text: text}}})
	}
}

// static are files that pages load; they are no routes of an API.
var static = []string{".js", ".mjs", ".css", ".png", ".jpg", ".jpeg", ".gif", ".svg", ".ico", ".woff", ".woff2", ".ttf",
	".map", ".webp", ".mp4"}
