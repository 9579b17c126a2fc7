package byexample

import (
	"maps"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// Line is what a proposal writes, on the line that it will have.
func (p Proposal) Line() string {
	switch p.Kind {
	case Route:
		return "- " + p.route()
	case Pages:
		return "- " + p.Text
	case Host:
		return p.Name + ": { hosts: { " + declaration.Scalar(p.Field) + ": " + declaration.Scalar(p.Text) + " } }"
	case Header:
		return p.Name + ": { headers: { " + declaration.Scalar(p.Field) + ": " + p.Text + " } }"
	case Scheme:
		if p.Field != "" {
			return p.Name + ": { " + p.Field + ": " + p.Text + " }"
		}
	case Identity:
		if p.DeclaredBefore {
			return p.Name + ": { " + p.Text + " }"
		}
	case Target, Record, Lifetime:
	}
	return p.Name + ": " + p.Text
}

// route is a route with its sample.
func (p Proposal) route() string {
	text := declaration.Scalar(p.Name)
	if send := layout.SampleText(p.Sample); send != "" {
		return "{ at: " + text + ", send: " + send + " }"
	}
	return text
}

// Edits are those that write a proposal beside what is declared.
func (p Proposal) Edits(d *declaration.Document) []layout.Edit {
	switch p.Kind {
	case Target:
		return []layout.Edit{{Section: "targets", Item: p.Name, Text: p.Text}}
	case Lifetime:
		return []layout.Edit{{Section: "lifetimes", Item: p.Name, Text: p.Text}, {Section: "schemes", Item: p.Scheme,
			Field: []string{"lifetime", "access"}, Text: declaration.Scalar(p.Name)}}
	case Pages:
		return []layout.Edit{{Section: "origins", Text: p.Text}}
	case Record:
		return []layout.Edit{{Section: "records", Item: p.Name, Text: p.Text}}
	case Host:
		return []layout.Edit{{Section: "targets", Item: p.Name, Field: []string{"hosts", p.Field},
			Text: declaration.Scalar(p.Text)}}
	case Header:
		return []layout.Edit{{Section: "targets", Item: p.Name, Field: []string{"headers", p.Field}, Text: p.Text}}
	case Scheme:
		e := layout.Edit{Section: "schemes", Item: p.Name, Text: p.Text}
		if p.Field != "" {
			e.Field = []string{p.Field}
		}
		return []layout.Edit{e}
	case Route:
		return []layout.Edit{{Section: "routes", Text: p.route()}}
	case Identity:
		var edits []layout.Edit
		for _, r := range p.Roles {
			if d.RoleNamed(r) == nil {
				edits = append(edits, layout.Edit{Section: "roles", Item: r, Text: "{}"})
			}
		}
		if d.IdentityNamed(p.Name) == nil {
			return append(edits, layout.Edit{Section: "identities", Item: p.Name, Text: p.Text})
		}
		return []layout.Edit{{Section: "identities", Item: p.Name, Field: []string{"credentials", p.Scheme},
			Text: p.credential()}}
	}
	return nil
}

// credential is that of an identity as it will stand in the declaration: secrets are kept sealed.
func (p Proposal) credential() string {
	var members []string
	for _, n := range slices.Sorted(maps.Keys(p.Members)) {
		members = append(members, n+": "+declaration.Scalar(p.Members[n]))
	}
	for _, n := range slices.Sorted(maps.Keys(p.Secrets)) {
		members = append(members, n+": kept:"+p.Name+"-"+n)
	}
	return "{ " + strings.Join(members, ", ") + " }"
}

// identity is one with its credential.
func (p Proposal) identity() string {
	var parts []string
	if len(p.Roles) > 0 {
		parts = append(parts, "roles: "+declaration.FlowList(p.Roles))
	}
	if len(p.Scopes) > 0 {
		parts = append(parts, "scopes: "+declaration.FlowList(p.Scopes))
	}
	return "{ " + strings.Join(append(parts, "credentials: { "+p.Scheme+": "+p.credential()+" }"), ", ") + " }"
}
