package coverage

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/quotas"
	"millgate/core/check/undeclared"
	"millgate/core/finding"
)

// Rule: What was not looked at is counted beside what was.

// Share is how much of something was checked, in crossings.
type Share struct {
	Name     string `json:"name"`
	Proven   int    `json:"proven"`   // by an answer of their own, agreeing or not
	Inferred int    `json:"inferred"` // from a caller of the same class, or no more than likely
	Unproven int    `json:"unproven"` // sent, and proven neither way
	Unsent   int    `json:"unsent"`   // planned, and not sent
	Left     int    `json:"left"`     // not planned, for a reason
	// Undecided are crossings of which nobody has decided what is to happen: none of them was checked.
	Undecided int `json:"undecided,omitempty"`
}

// All are all crossings of a share.
func (s Share) All() int { return s.Proven + s.Inferred + s.Unproven + s.Unsent + s.Left + s.Undecided }

// Checked is the part of them that was proven or inferred, in percent; of none it is 100.
func (s Share) Checked() float64 {
	if s.All() == 0 {
		return 100
	}
	return 100 * float64(s.Proven+s.Inferred) / float64(s.All())
}

// Percent is Checked in whole percent: it says never all where something is missing, and never none where
// something is not.
func (s Share) Percent() string {
	switch c := s.Checked(); {
	case c > 99 && c < 100:
		return "99%"
	case c > 0 && c < 1:
		return "1%"
	default:
		return fmt.Sprintf("%.0f%%", math.Floor(c))
	}
}

// Figure is how much a sweep checked: of all, by kind of check, by group of routes, and by category of the OWASP
// API Security Top 10 (2023) that the checks look for.
type Figure struct {
	Whole  Share   `json:"whole"`
	Kinds  []Share `json:"kinds"`
	Groups []Share `json:"groups"`
	OWASP  []Share `json:"owasp"`
}

// rungs are the names of the ladder's rungs, as kinds of checks.
var rungs = []string{"callers who may", "1 route", "2 credential", "3 soundness", "4 role", "5 scope, attributes",
	"6 ownership", "7 quota"}

// rungOf has the rung of families that check one alone.
var rungOf = map[string]int{undeclared.Family{}.Name(): 1, credential.Family{}.Name(): 3, quotas.Family{}.Name(): 7}

// rungAPI is what a refusal by a rung keeps from happening; "" where nobody is to be refused.
var rungAPI = []finding.OWASP{"", finding.API9, finding.API2, finding.API2, finding.API5, finding.API5, finding.API1,
	finding.API4}

// tally counts shares by name, in the order in which they were first named.
type tally struct {
	at   map[string]int
	list []Share
}

func (t *tally) add(name string, to func(*Share)) {
	if name == "" {
		return
	}
	i, ok := t.at[name]
	if !ok {
		if t.at == nil {
			t.at = map[string]int{}
		}
		i = len(t.list)
		t.at[name] = i
		t.list = append(t.list, Share{Name: name})
	}
	to(&t.list[i])
}

// Figure counts what the sweep checked.
func (s Swept) Figure() Figure {
	f := Figure{Whole: Share{Name: "all"}}
	var kinds, groups, owasp tally
	for _, name := range rungs {
		kinds.add(name, func(*Share) {})
	}
	add := func(route string, k kindOf, to func(*Share)) {
		to(&f.Whole)
		kinds.add(k.name, to)
		groups.add(s.group(route), to)
		owasp.add(string(k.api), to)
	}
	families := map[string]kindOf{}
	for _, f := range s.Plan.Families {
		families[f.Name()] = ofFamily(f)
	}
	for _, p := range s.Probes {
		k := families[p.Family]
		if p.Is(crossing.Family{}) {
			k = s.byRung(p)
		}
		to := s.counts(p)
		add(p.Route, k, to)
		for range p.StandsFor {
			add(p.Route, k, inferring(to))
		}
	}
	for _, o := range s.Plan.Left {
		k := families[o.Family]
		if o.Family == (crossing.Family{}).Name() {
			k = kindOf{rungs[0], ""}
		}
		if o.Undecided > 0 {
			add(o.Route, kindOf{"callers nobody decided", ""}, func(s *Share) { s.Undecided += o.Undecided })
			continue
		}
		add(o.Route, k, func(s *Share) { s.Left++ })
	}
	f.Kinds = slices.DeleteFunc(kinds.list, func(s Share) bool { return s.All() == 0 })
	f.Groups, f.OWASP = groups.list, owasp.list
	slices.SortFunc(f.Groups, func(a, b Share) int { return cmp.Compare(a.Name, b.Name) })
	slices.SortFunc(f.OWASP, func(a, b Share) int { return cmp.Compare(a.Name, b.Name) })
	return f
}

// counts is what a probe counts as.
func (s Swept) counts(p *check.Probe) func(*Share) {
	switch of, _ := s.sees(p); of {
	case unsent:
		return func(s *Share) { s.Unsent++ }
	case unproven:
		return func(s *Share) { s.Unproven++ }
	default:
	}
	if s.Items[p.Key()].Verdict.Confidence == finding.Likely {
		return func(s *Share) { s.Inferred++ }
	}
	return func(s *Share) { s.Proven++ }
}

// inferring is what a crossing counts as that was not sent, since another of its class was.
func inferring(to func(*Share)) func(*Share) {
	return func(s *Share) {
		var one Share
		to(&one)
		s.Inferred += one.Proven + one.Inferred
		s.Unproven += one.Unproven
		s.Unsent += one.Unsent
	}
}

// kindOf is which kind of check something is, and what it looks for; "" where that is nothing of the list.
type kindOf struct {
	name string
	api  finding.OWASP
}

// byRung is the kind of a crossing: the rung that is to turn the caller away.
func (s Swept) byRung(p *check.Probe) kindOf {
	i := check.ExpectAt(s.Plan.Context, p).Decider
	if i >= len(rungs) {
		i = 0
	}
	return kindOf{rungs[i], rungAPI[i]}
}

// ofFamily is the kind of check that a family makes, and what most of its causes are.
func ofFamily(f check.Family) kindOf {
	if i, ok := rungOf[f.Name()]; ok {
		return kindOf{rungs[i], rungAPI[i]}
	}
	causes := f.Causes()
	title := cmp.Or(causes.Title, f.Name())
	return kindOf{strings.ToLower(title[:1]) + title[1:], causes.Mostly()}
}

// group is the group of routes that one is in.
func (s Swept) group(key string) string {
	if i := s.Doc.RouteNamed(key); i >= 0 {
		return s.Doc.Routes[i].Prefix()
	}
	return "not in the inventory"
}
