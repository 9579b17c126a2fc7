package app

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/inventory"
	"millgate/core/route"
	"millgate/format/accesslog"
	"millgate/format/csv"
	"millgate/format/har"
	"millgate/format/openapi"
)

// Kinds of what routes can be imported from.
const (
	KindOpenAPI = "openapi"
	KindHAR     = "har"
	KindLog     = "log"
	KindCSV     = "csv"
	KindLines   = "lines"
)

// NamedText is a file that somebody brought.
type NamedText struct{ Name, Text string }

// ImportRequest is what is to be imported, and how to read it.
type ImportRequest struct {
	Files     []NamedText // the first is the one to read; the others are those it refers to
	Kind      string      // "" is guessed
	Host      string      // name of a host of the targets that its paths are on
	Origin    string      // of a HAR or log: the origin to take; "" is the one seen most, or a target's
	Mapping   accesslog.Mapping
	Templates []string // templates that correct the folding: METHOD /path, or /path for all methods
	Text      string   // the declaration that it is merged into
}

// ImportProblem is something that could not be read.
type ImportProblem struct {
	Line int
	Text string
}

// Proposal is something that the source suggests beside its routes. It is never
// taken without being chosen.
type Proposal struct {
	ID    string
	Title string
	Text  string // as it would stand in the declaration
	Note  string
	edits []layout.Edit
}

// ImportPreview is what an import would do.
type ImportPreview struct {
	Kind      string
	Name      string
	Items     []inventory.Item
	Problems  []ImportProblem
	Proposals []Proposal
	Origins   map[string]int // of a HAR or log: how many requests went where
	Origin    string
	Notes     []string
	replaces  string // the `from:` that is replaced
}

// maxProblems is how many problems are listed; the rest are counted.
const maxProblems = 200

// guessKind tells what a text is.
func guessKind(name, text string) string {
	head := strings.TrimLeft(text, "\ufeff \r\n\t")
	ext := strings.ToLower(filepath.Ext(name))
	first, _, _ := strings.Cut(head, "\n")
	switch {
	case ext == ".har", strings.HasPrefix(head, "{") && strings.Contains(head[:min(len(head), 4000)], `"log"`) &&
		strings.Contains(head, `"entries"`):
		return KindHAR
	case strings.Contains(head[:min(len(head), 20000)], "openapi") && (strings.HasPrefix(head, "{") ||
		strings.Contains("\n"+head, "\nopenapi") || strings.Contains("\n"+head, "\n\"openapi")):
		return KindOpenAPI
	case ext == ".csv", ext == ".tsv":
		return KindCSV
	case ext == ".log", strings.HasPrefix(head, "{") && strings.Contains(first, "}"), strings.Contains(first, `" `) &&
		strings.Contains(first, "HTTP/"):
		return KindLog
	}
	if f := strings.Fields(first); len(f) == 2 && slices.Contains(route.Methods, f[0]) {
		return KindLines
	}
	if strings.Contains(strings.ToLower(first), "path") && strings.ContainsAny(first, ",;\t") {
		return KindCSV
	}
	if ext == ".yaml" || ext == ".yml" || ext == ".json" {
		return KindOpenAPI
	}
	return KindLines
}

// Preview reads what is to be imported and says what it would do.
func (a *App) Preview(q ImportRequest) (ImportPreview, error) {
	p, _, err := a.preview(q)
	return p, err
}

