package coverage

import (
	"slices"
	"sort"
	"strings"

	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/finding"
)

// Crossing names a planned crossing: its route, who calls, and what is tried.
type Crossing struct {
	Route  string `json:"route"`
	Caller string `json:"caller"`
	What   string `json:"what"`
}

// Omitted is what was left out, as a crossing.
func Omitted(o check.Omission) Crossing {
	return Crossing{Route: o.Route, Caller: o.Caller, What: o.What}
}

// String is it in words.
func (c Crossing) String() string {
	if c.Caller != "" {
		c.Route += " as " + c.Caller
	}
	return strings.TrimSuffix(c.Route+", "+c.What, ", ")
}

// Unseen are crossings of which nothing can be said, for one reason.
type Unseen struct {
	Why       string     `json:"why"`
	Probes    int        `json:"probes"`
	Crossings []Crossing `json:"crossings"`
}

// gathered are crossings by their reason, those with most first.
func gathered(why map[string][]Crossing) []Unseen {
	out := []Unseen{}
	for w, list := range why {
		out = append(out, Unseen{w, len(list), list})
	}
	slices.SortFunc(out, func(a, b Unseen) int {
		if a.Probes != b.Probes {
			return b.Probes - a.Probes
		}
		return strings.Compare(a.Why, b.Why)
	})
	return out
}

func (s Swept) crossing(p *check.Probe) Crossing {
	return Crossing{p.Route, s.Plan.Who(p), snapshot.KindOf(p)}
}

// sight is what a sweep can say of a probe.
type sight uint8

const (
	seen sight = iota
	unsent
	unproven
)

// sees is what can be said of a probe; where nothing can, why.
func (s Swept) sees(p *check.Probe) (what sight, why string) {
	f := s.Facts.Of(p.Key())
	if f == nil {
		return unsent, "the sweep ended before their turn came"
	}
	if why, not := strings.CutPrefix(f.Lost, NotSent); not {
		return unsent, why
	}
	it, ok := s.Items[p.Key()]
	switch {
	case !ok:
		return unproven, "its control has no answer yet"
	case it.Verdict.Kind == finding.Unproven:
		return unproven, it.Verdict.Reason
	}
	return seen, ""
}

// all are the probes of which the same can be said, by reason.
func (s Swept) all(what sight) []Unseen {
	by := map[string][]Crossing{}
	for _, p := range s.Probes {
		if of, why := s.sees(p); of == what {
			by[why] = append(by[why], s.crossing(p))
		}
	}
	return gathered(by)
}

// Unsent are the probes that were not sent, by reason.
func (s Swept) Unsent() []Unseen { return s.all(unsent) }

// Unproven are the probes that were sent and whose verdict is proven neither way, by reason.
func (s Swept) Unproven() []Unseen { return s.all(unproven) }

// Unfair is a control that was sent and is not admitted yet: refusals beside it mean nothing.
type Unfair struct {
	Route     string `json:"route"`
	Caller    string `json:"caller"` // an identity; empty is nobody
	Status    int    `json:"status"` // 0 where no answer came
	Complaint string `json:"complaint"`
	Method    string `json:"method"`
	URL       string `json:"url"`
	Body      string `json:"body"` // what was sent
	Type      string `json:"type"`
	File      string `json:"file"`
	Line      int    `json:"line"`    // where the route is declared
	Waiting   int    `json:"waiting"` // verdicts that wait for it
	// Mark is the field by which the request can be found in the service's log; "" without.
	Mark string `json:"mark,omitempty"`
}

// Short is it with no more than the first bytes of what was sent and said.
func (u Unfair) Short() Unfair {
	const most = 1000
	cut := func(s string) string {
		if len(s) > most {
			return strings.ToValidUTF8(s[:most], "") + "…"
		}
		return s
	}
	u.Body, u.Complaint = cut(u.Body), cut(u.Complaint)
	return u
}

// Unfair are the controls that are not admitted, those with most waiting first.
func (s Swept) Unfair() []Unfair {
	waiting := map[string]int{}
	for _, it := range s.Items {
		if it.Verdict.Kind == finding.Unproven && it.Probe.Control != "" {
			waiting[it.Probe.Control]++
		}
	}
	out := []Unfair{}
	for _, p := range s.Probes {
		it, ok := s.Items[p.Key()]
		f := s.Facts.Of(p.Key())
		if !p.IsControl || !ok || f == nil || it.Class == check.Admitted {
			continue // one without a fact is being sent again
		}
		x := f.Exchange
		u := Unfair{Route: p.Route, Caller: p.Caller.Identity, Status: x.Status, Complaint: x.Content, Method: x.Method,
			URL: x.URL, Body: x.Body, Type: x.Headers.Get("Content-Type"), Waiting: waiting[p.Key()], Mark: x.Mark}
		if f.Lost != "" || x.Error != "" {
			u.Complaint = strings.TrimSpace(f.Lost + " " + x.Error)
		}
		if i := s.Doc.RouteNamed(p.Route); i >= 0 {
			u.Line, u.File = s.Doc.Routes[i].Line, s.Doc.Routes[i].File
		}
		out = append(out, u)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Waiting > out[j].Waiting })
	return out
}
