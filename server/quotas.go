package server

import (
	"context"

	"millgate/app"
	"millgate/core/quota"
	"millgate/server/contract"
)

// count is a number of calls, -1 where nothing limits it.
func count(n int64) int64 {
	if n == quota.Unlimited {
		return -1
	}
	return n
}

func seconds(ticks int64) float32 { return float32(quota.Span(ticks).Seconds()) }

// GetQuotas says what the declared quotas come to.
func (s *Server) GetQuotas(context.Context, contract.GetQuotasRequestObject) (contract.GetQuotasResponseObject, error) {
	v := s.app.Quotas()
	out := contract.Quotas{Quotas: []contract.Quota{}, Without: v.Without}
	for _, d := range app.Spans {
		out.Spans = append(out.Spans, float32(d.Seconds()))
	}
	for _, t := range v.Attempts {
		out.Attempts = append(out.Attempts, struct {
			N   int64  `json:"n"`
			Why string `json:"why"`
		}{t.N, t.Why})
	}
	for _, q := range v.Quotas {
		c := contract.Quota{Name: q.Name, File: q.Place.File, Line: q.Place.Line, CountedBy: q.CountedBy, Model: string(q.Model), Routes: orEmpty(q.Routes), PerRoute: q.PerRoute, Exempt: orEmpty(q.Exempt)}
		for _, f := range q.For {
			c.For = append(c.For, quotaForOf(f))
		}
		out.Quotas = append(out.Quotas, c)
	}
	return contract.GetQuotas200JSONResponse(out), nil
}

func quotaForOf(f app.QuotaFor) contract.QuotaFor {
	out := contract.QuotaFor{Who: f.Who, Moment: count(f.Moment), Exact: f.Exact, Nodes: count(f.Nodes), Restart: count(f.Restart), Wait: -1}
	for _, m := range f.Members {
		out.Members = append(out.Members, contract.QuotaMember{Amount: m.Amount, Window: seconds(m.Limit.W), Ceiling: count(m.Ceiling), NeverBinds: m.NeverBinds})
	}
	for _, n := range f.Ceilings {
		out.Ceilings = append(out.Ceilings, count(n))
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
func (s *Server) SimulateQuota(_ context.Context, q contract.SimulateQuotaRequestObject) (contract.SimulateQuotaResponseObject, error) {
	b := q.Body
	r, err := s.app.Simulate(app.Simulation{Quota: b.Quota, Who: deref(b.Who), Pattern: quota.Pattern(b.Pattern), Count: zero(b.Count), Every: float64(zero(b.Every)), For: float64(zero(b.For)),
		Nodes: zero(b.Nodes), Sync: float64(zero(b.Sync)), Restart: float64(zero(b.Restart)), Hold: float64(zero(b.Hold)), Recorded: deref(b.Recorded)})
	if err != nil {
		return nil, err
	}
	out := contract.Simulated{From: seconds(r.From), Width: seconds(r.Width), Came: r.Came, Admitted: r.Admitted, Queued: r.Queued, Refused: r.Refused, LongestWait: seconds(r.LongestWait), Cut: r.Cut}
	for _, x := range r.Bins {
		out.Bins = append(out.Bins, struct {
			Admitted int64   `json:"admitted"`
			Began    int64   `json:"began"`
			Came     int64   `json:"came"`
			Ceiling  int64   `json:"ceiling"`
			From     float32 `json:"from"`
			Queued   int64   `json:"queued"`
			Refused  int64   `json:"refused"`
		}{x.Admitted, x.Began, x.Came, count(x.Ceiling), float32(quota.Span(x.From - r.From).Seconds()), x.Queued, x.Refused})
	}
	for _, p := range r.Peaks {
		out.Peaks = append(out.Peaks, struct {
			At      float32 `json:"at"`
			Ceiling int64   `json:"ceiling"`
			Limit   int64   `json:"limit"`
			Most    int64   `json:"most"`
			Window  float32 `json:"window"`
		}{float32(quota.Span(p.At - r.From).Seconds()), count(p.Ceiling), p.Limit, p.Most, seconds(p.Window)})
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