func (a *App) preview(q ImportRequest) (ImportPreview, *declaration.Document, error) {
	if len(q.Files) == 0 || strings.TrimSpace(q.Files[0].Text) == "" {
		return ImportPreview{}, nil, fmt.Errorf("%w: there is nothing in it", ErrInput)
	}
	doc, _ := a.parse(begun(q.Text))
	p := ImportPreview{Kind: q.Kind, Name: q.Files[0].Name}
	if p.Kind == "" {
		p.Kind = guessKind(q.Files[0].Name, q.Files[0].Text)
	}
	var err error
	switch p.Kind {
	case KindOpenAPI:
		err = a.previewOpenAPI(&p, q, doc)
	case KindHAR, KindLog:
		err = previewObserved(&p, q, doc)
	case KindCSV:
		in, problems, e := csv.Read([]byte(q.Files[0].Text))
		for _, x := range problems {
			p.Problems = append(p.Problems, ImportProblem(x))
		}
		err = e
		p.Items = inventory.Merge(doc, hosted(in, q.Host), false, "")
	case KindLines:
		p.Items = inventory.Merge(doc, hosted(lines(&p, q.Files[0].Text), q.Host), false, "")
	default:
		err = fmt.Errorf("%q is not something to import", p.Kind)
	}
	if err != nil {
		return p, doc, fmt.Errorf("%w: %w", ErrInput, err)
	}
	if n := len(p.Problems); n > maxProblems {
		p.Problems = append(p.Problems[:maxProblems], ImportProblem{Text: fmt.Sprintf("and %d more", n-maxProblems)})
	}
	return p, doc, nil
}

// begun is a text to merge into, also when there is none yet.
func begun(text string) string {
	if strings.TrimSpace(text) == "" {
		return "millgate: 1\ntitle: My service\n"
	}
	return text
}

func hosted(in []inventory.Incoming, host string) []inventory.Incoming {
	if host == "" {
		return in
	}
	for i, x := range in {
		if m, path, ok := strings.Cut(x.Key, " "); ok && !strings.Contains(path, ":/") {
			in[i].Key = m + " " + route.Hosted(host, path)
		}
	}
	return in
}

func lines(p *ImportPreview, text string) (in []inventory.Incoming) {
	for n, l := range strings.Split(text, "\n") {
		l = strings.TrimSpace(l)
		if l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		f := strings.Fields(l)
		if len(f) > 2 {
			// What stands behind the path says what it is for.
			in = append(in, inventory.Incoming{Key: strings.ToUpper(f[0]) + " " + f[1],
				Summary: strings.Join(f[2:], " "), Line: n + 1})
		} else if len(f) == 2 {
			in = append(in, inventory.Incoming{Key: strings.ToUpper(f[0]) + " " + f[1], Line: n + 1})
		} else {
			p.Problems = append(p.Problems, ImportProblem{n + 1, fmt.Sprintf("%q is not METHOD /path", l)})
			continue
		}
		if _, err := route.ParseTemplate(in[len(in)-1].Key); err != nil {
			p.Problems = append(p.Problems, ImportProblem{n + 1, err.Error()})
			in = in[:len(in)-1]
		}
	}
	return in
}

