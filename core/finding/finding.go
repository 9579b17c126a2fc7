// Package finding has the words in which everything that is found is said, whether in
// a declaration, a token or a service: its kind, how grave it is, how sure.
//
// A gap is one way in which what was observed departs from what is declared. Gaps with
// one cause, at one place where one mend would be, are one finding, however many callers
// and routes show it. A finding keeps its ID over sweeps, which is how it can be waived,
// compared and said to be gone.
//
// The package knows no family of checks: what they find comes in as values.
package finding

// Finding is one or more gaps with one cause.
type Finding struct {
	ID         string     `json:"id"` // the same over sweeps: from kind, rung, method, template and credential state
	Kind       Kind       `json:"kind"`
	Cause      string     `json:"cause"` // its row; what differs in a name stands behind it
	Title      string     `json:"title"`
	Route      string     `json:"route"` // the first of Routes where there are several
	Routes     []string   `json:"routes,omitempty"`
	Scope      *Scope     `json:"scope,omitempty"`
	Callers    []string   `json:"callers"`  // observed
	Inferred   []string   `json:"inferred"` // of the same class as one that was observed
	Rung       int        `json:"rung"`
	Severity   Severity   `json:"severity"`
	Weighs     string     `json:"weighs,omitempty"` // why it is that grave
	Confidence Confidence `json:"confidence"`
	Reason     string     `json:"reason"`
	Advice     string     `json:"advice"`
	OWASP      string     `json:"owasp"`
	CWE        int        `json:"cwe"`
	Standard   string     `json:"standard,omitempty"` // the section that asks for it
	Docs       string     `json:"docs"`               // where its cause is explained
	Probes     []string   `json:"probes"`             // the probe that shows it best comes first
	Crossings  int        `json:"crossings"`
	// At is the route at which it shows best, and Column whose cell of the board that is.
	At     string `json:"at,omitempty"`
	Column string `json:"column,omitempty"`
	// Waived where somebody accepted it.
	Waived *Waived `json:"waived,omitempty"`
}

// Counts says how many crossings and findings there are of each kind.
type Counts struct {
	Crossings map[Kind]int `json:"crossings"`
	Findings  map[Kind]int `json:"findings"`
}

// Where is where one mend would be, in words: the scope, or the route.
func (f Finding) Where() string {
	if f.Scope != nil {
		return f.Scope.String()
	}
	return f.Route
}

// All are its routes, one or several.
func (f Finding) All() []string {
	if f.Routes != nil {
		return f.Routes
	}
	return []string{f.Route}
}

// Scope is what several routes have in common, where one mend would be: gaps of one cause
// in one scope are one finding.
type Scope struct {
	Of   Place  `json:"of"`
	Name string `json:"name"`
}

// Place is what a scope is.
type Place string

// The places.
const (
	AtScheme  Place = "scheme"  // everything behind it
	AtQuota   Place = "quota"   // everything that it counts
	AtGuard   Place = "guard"   // routes that one guard stands before, named by the first or by its scheme
	AtPages   Place = "pages"   // routes that one entry says of which pages may call them
	AtService Place = "service" // everything, past what stands before it
	AtNoRoute Place = "none"    // what the inventory does not have
)

// String says a scope in words.
func (s Scope) String() string {
	switch s.Of {
	case AtScheme:
		return "everything behind " + s.Name
	case AtQuota:
		return "quota " + s.Name
	case AtService:
		return "everything " + s.Name
	default:
	}
	return s.Name
}
