package coverage

import (
	"slices"
	"strings"

	"millgate/app/planning"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Checked is how far a sweep got: what the rules about doubts go by.
type Checked struct {
	Planned  int      `json:"planned"`  // crossings of the plan, without inferred ones
	Unproven int      `json:"unproven"` // of them, those whose verdict is not proven either way
	Unsent   int      `json:"unsent"`   // of them, those that were not sent
	Controls int      `json:"controls"` // of them, those that must be admitted
	Admitted int      `json:"admitted"` // of these, those that were
	Routes   int      `json:"routes"`   // that somebody may enter, and that the target's rules let be sent
	Without  []string `json:"without"`  // of them, those without an admitted control
	Refused  []string `json:"refused"`  // identities whose credential a control needed and that could not be obtained
	Outside  []string `json:"outside"`  // what no sweep looks at
	// Undecided are routes of which nobody has decided who may call them.
	Undecided int `json:"undecided,omitempty"`
}

// Outside is what no sweep looks at, and a declaration cannot say: what is not said cannot be
// checked. docs/verdicts.md explains it.
var Outside = []string{"proofs of possession (DPoP, RFC 9449)", "gRPC", "SOAP", "the inner calls of batches",
	"second factors by push", "what a service does later (jobs, mails)", "services behind this one"}

// Checked says how far the sweep got.
func (s Swept) Checked() Checked {
	c := Checked{Planned: len(s.Probes), Without: []string{}, Refused: []string{}, Outside: Outside}
	entered := map[string]bool{}
	spared := map[string]bool{} // routes whose controls a budget left out
	for _, p := range s.Probes {
		f := s.Facts.Of(p.Key())
		switch of, why := s.sees(p); of {
		case seen:
		case unsent:
			c.Unsent++
			if p.IsControl && strings.HasPrefix(why, planning.OverBudget) {
				spared[p.Route] = true
				continue
			}
		case unproven:
			c.Unproven++
		}
		if !p.IsControl {
			continue
		}
		c.Controls++
		if _, ok := entered[p.Route]; !ok {
			entered[p.Route] = false
		}
		if it, ok := s.Items[p.Key()]; ok && it.Class == check.Admitted {
			c.Admitted++
			entered[p.Route] = true
		}
		if f != nil && f.NoCredential && !slices.Contains(c.Refused, p.Caller.Identity) {
			c.Refused = append(c.Refused, p.Caller.Identity)
		}
	}
	for _, o := range s.Plan.Left {
		if o.Undecided > 0 {
			c.Undecided++
		}
	}
	if !s.Partial { // a part has the routes that were asked for
		for i, rt := range s.Doc.Routes {
			_, asked := entered[rt.Key()]
			if !asked && !spared[rt.Key()] && someoneEnters(s.Doc, i) && !s.Plan.ByTarget(rt.Key()) {
				entered[rt.Key()] = false
			}
		}
	}
	for k, in := range entered {
		if c.Routes++; !in {
			c.Without = append(c.Without, k)
		}
	}
	slices.Sort(c.Without)
	return c
}

// someoneEnters says whether the declaration admits anybody at a route.
func someoneEnters(d *declaration.Document, i int) bool {
	if access.Open(d, i) {
		return true
	}
	for _, id := range d.Identities {
		if access.Decide(d, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit {
			return true
		}
	}
	return false
}
