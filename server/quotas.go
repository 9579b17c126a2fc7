package server

import (
	"context"
	"time"

	"millgate/app/view"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/server/contract"
)

// limitOf is a number of calls, -1 where nothing limits it.
func limitOf(n int64) int64 {
	if n == quota.Unlimited {
		return -1
	}
	return n
}

func seconds(ticks int64) float64 { return quota.Span(ticks).Seconds() }

// GetQuotas says what the declared quotas come to.
func (s *Server) LookAtQuotas(_ context.Context,
	q contract.LookAtQuotasRequestObject) (contract.LookAtQuotasResponseObject, error) {
	v, err := s.app.View.Quotas(q.Body.Text)
	if err != nil {
		return nil, err
	}
	out := contract.Quotas{Quotas: []contract.Quota{}, Without: v.Without}
	for _, d := range view.Spans {
		out.Spans = append(out.Spans, d.Seconds())
	}
	for _, t := range v.Attempts {
		out.Attempts = append(out.Attempts, contract.Attempts{N: t.N, Why: t.Why})
	}
	for _, q := range v.Quotas {
		c := contract.Quota{Name: q.Name, File: q.Place.File, Line: q.Place.Line, CountedBy: q.CountedBy,
			Model: string(q.Model), Routes: orEmpty(q.Routes), PerRoute: q.PerRoute, Exempt: orEmpty(q.Exempt),
			Text: q.Text}
		for _, f := range q.For {
			c.For = append(c.For, quotaForOf(f))
		}
		out.Quotas = append(out.Quotas, c)
	}
	return contract.LookAtQuotas200JSONResponse(out), nil
}

func quotaForOf(f view.QuotaFor) contract.QuotaFor {
	out := contract.QuotaFor{Who: f.Who, Moment: limitOf(f.Moment), Exact: f.Exact, Nodes: limitOf(f.Nodes),
		Restart: limitOf(f.Restart), Wait: -1}
	for _, m := range f.Members {
		out.Members = append(out.Members, contract.QuotaMember{Amount: m.Amount, Window: seconds(m.Limit.W),
			Ceiling: limitOf(m.Ceiling), NeverBinds: m.NeverBinds})
	}
	for _, n := range f.Ceilings {
		out.Ceilings = append(out.Ceilings, limitOf(n))
	}
	if f.WaitOK {
		out.Wait = f.Wait.Seconds()
	}
	for k, d := range f.Attempts {
		t := float64(-1)
		if f.Possible[k] {
			t = d.Seconds()
		}
		out.Attempts = append(out.Attempts, t)
	}
	return out
}

// SimulateQuota runs a pattern of calls through a declared quota.
func (s *Server) SimulateQuota(_ context.Context,
	q contract.SimulateQuotaRequestObject) (contract.SimulateQuotaResponseObject, error) {
	b := q.Body
	r, err := s.app.View.Simulate(view.Simulation{Text: word(b.Text), Quota: b.Quota, Who: word(b.Who),
		Pattern: quota.Pattern(b.Pattern),
		Count:   zero(b.Count), Every: zero(b.Every), For: zero(b.For),
		Nodes: zero(b.Nodes), Sync: zero(b.Sync), Restart: zero(b.Restart),
		Hold: zero(b.Hold), Recorded: word(b.Recorded)})
	if err != nil {
		return nil, err
	}
	out := contract.Simulated{From: seconds(r.From), Width: seconds(r.Width), Came: r.Came, Admitted: r.Admitted,
		Queued: r.Queued, Refused: r.Refused, LongestWait: seconds(r.LongestWait), Cut: r.Cut}
	for _, x := range r.Bins {
		out.Bins = append(out.Bins, contract.SimulatedBin{From: seconds(x.From - r.From), Came: x.Came,
			Admitted: x.Admitted,
			Queued:   x.Queued, Refused: x.Refused, Began: x.Began, Ceiling: limitOf(x.Ceiling)})
	}
	for _, p := range r.Peaks {
		out.Peaks = append(out.Peaks, contract.Peak{Window: seconds(p.Window), Limit: p.Limit, Most: p.Most,
			At: seconds(p.At - r.From), Ceiling: limitOf(p.Ceiling)})
	}
	out.Bins, out.Peaks = orEmpty(out.Bins), orEmpty(out.Peaks)
	return contract.SimulateQuota200JSONResponse(out), nil
}

// zero is what a pointer holds, the zero value without one.
func zero[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// quotaViewOf is what a quota drill saw, for the drawer.
func quotaViewOf(p view.ProbeView) contract.QuotaView {
	q := p.Quota.Quota
	out := contract.QuotaView{Name: q.Name, File: q.Place.File, Line: q.Place.Line,
		Declared: declaration.AmountsText(p.Quota.Declared), Said: -1, Fields: []string{},
		Conclusions: []contract.Conclusion{},
		Restarts:    q.Model != declaration.Concurrency && q.Queue == 0}
	if p.Quota.Lowered {
		out.Lowered = declaration.AmountsText(q.Allow)
	}
	s := p.Quota.Stack
	w := int64(0)
	if len(s) > 0 {
		w = s[0].W
		c, _ := s.Ceiling(w)
		n := s[0].N
		out.Window, out.Ceiling, out.Limit = seconds(w), limitOf(c), &n
	}
	m := p.Quota.Measured
	if m == nil {
		out.Calls, out.Around = orEmpty(out.Calls), orEmpty(out.Around)
		return out
	}
	out.Found, out.Status, out.Fields, out.Seconds, out.Kept = m.Found(), m.Status, orEmpty(m.Fields),
		float64(m.Seconds), earlier(p.Quota.Earlier)
	if m.Said >= 0 {
		out.Said = seconds(m.Said)
	}
	if len(m.Fits) > 0 {
		f := m.Fits[0]
		n, d := f.N, seconds(f.W)
		if f.Kind == quota.Bucket {
			n = f.Burst
		}
		out.LimitFound, out.WindowFound = &n, &d
	}
	for _, c := range m.Conclude(s) {
		out.Conclusions = append(out.Conclusions, contract.Conclusion{About: c.About, Text: c.Text,
			Sure: contract.ConclusionSure(c.Sure), Because: orEmpty(c.Because), Wrong: c.Wrong})
	}
	begun, waited := m.Begun(w), m.Waited()
	for i, c := range m.Calls {
		out.Calls = append(out.Calls, contract.DrillCall{At: seconds(c.At - m.Calls[0].At),
			Took: seconds(c.Took), Ok: c.OK,
			Begun: begun[i], Waited: waited[i], Batch: c.Batch})
	}
	for _, a := range m.Around {
		out.Around = append(out.Around, contract.WayAround{Way: a.Way, Status: a.Status, Passed: a.Passed})
	}
	out.Calls, out.Around = orEmpty(out.Calls), orEmpty(out.Around)
	return out
}

func earlier(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}

// CheckRestart runs one half of a restart check.
func (s *Server) CheckRestart(ctx context.Context,
	q contract.CheckRestartRequestObject) (contract.CheckRestartResponseObject, error) {
	half := s.app.Sweeps.FillForRestart
	if q.Body.Step == "compare" {
		half = s.app.Sweeps.CompareAfterRestart
	}
	r, err := half(ctx, q.Body.Target, q.Body.Quota)
	if err != nil {
		return nil, err
	}
	return contract.CheckRestart200JSONResponse{Calls: r.Calls, Left: r.Left.Seconds(), Done: r.Done,
		Forgets: r.Forgets, Late: r.Late}, nil
}
