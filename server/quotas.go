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

func seconds(ticks int64) float32 { return float32(quota.Span(ticks).Seconds()) }

// GetQuotas says what the declared quotas come to.
func (s *Server) GetQuotas(context.Context, contract.GetQuotasRequestObject) (contract.GetQuotasResponseObject, error) {
	v := s.app.View.Quotas()
	out := contract.Quotas{Quotas: []contract.Quota{}, Without: v.Without}
	for _, d := range view.Spans {
		out.Spans = append(out.Spans, float32(d.Seconds()))
	}
	for _, t := range v.Attempts {
		out.Attempts = append(out.Attempts, struct {
			N   int64  `json:"n"`
			Why string `json:"why"`
		}{t.N, t.Why})
	}
	for _, q := range v.Quotas {
		c := contract.Quota{Name: q.Name, File: q.Place.File, Line: q.Place.Line, CountedBy: q.CountedBy,
			Model: string(q.Model), Routes: orEmpty(q.Routes), PerRoute: q.PerRoute, Exempt: orEmpty(q.Exempt)}
		for _, f := range q.For {
			c.For = append(c.For, quotaForOf(f))
		}
		out.Quotas = append(out.Quotas, c)
	}
	return contract.GetQuotas200JSONResponse(out), nil
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
		out.Wait = float32(f.Wait.Seconds())
	}
	for k, d := range f.Attempts {
		t := float32(-1)
		if f.Possible[k] {
			t = float32(d.Seconds())
		}
		out.Attempts = append(out.Attempts, t)
	}
	return out
}

// SimulateQuota runs a pattern of calls through a declared quota.
func (s *Server) SimulateQuota(_ context.Context,
	q contract.SimulateQuotaRequestObject) (contract.SimulateQuotaResponseObject, error) {
	b := q.Body
	r, err := s.app.View.Simulate(view.Simulation{Quota: b.Quota, Who: deref(b.Who), Pattern: quota.Pattern(b.Pattern),
		Count: zero(b.Count), Every: float64(zero(b.Every)), For: float64(zero(b.For)),
		Nodes: zero(b.Nodes), Sync: float64(zero(b.Sync)), Restart: float64(zero(b.Restart)),
		Hold: float64(zero(b.Hold)), Recorded: deref(b.Recorded)})
	if err != nil {
		return nil, err
	}
	out := contract.Simulated{From: seconds(r.From), Width: seconds(r.Width), Came: r.Came, Admitted: r.Admitted,
		Queued: r.Queued, Refused: r.Refused, LongestWait: seconds(r.LongestWait), Cut: r.Cut}
	for _, x := range r.Bins {
		out.Bins = append(out.Bins, struct {
			Admitted int64   `json:"admitted"`
			Began    int64   `json:"began"`
			Came     int64   `json:"came"`
			Ceiling  int64   `json:"ceiling"`
			From     float32 `json:"from"`
			Queued   int64   `json:"queued"`
			Refused  int64   `json:"refused"`
		}{x.Admitted, x.Began, x.Came, limitOf(x.Ceiling), float32(quota.Span(x.From - r.From).Seconds()), x.Queued,
			x.Refused})
	}
	for _, p := range r.Peaks {
		out.Peaks = append(out.Peaks, struct {
			At      float32 `json:"at"`
			Ceiling int64   `json:"ceiling"`
			Limit   int64   `json:"limit"`
			Most    int64   `json:"most"`
			Window  float32 `json:"window"`
		}{float32(quota.Span(p.At - r.From).Seconds()), limitOf(p.Ceiling), p.Limit, p.Most, seconds(p.Window)})
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
		float32(m.Seconds), earlier(p.Quota.Earlier)
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
		out.Calls = append(out.Calls, struct {
			At     float32 `json:"at"`
			Batch  int     `json:"batch"`
			Begun  int     `json:"begun"`
			Ok     bool    `json:"ok"` //nolint:revive // as generated
			Took   float32 `json:"took"`
			Waited bool    `json:"waited"`
		}{seconds(c.At - m.Calls[0].At), c.Batch, begun[i], c.OK, seconds(c.Took), waited[i]})
	}
	for _, a := range m.Around {
		out.Around = append(out.Around, struct {
			Passed bool   `json:"passed"`
			Status int    `json:"status"`
			Way    string `json:"way"`
		}{a.Passed, a.Status, a.Way})
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
	return contract.CheckRestart200JSONResponse{Calls: r.Calls, Left: float32(r.Left.Seconds()), Done: r.Done,
		Forgets: r.Forgets, Late: r.Late}, nil
}
