package server

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/report"
	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/core/finding"
	"millgate/server/contract"
)

func sweepOf(r *events.Run) *contract.Sweep {
	if r == nil {
		return nil
	}
	out := contract.Sweep{Id: int(r.ID), Target: r.Target, Revision: int(r.Revision),
		State:   contract.SweepState(r.State),
		Partial: r.Partial, Pruned: &r.Pruned, Planned: r.Planned, Done: r.Done, Pace: r.Pace,
		Left:      r.Left,
		StartedAt: r.StartedAt, EndedAt: r.EndedAt, Note: r.Note}
	if r.Shard != "" {
		out.Shard = &r.Shard
	}
	if r.Counts != nil {
		c := countsOf(*r.Counts)
		out.Counts = &c
	}
	return &out
}

// GetTicks serves the verdicts known of a target.
func (s *Server) GetTicks(ctx context.Context, q contract.GetTicksRequestObject) (contract.GetTicksResponseObject,
	error) {
	from, err := numberAfter(q.Params.After)
	if err != nil {
		return nil, err
	}
	t, err := s.app.View.Ticks(ctx, word(q.Params.Target), view.Wanted{From: from, Limit: limitOfPage(q.Params.Limit),
		Gaps: q.Params.Gaps != nil && *q.Params.Gaps})
	if err != nil {
		return nil, err
	}
	out := contract.GetTicks200JSONResponse{Items: make([]contract.Tick, len(t.List)), Total: t.Total}
	for i, tick := range t.List {
		out.Items[i] = tickOf(tick)
	}
	if t.Next >= 0 {
		out.Next = optional(strconv.Itoa(t.Next))
	}
	return out, nil
}

func tickOf(t events.Tick) contract.Tick {
	return contract.Tick{At: t.At, Probe: t.Probe, Route: t.Route, Caller: t.Caller, Who: t.Who,
		Kind: contract.Kind(t.Kind), Reason: t.Reason}
}

// GetPlan serves what a sweep would send.
func (s *Server) GetPlan(_ context.Context, q contract.GetPlanRequestObject) (contract.GetPlanResponseObject, error) {
	p, err := s.app.Sweeps.Plan(word(q.Params.Target))
	if err != nil {
		return nil, err
	}
	out := contract.Plan{Target: p.Target, Base: p.Base, Probes: p.Probes, Requests: p.Requests,
		Unsafe: p.Unsafe, Made: p.Made, Inferred: p.Inferred, Spared: p.Spared, Seconds: p.Seconds,
		Pace: p.Pace, Policy: contract.UnsafePolicy(p.Policy),
		Kinds: contract.Numbers{}, Shared: p.Shared, Left: omissionsOf(p.Left)}
	out.PaceSeconds, out.DrillSeconds = p.PaceSeconds, p.DrillSeconds
	if p.Quota != "" {
		out.QuotaSeconds, out.Quota = &p.QuotaSeconds, &p.Quota
	}
	for k, n := range p.Kinds {
		out.Kinds[string(k)] = n
	}
	for _, x := range p.UnsafeProbes {
		out.UnsafeProbes = append(out.UnsafeProbes, contract.UnsafeProbe{Caller: x.Who, Expected: expectedOf(x.Expect),
			Route: x.Route, What: x.What})
	}
	out.UnsafeProbes = orEmpty(out.UnsafeProbes)
	return contract.GetPlan200JSONResponse(out), nil
}

// ListSweeps serves the sweeps.
func (s *Server) ListSweeps(ctx context.Context, q contract.ListSweepsRequestObject) (contract.ListSweepsResponseObject,
	error) {
	list, next, err := newestFirst(q.Params.After, q.Params.Limit, func(before uint, limit int) ([]*events.Run, error) {
		return s.app.Sweeps.List(ctx, before, limit)
	}, func(x *events.Run) uint { return x.ID })
	if err != nil {
		return nil, err
	}
	out := contract.ListSweeps200JSONResponse{Items: make([]contract.Sweep, len(list)), Next: next}
	for i, r := range list {
		out.Items[i] = *sweepOf(r)
	}
	return out, nil
}

// placeOf is where a sweep is.
func placeOf(r *events.Run) *string { return optional(fmt.Sprintf("/api/sweeps/%d", r.ID)) }

// StartSweep begins a sweep.
func (s *Server) StartSweep(ctx context.Context, q contract.StartSweepRequestObject) (contract.StartSweepResponseObject,
	error) {
	r, err := s.app.Sweeps.Start(ctx, q.Body.Target, "") //nolint:contextcheck // a sweep outlives the question
	if err != nil {
		return nil, err
	}
	return contract.StartSweep201JSONResponse{Body: *sweepOf(r),
		Headers: contract.StartSweep201ResponseHeaders{Location: placeOf(r)}}, nil
}

