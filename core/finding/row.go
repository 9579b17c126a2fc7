package finding

// Rule: Everything that is said of a cause stands in its row.

import (
	"fmt"
	"slices"
	"strings"
)

// OWASP is a category of the OWASP API Security Top 10 (2023).
type OWASP string

// The categories that causes belong to.
const (
	API1 OWASP = "API1:2023 Broken Object Level Authorization"
	API2 OWASP = "API2:2023 Broken Authentication"
	API3 OWASP = "API3:2023 Broken Object Property Level Authorization"
	API4 OWASP = "API4:2023 Unrestricted Resource Consumption"
	API5 OWASP = "API5:2023 Broken Function Level Authorization"
	API6 OWASP = "API6:2023 Unrestricted Access to Sensitive Business Flows"
	API8 OWASP = "API8:2023 Security Misconfiguration"
	API9 OWASP = "API9:2023 Improper Inventory Management"
)

// Row is a cause of findings: what went wrong, named for good, and everything that is
// said of it. Its kind and its Cause together are its name.
type Row struct {
	// Cause stands in the ids of findings and never changes. One that ends in a space
	// is the beginning of causes that differ in a name: "field " of "field password".
	Cause string
	Kind  Kind
	// Title has no full stop; {what} is the name behind a Cause that ends in a space.
	Title  string
	Means  string // what is wrong, and what follows, in sentences
	Advice string // how to mend it, in sentences; {route} is the finding's route
	OWASP  OWASP
	CWE    int
	// Severity where the cause alone decides how grave it is; "" where Rate does.
	Severity Severity
	// Least is what it is at least, whatever Rate says; "" without.
	Least Severity
	// Forges: whoever uses it can be any caller, the mightiest among them.
	Forges bool
	// Led: whoever wants to use it must lead somebody to a page first. ByAnyone: no account is
	// needed, whoever shows it.
	Led, ByAnyone bool
	Standard      string // the standard's section that asks for it; "" without one
	// Covers are causes of its kind that show as well wherever this one does: they are no
	// findings of their own there.
	Covers []string
	// PartOf are causes that it comes from where they show at the same route: it is part of
	// their finding there. The first that shows counts.
	PartOf []string
	// Same is another cause of its kind for the same fault. Which of the two shows may change
	// between sweeps, so that both have the id of that one.
	Same string
	// Rung and Sums are those of its findings where they are the same whatever shows them: the
	// rung of the ladder, and a sentence without its full stop.
	Rung int
	Sums string
	// Shown and Refuted where they differ from the family's.
	Shown, Refuted string
}

// RowOf is the row of a cause in a list, nil without.
func RowOf(list []*Row, cause string) *Row {
	if i := slices.IndexFunc(list, func(r *Row) bool { return r.Cause == cause }); i >= 0 {
		return list[i]
	}
	return nil
}

// Anchor names the row in docs/findings.md.
func (r *Row) Anchor() string {
	words := strings.FieldsFunc(strings.ToLower(string(r.Kind)+" "+r.Cause), func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < '0' || c > '9')
	})
	return strings.Join(words, "-")
}

// Family is one family of checks with its causes.
type Family struct {
	Name, Title string
	Shown       string // how what it finds is shown: what was sent and seen, and when that is proven
	Refuted     string // what would refute it, and was tried
	Rows        []*Row
}

// Mostly is the category of most of its causes, "" without any.
func (f Family) Mostly() (most OWASP) {
	n := map[OWASP]int{}
	for _, r := range f.Rows {
		if n[r.OWASP]++; n[r.OWASP] > n[most] {
			most = r.OWASP
		}
	}
	return most
}

// Worst is the worst kind of gap that it finds; one that finds none of its own is taken to find wrong refusals.
func (f Family) Worst() Kind {
	worst := WrongRefusal
	for _, r := range f.Rows {
		if Worse(r.Kind, worst) {
			worst = r.Kind
		}
	}
	return worst
}

// TitleOf is the title of a finding with a cause of this row.
func (r *Row) TitleOf(cause string) string {
	return strings.ReplaceAll(r.Title, "{what}", strings.TrimPrefix(cause, r.Cause))
}

// AdviceFor is the advice for a finding at a route.
func (r *Row) AdviceFor(route string) string { return strings.ReplaceAll(r.Advice, "{route}", route) }

// Catalogue is every cause that something can have.
type Catalogue struct {
	Families []Family
	exact    map[name]*Row
	begins   []*Row
	family   map[*Row]int
}

type name struct {
	kind  Kind
	cause string
}

// NewCatalogue makes a catalogue of families, in their order. It panics where two rows
// have one name or anchor, or a row or a family is not whole: mistakes of whoever wrote
// them.
func NewCatalogue(families ...Family) *Catalogue {
	c := &Catalogue{Families: families, exact: map[name]*Row{}, family: map[*Row]int{}}
	anchors := map[string]bool{}
	for i, f := range families {
		if f.Name == "" || f.Title == "" || f.Shown == "" || f.Refuted == "" {
			panic("the family " + f.Name + " is not whole")
		}
		for _, r := range f.Rows {
			n := name{r.Kind, r.Cause}
			whole := r.Kind.IsGap() && r.Title != "" && r.Means != "" && r.Advice != "" && r.OWASP != "" && r.CWE != 0
			if c.exact[n] != nil || anchors[r.Anchor()] || !whole {
				panic(fmt.Sprintf("the row of %s %q stands twice or is not whole", r.Kind, r.Cause))
			}
			c.exact[n], c.family[r], anchors[r.Anchor()] = r, i, true
			if strings.HasSuffix(r.Cause, " ") {
				c.begins = append(c.begins, r)
			}
		}
	}
	for n, r := range c.exact {
		if r.Same != "" && c.exact[name{n.kind, r.Same}] == nil {
			panic(fmt.Sprintf("%s %q is the same as %q, which is no cause of that kind", n.kind, n.cause, r.Same))
		}
	}
	return c
}

// Shown says how what a row says is shown.
func (c *Catalogue) Shown(r *Row) string {
	if r.Shown != "" {
		return r.Shown
	}
	return c.of(r).Shown
}

// Refuted says what would refute it.
func (c *Catalogue) Refuted(r *Row) string {
	if r.Refuted != "" {
		return r.Refuted
	}
	return c.of(r).Refuted
}

func (c *Catalogue) of(r *Row) Family {
	if i, ok := c.family[r]; ok {
		return c.Families[i]
	}
	return Family{}
}

// Row is the row of a cause, or else the one with the longest beginning of it. Without
// either it is one that says the kind alone, and ok is false: something is found all the
// same, and whoever gave that cause forgot its row.
func (c *Catalogue) Row(k Kind, cause string) (r *Row, ok bool) {
	if r := c.exact[name{k, cause}]; r != nil {
		return r, true
	}
	for _, b := range c.begins {
		if b.Kind == k && strings.HasPrefix(cause, b.Cause) && (r == nil || len(b.Cause) > len(r.Cause)) {
			r = b
		}
	}
	if r == nil {
		return &Row{Cause: cause, Kind: k, Title: k.Name() + ": " + cause, Means: "It differs from what is declared.",
			Advice: "Let the service do what is declared, or declare what it does.", OWASP: API8, CWE: 755}, false
	}
	return r, true
}
