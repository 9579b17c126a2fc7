// Package quotas checks that declared quotas hold.
//
// # What is sent
//
// For each declared quota, at the route of it that is disturbed least, as a caller whom it
// counts: calls until one is refused; while calls are refused, the same call in ways that a
// counter may take for somebody else, with a fresh token, without the credential, at another
// route and as another caller; then calls rarely, until one is admitted again, and patterns
// that tell kinds of limiter apart (core/quota). What is sent need not be carried out: a
// login has a name that nobody has, a body has no members.
//
// # What is concluded
//
// That more calls were admitted than any limiter of the declared kind lets through in the
// time that they took is shown by the calls themselves. What runs at the same time is never
// more than likely. A drill that stood still, found its quota full, or met failures proves
// nothing that it did not count itself.
package quotas

import (
	"encoding/json"
	"fmt"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// Family is that of quotas.
type Family struct{}

const version = 2 // of Measured

// Name is that of its probes.
func (Family) Name() string { return "quota" }

// Version is that of Measured.
func (Family) Version() int { return version }

// Decode reads Measured.
func (Family) Decode(v int, data []byte) (check.Data, error) {
	if v == 1 { // it counted only calls that waited for longer than the drill
		var before struct {
			Measured
			Queued int `json:"queued"`
		}
		if err := json.Unmarshal(data, &before); err != nil {
			return nil, fmt.Errorf("a drill: %w", err)
		}
		if n := before.Queued; n > 0 {
			before.Crowd = &quota.Crowd{Sent: n, Waited: n, Late: n}
		}
		return &before.Measured, nil
	}
	return check.DecodeAs[Measured](v, version, data, "a drill")
}

// Before is the fact of a drill as versions before kept it.
func Before(x check.Exchange, m quota.Measured) *check.Fact {
	return &check.Fact{Family: Family{}.Name(), Version: version, Began: x.At,
		Reports: []check.Report{check.ReportOf("", x)}, Data: &Measured{Measured: m}}
}

// Cost is about what a drill sends and waits for where the quota is there as declared.
func (Family) Cost(c *check.Context, p *check.Probe) check.Cost {
	x := begin(c, p, nil)
	if x == nil {
		return check.Cost{Requests: 1}
	}
	budget, window := quota.Span(x.drill.Budget.Ticks), quota.Span(x.stack.Shortest())
	cost := check.Cost{Requests: x.drill.Burst + aroundIt + x.asExempt(), Time: x.longest()}
	if x.q.Model == declaration.Concurrency {
		cost.Waits = quota.Span(leastBeside) / 2
	} else if window < budget { // it is watched until it admits again, twice
		cost.Waits = min(2*window, budget)
	}
	return cost
}

// aroundIt is about how many calls try ways around a quota, and look again.
const aroundIt = 18

// Cell is the quota's, at the route of its drill.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	says := "the drill of quota " + p.Of
	if d, _ := p.Detail.(Detail); d.By != "" {
		says += " by " + d.By
	}
	return check.Cell{Route: p.Route, Lens: check.Quotas, Key: p.Of}, says + ", at " + p.Route
}

// Who is the identity that calls.
func (Family) Who(p *check.Probe) string {
	if p.Caller.Identity == "" {
		return "nobody (quota drill)"
	}
	return p.Caller.Identity + " (quota drill)"
}

// Causes are those of drills.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "quota", Title: "Quotas",
		Shown: "More calls were admitted than any limiter of the declared kind lets through in the time that they " +
			"took. What runs at the same time is never more than likely: when it began is not seen from outside.",
		Refuted: "Failures and answers that never came are not counted as admitted; a drill that stood still, or " +
			"that found its quota full, says so and is unproven.",
		Rows: rows}
}