// GetSweep serves one sweep.
func (s *Server) GetSweep(ctx context.Context, q contract.GetSweepRequestObject) (contract.GetSweepResponseObject,
	error) {
	r, res, err := s.app.Sweeps.Result(ctx, uint(max(0, q.Id)))
	if err != nil {
		return nil, err
	}
	out := contract.SweepResult{Sweep: *sweepOf(r), Findings: findingsOf(res.Findings), Left: omissionsOf(res.Left),
		Unsent: unseenOf(res.Unsent), Unproven: unseenOf(res.Unproven), NotFair: len(res.NotFair),
		Outside: res.Checked.Outside, Coverage: coverageOf(res.Figure)}
	for _, m := range res.Made {
		out.Made = append(out.Made, contract.Leftover{Route: m.Route, What: m.What, Why: m.Why})
	}
	out.Made = orEmpty(out.Made)
	return contract.GetSweep200JSONResponse(out), nil
}

func coverageOf(f *coverage.Figure) *contract.Coverage {
	if f == nil {
		return nil
	}
	one := func(s coverage.Share) contract.Share {
		return contract.Share{Name: s.Name, Proven: s.Proven, Inferred: s.Inferred, Unproven: s.Unproven,
			Unsent: s.Unsent, Left: s.Left, Undecided: s.Undecided}
	}
	all := func(list []coverage.Share) []contract.Share {
		out := make([]contract.Share, len(list))
		for i, s := range list {
			out[i] = one(s)
		}
		return out
	}
	return &contract.Coverage{Whole: one(f.Whole), Kinds: all(f.Kinds), Groups: all(f.Groups), Owasp: all(f.OWASP)}
}

// mostCrossings is how many crossings are named for one reason; all of them are on the board.
const mostCrossings = 100

func unseenOf(list []coverage.Unseen) []contract.Unseen {
	out := make([]contract.Unseen, len(list))
	for i, u := range list {
		out[i] = contract.Unseen{Why: u.Why, Probes: u.Probes, Crossings: []string{}}
		for _, c := range u.Crossings[:min(mostCrossings, len(u.Crossings))] {
			out[i].Crossings = append(out[i].Crossings, c.String())
		}
	}
	return out
}

// GetReport serves a report of a sweep.
func (s *Server) GetReport(ctx context.Context, q contract.GetReportRequestObject) (contract.GetReportResponseObject,
	error) {
	r, err := s.app.Reports.Of(ctx, uint(max(0, q.Id)), report.Options{Most: coverage.DefaultMostUnproven,
		Stops: finding.FailOn{Least: finding.High}.Stops, Values: q.Params.Values != nil && *q.Params.Values})
	if err != nil {
		return nil, err
	}
	out := contract.WrittenReport{Owners: r.Owners(),
		Name: fmt.Sprintf("sweep-%d-%s.%s", r.Sweep.ID, r.Sweep.Target, q.Params.As)}
	if name := word(q.Params.Owner); name != "" {
		if r, err = r.ForOwner(name); err != nil {
			return nil, err
		}
	}
	var b strings.Builder
	if err := r.As("."+string(q.Params.As), &b); err != nil {
		return nil, err
	}
	out.Text = b.String()
	return contract.GetReport200JSONResponse(out), nil
}

// StopSweep stops the running one.
func (s *Server) StopSweep(_ context.Context, q contract.StopSweepRequestObject) (contract.StopSweepResponseObject,
	error) {
	if err := s.app.Sweeps.Stop(uint(max(0, q.Id))); err != nil {
		return nil, err
	}
	return contract.StopSweep204Response{}, nil
}

// ResumeSweep goes on with a stopped one.
func (s *Server) ResumeSweep(ctx context.Context,
	q contract.ResumeSweepRequestObject) (contract.ResumeSweepResponseObject, error) {
	r, err := s.app.Sweeps.Resume(ctx, uint(max(0, q.Id))) //nolint:contextcheck // a sweep outlives the question
	if err != nil {
		return nil, err
	}
	return contract.ResumeSweep200JSONResponse(*sweepOf(r)), nil
}

// ProbeAgain sends crossings again.
func (s *Server) ProbeAgain(ctx context.Context, q contract.ProbeAgainRequestObject) (contract.ProbeAgainResponseObject,
	error) {
	var keys []sweep.CrossingKey
	for _, c := range q.Body.Crossings {
		keys = append(keys, sweep.CrossingKey{Route: c.Route, Caller: c.Caller})
	}
	var probes []string
	if q.Body.Probes != nil {
		probes = *q.Body.Probes
	}
	//nolint:contextcheck // a sweep outlives the question
	r, err := s.app.Sweeps.ProbeAgain(ctx, q.Body.Target, keys, probes...)
	if err != nil {
		return nil, err
	}
	return contract.ProbeAgain201JSONResponse{Body: *sweepOf(r),
		Headers: contract.ProbeAgain201ResponseHeaders{Location: placeOf(r)}}, nil
}
