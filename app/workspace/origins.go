package workspace

import (
	"fmt"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// PageChange is a change of what pages of one origin may do, where one entry of `origins` decides.
type PageChange struct {
	Line int      // of the entry; 0 adds one
	At   []string // what the entry is for; without any it stays as it is
	Was  string   // the origin that is permitted; "" adds a permission
	Page string   // the origin that is to be; "" takes the permission away, or the entry where Was is "" too
	Set  map[string]string
}

// pageWords are the members of a permission that a form writes.
var pageWords = []string{"methods", "headers", "expose", "credentials", "max_age"}

// EditPages changes what pages may do in a text. What it leaves must have a meaning.
func (ws *Workspace) EditPages(text string, c PageChange) (Edited, error) {
	doc, _, err := ws.pending(text)
	if err != nil {
		return Edited{}, err
	}
	for n := range c.Set {
		if !slices.Contains(pageWords, n) {
			return Edited{}, fmt.Errorf("%w: %q is not set in a form", fault.ErrInput, n)
		}
	}
	c.Page = strings.TrimSpace(c.Page)
	edits, err := c.edits(doc)
	if err != nil {
		return Edited{}, err
	}
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if err := ws.leaves(out); err != nil {
		return Edited{}, err
	}
	return Edited{Text: out, Title: c.title(), Notes: []string{}}, nil
}

func (c PageChange) title() string {
	switch {
	case c.Page == "" && c.Was == "":
		return "No entry for pages"
	case c.Page == "":
		return "No pages of " + c.Was
	case c.Was == "":
		return "Pages of " + c.Page
	}
	return "Change pages of " + c.Page
}

// edits are those of the text that make the change.
func (c PageChange) edits(doc *declaration.Document) ([]layout.Edit, error) {
	if c.Line == 0 {
		if len(c.At) == 0 || c.Page == "" {
			return nil, fmt.Errorf("%w: say for which routes, and which pages", fault.ErrInput)
		}
		return []layout.Edit{{Section: "origins", Text: "{ at: " + declaration.FlowList(c.At) + ", allow: { " +
			declaration.Scalar(c.Page) + ": " + c.whole(nil) + " } }"}}, nil
	}
	var e *declaration.OriginEntry
	for _, x := range doc.Origins {
		if x.Line == c.Line && x.File == doc.Name {
			e = x
		}
	}
	if e == nil {
		return nil, fmt.Errorf("%w: no entry of origins begins in line %d of %s; where it stands in another file, "+
			"change it there", fault.ErrNotFound, c.Line, doc.Name)
	}
	allowed := func(o string) *declaration.Permission {
		for i := range e.Allow {
			if e.Allow[i].Origin == o {
				return &e.Allow[i]
			}
		}
		return nil
	}
	was := allowed(c.Was)
	switch {
	case c.Was != "" && was == nil:
		return nil, fmt.Errorf("%w: pages of %s are not permitted there", fault.ErrNotFound, c.Was)
	case c.Page != c.Was && allowed(c.Page) != nil:
		return nil, fmt.Errorf("%w: pages of %s are permitted there already", fault.ErrInput, c.Page)
	}
	in := func(text string, field ...string) layout.Edit {
		return layout.Edit{Section: "origins", Line: e.Line, Field: field, Text: text}
	}
	var edits []layout.Edit
	if len(c.At) > 0 {
		edits = append(edits, in(declaration.FlowList(c.At), "at"))
	}
	// What is no mapping of origins is written anew.
	whole := len(e.Allow) == 0 || len(e.Allow) == 1 && e.Allow[0].Origin == "any"
	switch {
	case c.Page == "" && c.Was == "":
		return []layout.Edit{in("")}, nil
	case c.Page == "" && len(e.Allow) == 1:
		return append(edits, in("none", "allow")), nil
	case c.Page == "":
		return append(edits, in("", "allow", c.Was)), nil
	case whole && was != nil || len(e.Allow) == 0:
		return append(edits, in("{ "+declaration.Scalar(c.Page)+": "+c.whole(was)+" }", "allow")), nil
	case whole:
		return append(edits, in("{ any: "+e.Allow[0].Text()+", "+declaration.Scalar(c.Page)+": "+c.whole(nil)+" }",
			"allow")), nil
	case c.Was == c.Page:
		for _, n := range pageWords {
			if v, ok := c.Set[n]; ok {
				edits = append(edits, in(pageValue(n, v), "allow", c.Page, n))
			}
		}
		return edits, nil
	case was != nil:
		edits = append(edits, in("", "allow", c.Was))
	}
	return append(edits, in(c.whole(was), "allow", c.Page)), nil
}

// whole is a permission with what is set, beside what another one says.
func (c PageChange) whole(of *declaration.Permission) string {
	texts := map[string]string{}
	if of != nil {
		for _, m := range of.Members() {
			texts[m[0]] = m[1]
		}
	}
	var fields [][2]string
	for _, n := range pageWords {
		v, ok := c.Set[n]
		if v = pageValue(n, v); !ok {
			v = texts[n]
		}
		if v != "" {
			fields = append(fields, [2]string{n, v})
		}
	}
	if len(fields) == 0 {
		return "{}"
	}
	return declaration.FieldsText(fields, nil)
}

// pageValue is a member of a permission as a declaration has it; "" takes it away.
func pageValue(name, v string) string {
	switch v = strings.TrimSpace(v); {
	case v == "", name == "credentials":
		return v // true is no text
	}
	return valueOf(v)
}
