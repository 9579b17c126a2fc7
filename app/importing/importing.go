// Package importing reads routes from OpenAPI descriptions, browser archives, access logs, CSV and plain
// lines, shows what they would add to a declaration, and merges what was chosen. What a source suggests
// beside its routes is a proposal: it is never taken without being chosen.
package importing

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"millgate/app/fault"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/inventory"
	"millgate/core/route"
	"millgate/format/accesslog"
	"millgate/format/csv"
	"millgate/format/openapi"
)

// Imports reads routes from descriptions and from traffic.
type Imports struct {
	ws *workspace.Workspace
}

func New(ws *workspace.Workspace) *Imports { return &Imports{ws} }

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

// Request is what is to be imported, and how to read it.
type Request struct {
	Files     []NamedText // the first is the one to read; the others are those it refers to
	Kind      string      // "" is guessed
	Host      string      // name of a host of the targets that its paths are on
	Origin    string      // of a HAR or log: the origin to take; "" is the one seen most, or a target's
	Mapping   accesslog.Mapping
	Templates []string       // templates that correct the folding: METHOD /path, or /path for all methods
	Said      inventory.Said // what somebody says of segments that are unclear
	Text      string         // the declaration that it is merged into
	// At is where the first file stands in the declaration's folder, so that it is not put there; "" where it does not.
	At string
}

// Source is a file on disk with those beside it that it refers to, to be merged into a declaration in a folder.
func Source(path, folder string) (q Request, err error) {
	b, err := os.ReadFile(path) //nolint:gosec // it is what the caller names
	if err != nil {
		return q, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	q.Files = []NamedText{{filepath.Base(path), string(b)}}
	if rel, err := filepath.Rel(folder, path); err == nil && filepath.IsLocal(rel) {
		q.At = filepath.ToSlash(rel)
	}
	if guessKind(path, string(b)) == KindOpenAPI {
		read := func(ref string) ([]byte, error) { return workspace.ReadBeside(filepath.Dir(path), ref) }
		for _, ref := range openapi.Refers(b, read) {
			if b, err := read(ref); err == nil {
				q.Files = append(q.Files, NamedText{ref, string(b)})
			}
		}
	}
	return q, nil
}

// Usual are the items of a preview that are taken where nobody chooses: those that are new or changed, and unclear or
// gone ones where somebody asks for them. What was seen of them is their sample.
func (p Preview) Usual(unclear, gone bool) (out []Choice) {
	for _, it := range p.Items {
		if it.State == inventory.New || it.State == inventory.Changed || it.State == inventory.Unclear && unclear ||
			it.State == inventory.Gone && gone {
			out = append(out, Choice{Key: it.Key, Sample: true})
		}
	}
	return out
}

// Problem is something that could not be read.
type Problem struct {
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

// Preview is what an import would do.
type Preview struct {
	Kind      string
	Name      string
	Items     []inventory.Item
	Problems  []Problem
	Proposals []Proposal
	Origins   map[string]int // of a HAR or log: how many requests went where
	Origin    string
	Notes     []string
	replaces  string // the `from:` that is replaced
}

// maxProblems is how many problems are listed; the rest are counted.
const MaxProblems = 200

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
func (im *Imports) Preview(q Request) (Preview, error) {
	p, _, err := im.preview(q)
	return p, err
}

func (im *Imports) preview(q Request) (Preview, *declaration.Document, error) {
	if len(q.Files) == 0 || strings.TrimSpace(q.Files[0].Text) == "" {
		return Preview{}, nil, fmt.Errorf("%w: there is nothing in it", fault.ErrInput)
	}
	doc, _ := im.ws.Parse(workspace.Begun(q.Text))
	p := Preview{Kind: q.Kind, Name: q.Files[0].Name}
	if p.Kind == "" {
		p.Kind = guessKind(q.Files[0].Name, q.Files[0].Text)
	}
	var err error
	switch p.Kind {
	case KindOpenAPI:
		err = im.previewOpenAPI(&p, q, doc)
	case KindHAR, KindLog:
		err = previewObserved(&p, q, doc)
	case KindCSV:
		in, problems, e := csv.Read([]byte(q.Files[0].Text))
		for _, x := range problems {
			p.Problems = append(p.Problems, Problem(x))
		}
		err = e
		p.Items = inventory.Merge(doc, hosted(in, q.Host), false, "")
	case KindLines:
		p.Items = inventory.Merge(doc, hosted(lines(&p, q.Files[0].Text), q.Host), false, "")
	default:
		err = fmt.Errorf("%q is not something to import", p.Kind)
	}
	if err != nil {
		return p, doc, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if n := len(p.Problems); n > MaxProblems {
		p.Problems = append(p.Problems[:MaxProblems], Problem{Text: fmt.Sprintf("and %d more", n-MaxProblems)})
	}
	return p, doc, nil
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

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func sortedKeys(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func first(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}