func (a *App) previewOpenAPI(p *ImportPreview, q ImportRequest, doc *declaration.Document) error {
	load := func(ref string) ([]byte, error) {
		for _, f := range q.Files[1:] {
			if f.Name == ref || filepath.Base(f.Name) == filepath.Base(ref) {
				return []byte(f.Text), nil
			}
		}
		dir, _ := a.where()
		return readBeside(dir, ref)
	}
	d := openapi.Describe([]byte(q.Files[0].Text), load)
	for _, e := range d.Problems {
		p.Problems = append(p.Problems, ImportProblem{Text: e.Error()})
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
	a.proposals(p, q, d, doc)
	return nil
}

// proposals turn what an OpenAPI file says about security into entries that can
// be chosen. A description says what its author believes; nobody checks it.
func (a *App) proposals(p *ImportPreview, q ImportRequest, d openapi.Description, doc *declaration.Document) {
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

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func pathOf(key string) string {
	_, path, _ := strings.Cut(key, " ")
	if i := strings.Index(path, ":/"); i > 0 {
		path = path[i+1:]
	}
	return path
}

// static are files that pages load; they are no routes of an API.
var static = []string{".js", ".mjs", ".css", ".png", ".jpg", ".jpeg", ".gif", ".svg", ".ico", ".woff", ".woff2", ".ttf",
	".map", ".webp", ".mp4"}

// secretNames are members of bodies and queries whose values are not kept.
var secretNames = []string{"pass", "secret", "token", "key", "auth", "session", "code", "otp", "pin", "credential",
	"signature", "sig"}

func secretName(n string) bool {
	n = strings.ToLower(n)
	return slices.ContainsFunc(secretNames, func(s string) bool { return strings.Contains(n, s) })
}

func previewObserved(p *ImportPreview, q ImportRequest, doc *declaration.Document) error {
	all, err := sentRequests(p, q)
	if err != nil {
		return err
	}
	p.Origins = map[string]int{}
	for _, r := range all {
		p.Origins[r.origin]++
	}
	p.Origin = q.Origin
	if _, ok := p.Origins[p.Origin]; !ok || q.Origin == "" {
		p.Origin = likelyOrigin(p.Origins, doc)
	}
	known, err := templates(q, doc)
	if err != nil {
		return err
	}
	var in []inventory.Incoming
	for _, f := range inventory.Fold(toService(p, q, all), known) {
		x := inventory.Incoming{Key: f.Template, Count: f.Count, Paths: f.Paths, Unclear: f.Unclear, Line: f.Line}
		if f.Answered == 0 {
			x.Unclear = "never answered with success: it may not exist"
		}
		x.Sample = sampleOf(f)
		in = append(in, x)
	}
	p.Items = inventory.Merge(doc, in, false, "")
	if len(in) == 0 {
		return fmt.Errorf("there is no request to %s in it", orThis(p.Origin))
	}
	return nil
}

// sentTo is a request that was observed, and the origin that it went to.
type sentTo struct {
	inventory.Observed
	origin string
}

// sentRequests are the requests of a recording or a log; what cannot be read of it is a problem.
func sentRequests(p *ImportPreview, q ImportRequest) (all []sentTo, err error) {
	if p.Kind == KindHAR {
		list, problems, err := har.Read([]byte(q.Files[0].Text))
		if err != nil {
			return nil, err
		}
		for _, x := range problems {
			p.Problems = append(p.Problems, ImportProblem(x))
		}
		for _, r := range list {
			all = append(all, sentTo{r.Observed, r.Origin})
		}
		return all, nil
	}
	list, problems := accesslog.Read([]byte(q.Files[0].Text), q.Mapping)
	for _, x := range problems {
		p.Problems = append(p.Problems, ImportProblem(x))
	}
	for _, r := range list {
		all = append(all, sentTo{r.Observed, r.ToHost})
	}
	if len(all) == 0 && len(problems) > 0 {
		return nil, fmt.Errorf("no line could be read; line %d: %s", problems[0].Line, problems[0].Text)
	}
	return all, nil
}

// toService are the requests to the chosen origin that are calls of a service; a note says
// what is left out.
func toService(p *ImportPreview, q ImportRequest, all []sentTo) (seen []inventory.Observed) {
	left := map[string]int{}
	for _, r := range all {
		switch {
		case r.origin != p.Origin:
			left["to other hosts"]++
		case r.Method == "OPTIONS" || r.Method == "HEAD" || r.Method == "CONNECT":
			left["with the method "+r.Method]++
		case slices.Contains(static, strings.ToLower(filepath.Ext(r.Path))):
			left["for files that pages load"]++
		default:
			r.Observed.Host = q.Host
			seen = append(seen, r.Observed)
		}
	}
	for _, why := range sortedKeys(left) {
		p.Notes = append(p.Notes, plural(left[why], "request", "requests")+" "+why+", left out.")
	}
	return seen
}

// templates are those that paths are folded into: of the inventory, and as a person corrected
// them. A correction without a method counts for all.
func templates(q ImportRequest, doc *declaration.Document) (known []route.Selector, err error) {
	for _, r := range doc.Routes {
		known = append(known, r.Selector)
	}
	for _, t := range q.Templates {
		t = strings.TrimSpace(t)
		texts := []string{t}
		if strings.HasPrefix(t, "/") {
			texts = nil
			for _, m := range route.Methods {
				texts = append(texts, m+" "+route.Hosted(q.Host, t))
			}
		}
		for _, x := range texts {
			s, err := route.ParseTemplate(x)
			if err != nil {
				return nil, fmt.Errorf("the correction %q: %w", t, err)
			}
			known = append(known, s)
		}
	}
	return known, nil
}

func orThis(s string) string {
	if s == "" {
		return "this service"
	}
	return s
}

func sortedKeys(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// likelyOrigin is a target's own, or the one that most requests went to.
func likelyOrigin(origins map[string]int, doc *declaration.Document) string {
	best := ""
	for _, o := range sortedKeys(origins) {
		for _, t := range doc.Targets {
			if t.Base == o || strings.HasPrefix(t.Base, o+"/") || strings.HasSuffix(t.Base, "://"+o) {
				return o
			}
		}
		if best == "" || origins[o] > origins[best] {
			best = o
		}
	}
	return best
}

// sampleOf is what could be sent to a folded route: what was seen, without what
// looks like a secret.
func sampleOf(f inventory.Folded) declaration.Sample {
	var s declaration.Sample
	sel, err := route.ParseTemplate(f.Template)
	if err != nil || f.Best.Status < 200 || f.Best.Status >= 400 {
		return s
	}
	segs := route.Split(route.Normalise(f.Best.Path))
	for i, g := range sel.Segments {
		if g.Name != "" && i < len(segs) {
			if s.Path == nil {
				s.Path = map[string]string{}
			}
			v, err := url.PathUnescape(segs[i])
			if err != nil {
				v = segs[i]
			}
			s.Path[g.Name] = v
		}
	}
	for k, v := range f.Best.Query {
		if secretName(k) {
			continue
		}
		if s.Query == nil {
			s.Query = map[string]string{}
		}
		s.Query[k] = v
	}
	if !declaration.UnsafeMethod(f.Best.Method) || len(f.Best.Body) == 0 || len(f.Best.Body) > 64<<10 {
		return s
	}
	switch {
	case strings.Contains(f.Best.Type, "json"):
		var v any
		d := json.NewDecoder(strings.NewReader(string(f.Best.Body)))
		d.UseNumber()
		if d.Decode(&v) == nil {
			if b, err := json.Marshal(blanked(v)); err == nil {
				s.JSON = b
			}
		}
	case strings.Contains(f.Best.Type, "x-www-form-urlencoded"):
		form, err := url.ParseQuery(string(f.Best.Body))
		if err != nil {
			break
		}
		s.Form = map[string]string{}
		for k := range form {
			s.Form[k] = form.Get(k)
			if secretName(k) {
				s.Form[k] = "{" + strings.Map(placeholder, k) + "}"
			}
		}
	}
	return s
}

func placeholder(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
		return r
	}
	return '_'
}

// blanked puts placeholders where secrets stand.
func blanked(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			if _, text := m.(string); text && secretName(k) {
				x[k] = "{" + strings.Map(placeholder, k) + "}"
			} else {
				x[k] = blanked(m)
			}
		}
	case []any:
		for i := range x {
			x[i] = blanked(x[i])
		}
	}
	return v
}

