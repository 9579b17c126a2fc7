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
	"millgate/core/madeup"
	"millgate/core/personal"
	"millgate/format/csv"
)

// Account is a row of a table of test accounts. Secrets are in what is written, and never in what is shown.
type Account struct {
	Line       int
	Name       string
	Roles      []string
	Scopes     []string
	Attributes map[string]string
	Scheme     string   // "" where the table has no credential for it
	Members    []string // that are filled
	Known      bool     // the identity is there already, and changes
	Problem    string   // why it cannot be written, "" where it can
	change     Change
}

// Names that the columns of a table of accounts may have, as words without blanks. All others are members of a
// credential
// where a scheme needs one of that name, and attributes where none does.
var accountColumns = map[string][]string{
	"name":   {"name", "identity", "caller", "account", "who"},
	"roles":  {"role", "roles", "group", "groups"},
	"scopes": {"scope", "scopes"},
	"scheme": {"scheme", "provesitwith"},
}

// Table reads a table of test accounts (RFC 4180, or with ; or tabs) beside a text, "" is the kept one. The first row
// names the columns.
func (c *Callers) Table(text, table string) ([]Account, error) {
	if text == "" {
		text = c.ws.Present().Text
	}
	d, _ := c.ws.Parse(workspace.Begun(text))
	head, rows, problems, err := csv.Table([]byte(strings.TrimSpace(table)))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: the table has no first row that names its columns", fault.ErrInput)
	case len(rows) == 0 && len(problems) == 0:
		return nil, fmt.Errorf("%w: the table has no row below the names of its columns", fault.ErrInput)
	case len(d.Schemes) == 0:
		return nil, fmt.Errorf("%w: no scheme says yet what accounts prove themselves with; add one first",
			fault.ErrInput)
	}
	var out []Account
	for _, p := range problems {
		out = append(out, Account{Line: p.Line, Problem: p.Text})
	}
	seen := map[string]int{}
	for _, row := range rows {
		a := accountOf(d, head, row)
		if first, ok := seen[a.Name]; ok && a.Problem == "" {
			a.Problem = fmt.Sprintf("%s stands in line %d already", a.Name, first)
		}
		seen[a.Name] = row.Line
		out = append(out, a)
	}
	slices.SortStableFunc(out, func(a, b Account) int { return a.Line - b.Line })
	return out, nil
}

// accountOf reads one row.
func accountOf(d *declaration.Document, head []string, row csv.Row) Account {
	a := Account{Line: row.Line, Attributes: map[string]string{}}
	values := map[string]string{} // of columns that are no words of ours
	for k, h := range head {
		v := row.Get(k)
		is := strings.Join(personal.Words(h), "")
		switch {
		case v == "":
		case slices.Contains(accountColumns["name"], is) && a.Name == "":
			a.Name = v
		case slices.Contains(accountColumns["roles"], is):
			a.Roles = fieldsOf(v)
		case slices.Contains(accountColumns["scopes"], is):
			a.Scopes = fieldsOf(v)
		case slices.Contains(accountColumns["scheme"], is):
			a.Scheme = v
		default:
			values[strings.TrimSpace(h)] = v
		}
	}
	s := d.SchemeNamed(a.Scheme)
	if a.Scheme != "" && s == nil {
		a.Problem = fmt.Sprintf("there is no scheme %q", a.Scheme)
		return a
	}
	first := s
	for _, x := range d.Schemes { // the first that the row fills; what needs nothing is filled by all
		if len(d.Needs(x)) == 0 {
			continue
		}
		if first == nil {
			first = x
		}
		if s == nil && len(missing(d, x, values, a.Name)) == 0 {
			s = x
		}
	}
	if first == nil {
		a.Problem = "no scheme takes a credential"
		return a
	}
	given := Given{Members: map[string]string{}, Secrets: map[string]string{}}
	if s == nil {
		a.Problem = fmt.Sprintf("it fills no scheme; %s needs %s", first.Name,
			strings.Join(missing(d, first, values, a.Name), " and "))
		return a
	}
	if lacks := missing(d, s, values, a.Name); len(lacks) > 0 {
		a.Problem = fmt.Sprintf("%s needs %s", s.Name, strings.Join(lacks, " and "))
		return a
	}
	a.Scheme, given.Scheme = s.Name, s.Name
	for _, n := range d.Needs(s) {
		v, column := valueOf(values, n)
		if v == "" {
			v = a.Name // who is called as it logs in
		}
		delete(values, column)
		a.Members = append(a.Members, n)
		if kept := madeup.SecretName(n) && !reference(v); kept {
			given.Secrets[n] = v
		} else {
			given.Members[n] = v
		}
		if a.Name == "" && !madeup.SecretName(n) {
			a.Name = v
		}
	}
	a.Attributes = values
	if a.Name == "" {
		a.Problem = "it has no name"
		return a
	}
	a.Known = d.IdentityNamed(a.Name) != nil
	a.change = Change{Do: "put", Kind: IdentityKind, Name: a.Name, Roles: a.Roles, Scopes: a.Scopes,
		Attributes: a.Attributes, Credentials: []Given{given}}
	return a
}

func fieldsOf(v string) []string {
	return strings.FieldsFunc(v, func(r rune) bool { return strings.ContainsRune(" ,;|+", r) })
}

// reference says whether a value says where a secret is, and is none.
func reference(v string) bool {
	return strings.HasPrefix(v, "env:") || strings.HasPrefix(v, "kept:") || strings.HasPrefix(v, "file:")
}

// valueOf is the value of a member, and its column: names are compared as words.
func valueOf(values map[string]string, member string) (value, column string) {
	for _, h := range slices.Sorted(maps.Keys(values)) {
		if strings.Join(personal.Words(h), "") == strings.Join(personal.Words(member), "") {
			return values[h], h
		}
	}
	return "", ""
}

// missing are the members of a scheme that a row does not fill. Who it is may be its name.
func missing(d *declaration.Document, s *declaration.Scheme, values map[string]string, name string) (out []string) {
	for _, n := range d.Needs(s) {
		if v, _ := valueOf(values, n); v == "" && (name == "" || madeup.SecretName(n)) {
			out = append(out, n)
		}
	}
	return out
}

// TakeTable writes the accounts of a table into a text, and keeps their secrets sealed. The text is not kept. With
// a row
// that cannot be written nothing is.
func (c *Callers) TakeTable(ctx context.Context, text, table string) (out, title string, err error) {
	list, err := c.Table(text, table)
	if err != nil {
		return "", "", err
	}
	if out = text; out == "" {
		out = c.ws.Present().Text
	}
	for _, a := range list {
		if a.Problem != "" {
			return "", "", fmt.Errorf("%w: line %d: %s", fault.ErrInput, a.Line, a.Problem)
		}
	}
	for _, a := range list {
		if out, _, err = c.Edit(ctx, out, a.change); err != nil {
			return "", "", errors.Join(fmt.Errorf("line %d of the table", a.Line), err)
		}
	}
	return out, fmt.Sprintf("%d callers from a table", len(list)), nil
}
