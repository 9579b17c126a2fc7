package importing

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/inventory"
)

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
func (im *Imports) Import(q Request, take []Choice, proposals []string) (text string, routes int, err error) {
	p, doc, err := im.preview(q)
	if err != nil {
		return "", 0, err
	}
	text = workspace.Begun(q.Text)
	chosen := map[string]Choice{}
	for _, c := range take {
		chosen[c.Key] = c
	}
	var edits []layout.Edit
	if p.Kind == KindOpenAPI {
		name := q.At
		if name == "" {
			if name, err = im.putBeside(q); err != nil {
				return "", 0, err
			}
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
				return "", 0, fmt.Errorf("%w: %w", fault.ErrInput, err)
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
			return "", 0, fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
		text, edits = out, nil
		edits = append(edits, routeEdits(text, p.Kind, it, c)...)
		if text, err = layout.Apply(text, edits...); err != nil {
			return "", 0, fmt.Errorf("%w: %s: %w", fault.ErrInput, it.Key, err)
		}
		edits = nil
	}
	for _, x := range p.Proposals {
		if slices.Contains(proposals, x.ID) {
			edits = append(edits, x.edits...)
		}
	}
	if text, err = layout.Apply(text, edits...); err != nil {
		return "", 0, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	text, err = im.ws.Undecided(text)
	return text, routes, err
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

// putBeside writes the files of an import beside the declaration, under names
// that no other file has.
func (im *Imports) putBeside(q Request) (string, error) {
	main := ""
	dir, declared := im.ws.Where()
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
					"another name, and mend what refers to it", fault.ErrInput, name)
			}
			name = fmt.Sprintf("%s-%d%s", stem, n, ext)
		}
		if err := workspace.ReplaceFile(filepath.Join(dir, name), f.Text); err != nil {
			return "", err
		}
		if i == 0 {
			main = name
		}
	}
	return main, nil
}
