package callers

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/store"
)

// Kind of what is edited.
type Kind string

const (
	RoleKind     Kind = "role"
	IdentityKind Kind = "identity"
	SchemeKind   Kind = "scheme"
)

// sections are where each kind is declared.
var sections = map[Kind]string{RoleKind: "roles", IdentityKind: "identities", SchemeKind: "schemes"}

// Change is one edit of who calls.
type Change struct {
	Do   string // put, copy, rename, remove, take or set
	Kind Kind
	Name string
	To   string // the new name of a copy or a rename; of take what is taken: access or refresh; of set the member
	// Of put.
	Includes   []string          // of a role
	Roles      []string          // of an identity
	Scopes     []string          // of an identity
	Attributes map[string]string // of an identity, as text
	// In are the records of a kind that an identity stands in, by the kind; nil leaves it as it is.
	In          map[string][]string
	Credentials []Given // of an identity; one that is not named stays
	// Of a scheme: its members, as they stand in a declaration; of take a pointer; of set a value.
	Text string
}

// Given is a credential to write. Secrets are sealed in the data directory, and named there.
type Given struct {
	Scheme  string
	Members map[string]string // as text: a plain value, env:NAME, kept:NAME or file:PATH
	Secrets map[string]string // typed once, and kept sealed
}

// Edit makes an edit in a text and says what was done. The text is not kept; secrets that were typed are.
func (c *Callers) Edit(ctx context.Context, text string, ch Change) (out, title string, err error) {
	if text == "" {
		text = c.ws.Present().Text
	}
	text = workspace.Begun(text)
	d, msgs := c.ws.Parse(text)
	if m := firstError(msgs); m != nil && ch.Do != "put" {
		return "", "", fmt.Errorf("%w: line %d: %s; mend it first", fault.ErrInvalid, m.Line, m.Text)
	}
	section, ok := sections[ch.Kind]
	if !ok {
		return "", "", fmt.Errorf("%w: %q is no kind of caller", fault.ErrInput, ch.Kind)
	}
	ch.Name, ch.To = strings.TrimSpace(ch.Name), strings.TrimSpace(ch.To)
	switch ch.Do {
	case "put":
		out, err = c.put(ctx, text, d, section, ch)
		title = "Add " + string(ch.Kind) + " " + ch.Name
		if exists(d, ch.Kind, ch.Name) {
			title = "Change " + string(ch.Kind) + " " + ch.Name
		}
	case "copy":
		out, err = copied(text, d, section, ch)
		title = fmt.Sprintf("Copy %s %s to %s", ch.Kind, ch.Name, ch.To)
	case "rename":
		if out, err = layout.Rename(text, d, string(ch.Kind), ch.Name, ch.To); err == nil && ch.Kind != SchemeKind {
			out, err = inWaivers(out, d, ch.Name, ch.To)
		}
		title = fmt.Sprintf("Call %s %s %s", ch.Kind, ch.Name, ch.To)
	case "take":
		if ch.Kind != SchemeKind || !exists(d, ch.Kind, ch.Name) || ch.To != "access" && ch.To != "refresh" {
			return "", "", fmt.Errorf("%w: %q cannot be taken from the login of %q", fault.ErrInput, ch.To, ch.Name)
		}
		out, err = layout.Apply(text, layout.Edit{Section: section, Item: ch.Name, Field: []string{"login", "take",
			ch.To},
			Text: declaration.Scalar(ch.Text)})
		title = fmt.Sprintf("%s takes %s at %s", ch.Name, ch.To, ch.Text)
	case "set":
		out, title, err = set(text, d, ch)
	case "remove":
		out, err = removed(text, d, section, ch)
		title = fmt.Sprintf("Remove %s %s", ch.Kind, ch.Name)
	default:
		return "", "", fmt.Errorf("%w: %q is nothing to do with a caller", fault.ErrInput, ch.Do)
	}
	if err != nil {
		return "", "", fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	_, after := c.ws.Parse(out)
	if m := firstError(after); m != nil && firstError(msgs) == nil {
		return "", "", fmt.Errorf("%w: it would leave an error: line %d: %s; %s", fault.ErrInput, m.Line, m.Text,
			m.Hint)
	}
	return out, title, nil
}

func firstError(msgs []declaration.Message) *declaration.Message {
	for i := range msgs {
		if msgs[i].Level == declaration.Error {
			return &msgs[i]
		}
	}
	return nil
}

func exists(d *declaration.Document, k Kind, name string) bool {
	switch k {
	case RoleKind:
		return d.RoleNamed(name) != nil
	case IdentityKind:
		return d.IdentityNamed(name) != nil
	case SchemeKind:
		return d.SchemeNamed(name) != nil
	}
	return false
}

// put adds what is not there, and changes what is.
func (c *Callers) put(ctx context.Context, text string, d *declaration.Document, section string,
	ch Change) (string, error) {
	if ch.Name == "" {
		return "", errors.New("it needs a name")
	}
	var fields [][2]string
	switch ch.Kind {
	case RoleKind:
		fields = [][2]string{{"includes", flow(ch.Includes)}}
	case SchemeKind:
		return layout.Apply(text, layout.Edit{Section: section, Item: ch.Name, Text: ch.Text})
	case IdentityKind:
		creds, err := c.credentials(ctx, d, ch)
		if err != nil {
			return "", err
		}
		attrs, err := attributes(ch.Attributes)
		if err != nil {
			return "", err
		}
		fields = [][2]string{{"roles", flow(ch.Roles)}, {"scopes", flow(ch.Scopes)}, {"attributes", attrs},
			{"credentials", creds}}
		if ch.In != nil {
			in, err := within(ch.In)
			if err != nil {
				return "", err
			}
			fields = slices.Insert(fields, 3, [2]string{"in", in})
		}
	}
	edits := newRoles(d, ch.Roles)
	if exists(d, ch.Kind, ch.Name) {
		for _, f := range fields {
			edits = append(edits, layout.Edit{Section: section, Item: ch.Name, Field: []string{f[0]}, Text: f[1]})
		}
		return layout.Apply(text, edits...)
	}
	return layout.Apply(text, append(edits, layout.Edit{Section: section, Item: ch.Name, Text: flowOf(fields)})...)
}

// newRoles adds roles that are not there yet: they come with who has them.
func newRoles(d *declaration.Document, roles []string) (edits []layout.Edit) {
	for _, r := range roles {
		if d.RoleNamed(r) == nil {
			edits = append(edits, layout.Edit{Section: "roles", Item: r, Text: "{}"})
		}
	}
	return edits
}

// flow is a list of names, one of them alone without brackets; "" of none.
func flow(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return declaration.FlowList(list)
}

// flowOf is a mapping on one line; empty members are left out.
func flowOf(fields [][2]string) string {
	var parts []string
	for _, f := range fields {
		if f[1] != "" {
			parts = append(parts, f[0]+": "+f[1])
		}
	}
	if len(parts) == 0 {
		return "{}"
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

func attributes(m map[string]string) (string, error) {
	if len(m) == 0 {
		return "", nil
	}
	var names []string
	for n := range m {
		if strings.TrimSpace(n) == "" {
			return "", errors.New("an attribute needs a name")
		}
		names = append(names, n)
	}
	slices.Sort(names)
	var fields [][2]string
	for _, n := range names {
		v := strings.TrimSpace(m[n])
		if v != "true" && v != "false" {
			v = declaration.Scalar(v)
		}
		fields = append(fields, [2]string{declaration.Scalar(n), v})
	}
	return flowOf(fields), nil
}

// within is where an identity stands, as text.
func within(m map[string][]string) (string, error) {
	if len(m) == 0 {
		return "", nil
	}
	var fields [][2]string
	for _, kind := range slices.Sorted(maps.Keys(m)) {
		if strings.TrimSpace(kind) == "" || len(m[kind]) == 0 {
			return "", errors.New("where an identity stands needs a kind and a record of it, as in  team: north")
		}
		fields = append(fields, [2]string{declaration.Scalar(kind), flow(m[kind])})
	}
	return flowOf(fields), nil
}

// credentials are those that are given, and those of the identity that are not named.
func (c *Callers) credentials(ctx context.Context, d *declaration.Document, ch Change) (string, error) {
	var fields [][2]string
	named := map[string]bool{}
	for _, g := range ch.Credentials {
		named[g.Scheme] = true
		if d.SchemeNamed(g.Scheme) == nil {
			return "", fmt.Errorf("there is no scheme %q", g.Scheme)
		}
		var members [][2]string
		for _, n := range d.Needs(d.SchemeNamed(g.Scheme)) {
			value := declaration.Scalar(g.Members[n])
			if secret := g.Secrets[n]; secret != "" {
				name := ch.Name + "-" + n
				if len(ch.Credentials) > 1 {
					name = ch.Name + "-" + g.Scheme + "-" + n
				}
				if err := c.seal(ctx, name, secret); err != nil {
					return "", err
				}
				value = "kept:" + name
			}
			if value == "" || value == `""` {
				return "", fmt.Errorf("the credential for %s needs %s", g.Scheme, n)
			}
			members = append(members, [2]string{n, value})
		}
		fields = append(fields, [2]string{g.Scheme, flowOf(members)})
	}
	if id := d.IdentityNamed(ch.Name); id != nil {
		for _, cr := range id.Credentials {
			if !named[cr.Scheme.Name] {
				var members [][2]string
				for _, n := range needsFirst(d, cr) {
					members = append(members, [2]string{n, declaration.Scalar(cr.Fill[n].Text())})
				}
				fields = append(fields, [2]string{cr.Scheme.Name, flowOf(members)})
			}
		}
	}
	if len(fields) == 0 {
		return "", nil
	}
	return flowOf(fields), nil
}

// seal keeps a secret in the data directory, under a name.
func (c *Callers) seal(ctx context.Context, name, secret string) error {
	err := c.store.Seal(ctx, name, secret)
	if errors.Is(err, store.ErrNoDirectory) {
		return errors.New("a secret can be kept only with a data directory (--data DIR); name a variable of the " +
			"environment in its place: env:NAME")
	}
	return err
}

// copied adds an identity, a role or a scheme like another one, behind it.
func copied(text string, d *declaration.Document, section string, ch Change) (string, error) {
	if !exists(d, ch.Kind, ch.Name) {
		return "", fmt.Errorf("there is no %s %q", ch.Kind, ch.Name)
	}
	if ch.To == "" || exists(d, ch.Kind, ch.To) {
		return "", fmt.Errorf("the copy needs a name of its own")
	}
	return layout.CopyItem(text, section, ch.Name, ch.To)
}

// inWaivers renames a caller where waivers name it: these are plain names.
func inWaivers(text string, d *declaration.Document, from, to string) (string, error) {
	var edits []layout.Edit
	for _, w := range d.Waivers {
		if w.File == d.Name && slices.Contains(w.Callers, from) {
			list := slices.Clone(w.Callers)
			list[slices.Index(list, from)] = to
			edits = append(edits, layout.Edit{Section: "waivers", Line: w.Line, Field: []string{"callers"},
				Text: declaration.FlowList(list)})
		}
	}
	return layout.Apply(text, edits...)
}

// removed takes one away, with the records that it owns. What else names it must be changed first, and is named.
func removed(text string, d *declaration.Document, section string, ch Change) (string, error) {
	if !exists(d, ch.Kind, ch.Name) {
		return "", fmt.Errorf("there is no %s %q", ch.Kind, ch.Name)
	}
	edits := []layout.Edit{{Section: section, Item: ch.Name}}
	owned := map[int]bool{}
	for _, r := range d.Records {
		for _, o := range r.Owners {
			if ch.Kind == IdentityKind && o.Name == ch.Name {
				owned[o.Line] = true
				edits = append(edits, layout.Edit{Section: "records", Item: r.Name, Field: []string{"owned_by",
					ch.Name}})
			}
		}
	}
	var lines []string
	for k, u := range d.Uses(string(ch.Kind), ch.Name) {
		if k > 0 && !owned[u.Line] && !slices.Contains(lines, fmt.Sprint(u.Line)) {
			lines = append(lines, fmt.Sprint(u.Line))
		}
	}
	if len(lines) > 0 {
		return "", fmt.Errorf("%s is named in line %s; take it out there first", ch.Name, strings.Join(lines, ", "))
	}
	return layout.Apply(text, edits...)
}
