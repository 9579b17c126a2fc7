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
	Route      string     `json:"route"`
	Callers    []string   `json:"callers"`  // observed
	Inferred   []string   `json:"inferred"` // of the same class as one that was observed
	Rung       int        `json:"rung"`
	Severity   Severity   `json:"severity"`
	Confidence Confidence `json:"confidence"`
	Reason     string     `json:"reason"`
	Advice     string     `json:"advice"`
	OWASP      string     `json:"owasp"`
	CWE        int        `json:"cwe"`
	Standard   string     `json:"standard,omitempty"` // the section that asks for it
	Docs       string     `json:"docs"`               // where its cause is explained
	Probes     []string   `json:"probes"`             // the probe that shows it best comes first
	Crossings  int        `json:"crossings"`
}

// Counts says how many crossings and findings there are of each kind.
type Counts struct {
	Crossings map[Kind]int `json:"crossings"`
	Findings  map[Kind]int `json:"findings"`
}
