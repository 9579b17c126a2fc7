package workspace

import (
	"fmt"
	"slices"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/route"
)

// Undecided says in a text with routes, but without an access entry, that nobody has decided yet who may call them: one
// widest entry, with a selector for each host, so that every other one wins over it. One that is there already is
// given the hosts that it lacks. A text with entries of its own alone stays: what they leave out is for nobody.
func (ws *Workspace) Undecided(text string) (string, error) {
	doc, _ := ws.Parse(text)
	if len(doc.Routes) == 0 {
		return text, nil
	}
	var at []route.Selector
	put := func(host string) {
		s, err := route.Parse(route.Hosted(host, "/**"))
		if err == nil && !slices.ContainsFunc(at, func(x route.Selector) bool { return x.String() == s.String() }) {
			at = append(at, s)
		}
	}
	e := layout.Edit{Section: "access"}
	for _, x := range doc.Access {
		if x.Undecided() && x.File == doc.Name {
			at, e.Line, e.Field = slices.Clone(x.At), x.Line, []string{"at"}
		}
	}
	if e.Line == 0 && len(doc.Access) > 0 {
		return text, nil
	}
	had := len(at)
	for _, rt := range doc.Routes {
		put(rt.Host)
	}
	if len(at) == had {
		return text, nil
	}
	if e.Text = declaration.SelectorsText(at); e.Line == 0 {
		e.Text = "{ at: " + e.Text + ", who: undecided }"
	}
	out, _, err := layout.Raise(text, declaration.V11)
	if err == nil {
		out, err = layout.Apply(out, e)
	}
	if err != nil {
		return "", fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return out, nil
}