// Choice is what becomes of one item.
type Choice struct {
	Key         string // as the preview has it
	Effect      string // what is said of it; "" leaves the default
	Sensitivity string
	Group       string
	Sample      bool // write what was seen as its sample
}

// Import makes what was chosen part of the text and returns it, not kept yet. A
// file that routes are imported from is put beside the declaration.
func (a *App) Import(q ImportRequest, take []Choice, proposals []string) (text string, routes int, err error) {
	p, doc, err := a.preview(q)
	if err != nil {
		return "", 0, err
	}
	text = begun(q.Text)
	chosen := map[string]Choice{}
	for _, c := range take {
		chosen[c.Key] = c
	}
	var edits []layout.Edit
	if p.Kind == KindOpenAPI {
		name, err := a.putBeside(q)
		if err != nil {
			return "", 0, err
		}
		from := "{ from: " + declaration.Scalar(name) + ", host: " + declaration.Scalar(q.Host) + " }"
		if q.Host == "" {
			from = "from: " + declaration.Scalar(name)
		}
		switch {
		case p.replaces == name:
		case p.replaces != "":
			text, err = layout.ReplaceImport(text, p.replaces, name)
			if err != nil {
				return "", 0, fmt.Errorf("%w: %w", ErrInput, err)
			}
		default:
			edits = append(edits, layout.Edit{Section: "routes", Text: from})
		}
		routes = len(p.Items)
	}
	for _, it := range p.Items {
		c, ok := chosen[it.Key]
		if !ok {
			continue
		}
		switch {
		case it.State == inventory.Gone:
			if i := doc.RouteNamed(it.Key); i >= 0 && doc.Routes[i].From == "" {
				edits = append(edits, layout.Edit{Section: "routes", Item: it.Key})
			}
			continue
		case p.Kind == KindOpenAPI:
		default:
			routes++
		}
		out, err := layout.Apply(text, edits...)
		if err != nil {
			return "", 0, fmt.Errorf("%w: %w", ErrInput, err)
		}
		text, edits = out, nil
		edits = append(edits, routeEdits(text, p.Kind, it, c)...)
		if text, err = layout.Apply(text, edits...); err != nil {
			return "", 0, fmt.Errorf("%w: %s: %w", ErrInput, it.Key, err)
		}
		edits = nil
	}
	for _, x := range p.Proposals {
		if slices.Contains(proposals, x.ID) {
			edits = append(edits, x.edits...)
		}
	}
	if text, err = layout.Apply(text, edits...); err != nil {
		return "", 0, fmt.Errorf("%w: %w", ErrInput, err)
	}
	return text, routes, nil
}

