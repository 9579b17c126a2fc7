package workspace

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// Members are members of one item of a section that are written together, as they stand in a declaration. An empty
// value takes one away. What answers of a status, or errors, must have is begun where it is not there yet.
type Members struct {
	Section, Item string
	Set           map[string]string
}

// forms are the members that forms write, by section in the order in which they are said.
var forms = map[string][]string{
	"quotas":    {"allow", "counted_by", "model", "starts", "burst", "queue", "queue_for", "counts"},
	"lifetimes": {"max", "idle", "skew", "ended_within", "rotates", "reuse"},
	"answers":   {"type", "headers", "has"},
}

// has says whether a text has an item of a section, and whether it may have one.
func has(d *declaration.Document, section, item string) (there, may bool) {
	switch section {
	case "quotas":
		there = d.QuotaNamed(item) != nil
	case "lifetimes":
		there = d.LifetimeNamed(item) != nil
	case "answers":
		if item == "errors" {
			return d.Answers.Errors.Line > 0, true
		}
		code, err := strconv.Atoi(item)
		_, there = d.Answers.Status[code]
		return there, err == nil && code >= 400 && code < 600
	}
	return there, there
}

// EditMembers writes members of one item. What they leave must have a meaning.
func (ws *Workspace) EditMembers(text string, m Members) (Edited, error) {
	doc, _, err := ws.pending(text)
	if err != nil {
		return Edited{}, err
	}
	known, ok := forms[m.Section]
	there, may := has(doc, m.Section, m.Item)
	switch {
	case !ok:
		return Edited{}, fmt.Errorf("%w: %q is not edited in a form", fault.ErrInput, m.Section)
	case !may:
		return Edited{}, fmt.Errorf("%w: there is no %q in %s", fault.ErrNotFound, m.Item, m.Section)
	case len(m.Set) == 0:
		return Edited{}, fmt.Errorf("%w: nothing is to be changed", fault.ErrInput)
	}
	for _, n := range slices.Sorted(maps.Keys(m.Set)) {
		if !slices.Contains(known, n) {
			return Edited{}, fmt.Errorf("%w: %q is not set in a form", fault.ErrInput, n)
		}
	}
	var edits []layout.Edit
	var said, parts []string
	for _, n := range known {
		v, ok := m.Set[n]
		if !ok {
			continue
		}
		if v = strings.TrimSpace(v); v == "" {
			said = append(said, "no "+n)
		} else {
			said = append(said, n+" "+v)
			v = valueOf(v)
			parts = append(parts, n+": "+v)
		}
		edits = append(edits, layout.Edit{Section: m.Section, Item: m.Item, Field: []string{n}, Text: v})
	}
	if !there {
		edits = []layout.Edit{{Section: m.Section, Item: m.Item, Text: "{ " + strings.Join(parts, ", ") + " }"}}
	}
	out, err := layout.Apply(text, edits...)
	if err != nil {
		return Edited{}, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if err := ws.leaves(out); err != nil {
		return Edited{}, err
	}
	return Edited{Text: out, Title: m.Item + ": " + strings.Join(said, ", "), Notes: []string{}}, nil
}

// valueOf is a value as a declaration has it: several with commas between are a list.
func valueOf(v string) string {
	parts := strings.Split(v, ",")
	for i, p := range parts {
		parts[i] = strings.TrimSpace(p)
	}
	return declaration.FlowList(slices.DeleteFunc(parts, func(p string) bool { return p == "" }))
}

// leaves says what an edit would leave that has no meaning.
func (ws *Workspace) leaves(out string) error {
	if _, msgs, err := ws.pending(out); err != nil {
		for _, m := range msgs {
			if m.Level == declaration.Error {
				return fmt.Errorf("%w: it would leave an error: %s; %s", fault.ErrInput, m.Text, m.Hint)
			}
		}
		return err
	}
	return nil
}