// routeEdits write one item into the list of routes.
func routeEdits(text, kind string, it inventory.Item, c Choice) (edits []layout.Edit) {
	var fields [][2]string
	say := func(k, v string) {
		if v != "" {
			fields = append(fields, [2]string{k, v})
		}
	}
	say("effect", first(c.Effect, it.Effect))
	say("sensitivity", first(c.Sensitivity, it.Sensitivity))
	if g := first(c.Group, it.Group); g != "" {
		say("group", declaration.Scalar(g))
	}
	if kind != KindOpenAPI && it.Summary != "" {
		say("summary", declaration.Scalar(it.Summary))
	}
	if c.Sample && kind != KindOpenAPI {
		say("send", layout.SampleText(it.Sample))
	}
	if len(fields) == 0 {
		if kind != KindOpenAPI && it.State != inventory.Same && it.State != inventory.Changed {
			edits = append(edits, layout.Edit{Section: "routes", Text: declaration.Scalar(it.Key)})
		}
		return edits
	}
	if it.State == inventory.New || it.State == inventory.Unclear {
		parts := []string{"at: " + declaration.Scalar(it.Key)}
		for _, f := range fields {
			parts = append(parts, f[0]+": "+f[1])
		}
		return []layout.Edit{{Section: "routes", Text: "{ " + strings.Join(parts, ", ") + " }"}}
	}
	for _, f := range fields {
		e := layout.RouteEdit(text, it.Key, []string{f[0]}, f[1])
		edits = append(edits, e)
		if out, err := layout.Apply(text, e); err == nil {
			text = out
		}
	}
	return edits
}

func first(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}

// putBeside writes the files of an import beside the declaration, under names
// that no other file has.
func (a *App) putBeside(q ImportRequest) (string, error) {
	main := ""
	dir, declared := a.where()
	for i, f := range q.Files {
		name := filepath.Base(filepath.Clean("/" + filepath.ToSlash(f.Name)))
		if name == "/" || name == "." || strings.HasPrefix(name, ".") {
			name = "routes.openapi.yaml"
		}
		stem, ext := name, ""
		for _, e := range []string{".openapi.yaml", ".openapi.yml", ".openapi.json", ".yaml", ".yml", ".json"} {
			if strings.HasSuffix(name, e) {
				stem, ext = strings.TrimSuffix(name, e), e
				break
			}
		}
		for n := 2; ; n++ {
			old, err := os.ReadFile(filepath.Join(dir, name))
			if err != nil && name != declared || err == nil && string(old) == f.Text {
				break
			}
			if i > 0 && err == nil {
				return "", fmt.Errorf("%w: there is another file called %s beside the declaration; give this one "+
					"another name, and mend what refers to it", ErrInput, name)
			}
			name = fmt.Sprintf("%s-%d%s", stem, n, ext)
		}
		if err := ReplaceFile(filepath.Join(dir, name), f.Text); err != nil {
			return "", err
		}
		if i == 0 {
			main = name
		}
	}
	return main, nil
}
