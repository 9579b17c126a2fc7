package server

import (
	"context"
	"fmt"
	"maps"
	"strconv"
	"strings"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
	"millgate/format/curl"
	"millgate/server/contract"
)

var _ contract.StrictServerInterface = (*Server)(nil)

// word is a value that may be absent, in plain.
func word[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// optional is a value that is absent where it is empty.
func optional[T ~string](v T) *T {
	if v == "" {
		return nil
	}
	return &v
}

// orEmpty makes an empty list of none, so that JSON has [] and not null.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// GetBoard serves the Access lens.
func (s *Server) GetBoard(ctx context.Context, q contract.GetBoardRequestObject) (contract.GetBoardResponseObject,
	error) {
	if err := s.app.Workspace.Sync(ctx); err != nil {
		return nil, err
	}
	b, err := s.app.View.Board(ctx, word(q.Params.Target), word(q.Params.Since))
	if err != nil {
		return nil, err
	}
	out := contract.Board{Title: b.Title, File: b.File, Revision: int(b.Revision), KeptAt: b.KeptAt, Target: b.Target,
		Targets: append([]string{}, b.Targets...), Counts: countsOf(b.Counts),
		Review: b.Review, Errors: b.Errors, Empty: b.Empty, Columns: []contract.Column{}, Ways: orEmpty(b.Ways),
		Pages: []contract.Page{}, Kinds: orEmpty(b.Kinds), Quotas: []contract.QuotaSeen{},
		Cells: make([]contract.Cell, len(b.Cells)), Rows: make([]contract.Row, len(b.Rows)), Version: b.Version,
		Whole: b.Whole, Total: b.Total, NotFair: b.NotFair, Sweep: sweepOf(b.Sweep)}
	for _, c := range b.Columns {
		out.Columns = append(out.Columns, contract.Column{Key: c.Key, Label: c.Label, Sub: c.Sub, Class: c.Class,
			Members: c.Members, Roles: c.Roles})
	}
	for _, p := range b.Pages {
		out.Pages = append(out.Pages, contract.Page{Id: p.ID, Origin: p.Origin, Hostile: p.Hostile, Says: p.Says})
	}
	for _, q := range b.Quotas {
		out.Quotas = append(out.Quotas, contract.QuotaSeen{Name: q.Name, Column: q.Column, Declared: q.Declared,
			Window: q.Window.Seconds(), Ceiling: limitOf(q.Ceiling), Most: q.Most, Found: contract.Kind(q.Found)})
	}
	for i, c := range b.Cells {
		out.Cells[i] = contract.Cell{Expect: contract.Expect(c.Expect), Found: contract.Kind(c.Found),
			Severity: optional(contract.Severity(c.Severity)), Inferred: c.Inferred,
			Does: optional(contract.Expect(c.Does))}
	}
	for i, r := range b.Rows {
		out.Rows[i] = contract.Row{Key: r.Key, Method: r.Method, Host: r.Host, Path: r.Path,
			Prefix: r.Prefix, Group: r.Group, Effect: optional(contract.RouteEffect(r.Effect)),
			Sensitivity: contract.Sensitivity(r.Sensitivity), Summary: r.Summary, Line: r.Line, File: r.File,
			Worst: optional(contract.Kind(r.Worst)), Declared: r.Declared, Access: r.Access, Tokens: r.Tokens,
			Origins: r.Origins, Counted: orEmpty(r.Counted), TokenCaller: r.TokenCaller}
	}
	return contract.GetBoard200JSONResponse(out), nil
}

func countsOf(c finding.Counts) contract.Counts {
	out := contract.Counts{Crossings: contract.Numbers{}, Findings: contract.Numbers{}}
	for k, n := range c.Crossings {
		out.Crossings[string(k)] = n
	}
	for k, n := range c.Findings {
		out.Findings[string(k)] = n
	}
	return out
}

func sweepOf(r *events.Run) *contract.Sweep {
	if r == nil {
		return nil
	}
	out := contract.Sweep{Id: int(r.ID), Target: r.Target, Revision: int(r.Revision),
		State:   contract.SweepState(r.State),
		Partial: r.Partial, Pruned: &r.Pruned, Planned: r.Planned, Done: r.Done, Pace: r.Pace,
		Left:      r.Left,
		StartedAt: r.StartedAt, EndedAt: r.EndedAt, Note: r.Note}
	if r.Counts != nil {
		c := countsOf(*r.Counts)
		out.Counts = &c
	}
	return &out
}

func ladderOf(x access.Expectation) []contract.Rung {
	out := []contract.Rung{}
	for _, r := range x.Ladder {
		out = append(out, contract.Rung{Number: r.Number, Name: r.Name, Result: string(r.Result), Text: r.Text})
	}
	return out
}

func expectedOf(x access.Expectation) string {
	s := x.Outcome.String()
	if x.Depends {
		s = "admit for an own record"
	}
	if n := x.Status(); n != 0 {
		s = fmt.Sprintf("%s, %d", s, n)
	}
	return s
}

func pairsOf(h [][2]string) []contract.Header {
	out := []contract.Header{}
	for _, kv := range h {
		out = append(out, contract.Header{Name: kv[0], Value: kv[1]})
	}
	return out
}

func exchangeOf(x check.Exchange) contract.Exchange {
	return contract.Exchange{Method: x.Method, Url: x.URL, Headers: pairsOf(x.Headers), Body: x.Body, Status: x.Status,
		Answer: pairsOf(x.Answer), Content: x.Content, Truncated: x.Truncated, Error: x.Error,
		At: x.At, Ms: float64(x.Took.Microseconds()) / 1000}
}

func omissionsOf(list []check.Omission) []contract.Omission {
	out := []contract.Omission{}
	for _, l := range list {
		out = append(out, contract.Omission{Route: l.Route, Caller: l.Caller, What: l.What, Why: l.Why})
	}
	return out
}

// stepsOf are the requests of a script with what came of each.
func stepsOf(list []view.ScriptStep) []contract.DrillStep {
	out := make([]contract.DrillStep, len(list))
	for i, s := range list {
		x := exchangeOf(s.Report.Exchange)
		out[i] = contract.DrillStep{Name: s.Report.Name, At: sec(s.Report.Begin), Status: s.Report.Exchange.Status,
			Worked: s.Worked, Expected: s.Wanted, Exchange: &x}
	}
	return out
}

// GetCrossing serves one cell.
func (s *Server) GetCrossing(ctx context.Context,
	q contract.GetCrossingRequestObject) (contract.GetCrossingResponseObject, error) {
	v, err := s.app.View.Crossing(ctx, word(q.Params.Target), q.Params.Route, q.Params.Caller)
	if err != nil {
		return nil, err
	}
	out := contract.Crossing{Route: v.Route, Caller: v.Caller, Label: v.Label, Expected: expectedOf(v.Expect),
		Reason: v.Expect.Reason(), Ladder: ladderOf(v.Expect), Decider: v.Expect.Decider,
		File: v.Place.File, Line: v.Place.Line, Left: omissionsOf(v.Left), Inferred: v.Inferred, Unsafe: v.Unsafe,
		Target: v.Target, Probes: []contract.Probe{}}
	if strings.HasPrefix(v.Caller, snapshot.CountedCaller) || strings.HasPrefix(v.Caller, check.QuotaColumn) {
		out.Expected, out.Reason = "no more calls than its quota", ""
	}
	for _, p := range v.Probes {
		cp := contract.Probe{Id: p.Probe.Key(), Label: p.Label, Unsafe: p.Probe.Unsafe, Expected: expectedOf(p.Expect),
			Kind:       contract.Kind(p.Verdict.Kind),
			Confidence: optional(contract.Confidence(p.Verdict.Confidence)), Reason: p.Verdict.Reason,
			Ladder: ladderOf(p.Expect), Decider: p.Expect.Decider, IsControl: p.Probe.IsControl, Gaps: []contract.Gap{}}
		for _, g := range p.Verdict.Gaps {
			cp.Gaps = append(cp.Gaps, contract.Gap{Kind: contract.Kind(g.Row.Kind), Rung: g.Rung, Reason: g.Reason,
				Confidence: contract.Confidence(g.Confidence)})
		}
		if len(p.Steps) > 1 && p.Page == nil { // one step is shown as what was sent
			steps := stepsOf(p.Steps)
			cp.Steps = &steps
		} else if p.Fact != nil && p.Fact.Exchange.URL != "" {
			x := exchangeOf(*p.Fact.Exchange)
			cp.Exchange = &x
			if p.Fact.ReadBack != "" {
				cp.ReadBack = &p.Fact.ReadBack
			}
		}
		if p.Quota != nil {
			view := quotaViewOf(p)
			cp.Quota, cp.Expected = &view, "no more than "+view.Declared
		}
		if p.Page != nil {
			view := pageOf(p)
			cp.Page, cp.Expected = &view, p.Page.Want.Does.String()
		}
		if p.Control != nil && p.Fact != nil {
			cp.Control = &contract.Control{Caller: p.ControlBy, Status: p.Control.Exchange.Status,
				SameBody: p.Control.Exchange.Body == p.Fact.Exchange.Body}
		}
		out.Probes = append(out.Probes, cp)
	}
	if v.Finding != nil {
		f := findingOf(*v.Finding)
		out.Finding = &f
	}
	for _, h := range v.History {
		out.History = append(out.History, contract.Past{At: h.At, Probe: h.Probe, Status: h.Status,
			Sweep: int(h.Sweep)})
	}
	out.History = orEmpty(out.History)
	return contract.GetCrossing200JSONResponse(out), nil
}

func findingOf(f finding.Finding) contract.Finding {
	out := contract.Finding{Id: f.ID, Kind: contract.Kind(f.Kind), Name: f.Kind.Name(), Title: f.Title, Route: f.Route,
		Where: f.Where(), Callers: append([]string{}, f.Callers...), Inferred: append([]string{}, f.Inferred...),
		Rung:     f.Rung,
		Severity: contract.Severity(f.Severity), Confidence: contract.Confidence(f.Confidence),
		Reason: f.Reason, Advice: f.Advice,
		Owasp: f.OWASP, Cwe: f.CWE, Crossings: f.Crossings}
	if row, ok := families.Causes.Row(f.Kind, f.Cause); ok {
		shown, refuted := families.Causes.Shown(row), families.Causes.Refuted(row)
		out.Cause, out.Means, out.Shown, out.Refuted = &f.Cause, &row.Means, &shown, &refuted
		if row.Standard != "" {
			out.Standard = &row.Standard
		}
	}
	if f.Scope != nil {
		out.Routes, out.Scope = &f.Routes, &contract.Scope{Of: contract.ScopeOf(f.Scope.Of), Name: f.Scope.Name}
	}
	if f.At != "" {
		out.At, out.Column = &f.At, &f.Column
	}
	return out
}

// usual is how long a page is that nobody says more of, longest the most that it can be.
const (
	usual   = 200
	longest = 1000
)

// limitOfPage is how long a page may be.
func limitOfPage(limit *int) int {
	if limit == nil {
		return usual
	}
	return min(max(*limit, 1), longest)
}

// numberAfter reads a cursor that is a number.
func numberAfter(after *string) (int, error) {
	if after == nil || *after == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(*after)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%w: %q is no `next` of a page", fault.ErrInput, *after)
	}
	return n, nil
}

// pageAfter is the part of a list that follows a cursor, with the next.
func pageAfter[T any](list []T, after *string, limit *int) (part []T, next *string, err error) {
	from, err := numberAfter(after)
	if err != nil {
		return nil, nil, err
	}
	from = min(from, len(list))
	to := min(from+limitOfPage(limit), len(list))
	if to < len(list) {
		next = optional(strconv.Itoa(to))
	}
	return list[from:to], next, nil
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

// GetFindings serves the findings.
func (s *Server) GetFindings(ctx context.Context,
	q contract.GetFindingsRequestObject) (contract.GetFindingsResponseObject, error) {
	list, err := s.app.View.Findings(ctx, word(q.Params.Target))
	if err != nil {
		return nil, err
	}
	part, next, err := pageAfter(list, q.Params.After, q.Params.Limit)
	if err != nil {
		return nil, err
	}
	return contract.GetFindings200JSONResponse{Items: findingsOf(part), Next: next, Total: len(list)}, nil
}

func findingsOf(list []finding.Finding) []contract.Finding {
	out := []contract.Finding{}
	for _, f := range list {
		out = append(out, findingOf(f))
	}
	return out
}

// GetCurl serves a probe as a command line.
func (s *Server) GetCurl(ctx context.Context, q contract.GetCurlRequestObject) (contract.GetCurlResponseObject, error) {
	d, t, p, f, err := s.app.View.Planned(ctx, word(q.Params.Target), q.Params.Probe)
	if err != nil {
		return nil, err
	}
	record := p.Record.Value
	if f != nil && f.Record != "" {
		record = f.Record
	}
	return contract.GetCurl200JSONResponse{Text: curl.Command(d, t, p, record, s.app.View.FirstCall(d, t, p, f))}, nil
}

// GetWorklist serves the requests that are not fair yet.
func (s *Server) GetWorklist(ctx context.Context,
	q contract.GetWorklistRequestObject) (contract.GetWorklistResponseObject, error) {
	list, err := s.app.View.Worklist(ctx, word(q.Params.Target))
	if err != nil {
		return nil, err
	}
	out := contract.GetWorklist200JSONResponse{}
	for _, u := range list {
		out = append(out, contract.Unfair{Route: u.Route, Caller: u.Caller, Status: u.Status, Complaint: u.Complaint,
			Body: u.Body, Type: u.Type, Line: u.Line, File: u.File, Waiting: u.Waiting})
	}
	return out, nil
}

func messagesOf(list []review.Message) []contract.Message {
	out := []contract.Message{}
	for _, m := range list {
		c := contract.Message{File: m.File, Line: m.Line, Column: m.Column, EndColumn: m.EndColumn,
			Level: contract.MessageLevel(m.Level), Code: m.Code, Text: m.Text, Hint: m.Hint,
			Severity: optional(contract.Severity(m.Severity)), Key: m.Key(), Subject: m.Subject, Route: m.Route,
			Owasp: m.OWASP, Cwe: m.CWE}
		if k := review.Find(m.Code); k != nil {
			c.Why = &k.Why
		}
		if m.Fix != nil {
			c.Fix = &m.Fix.Title
		}
		if w := m.Waived; w != nil {
			c.Waived = &contract.Waiver{By: w.By, Reason: w.Reason, Until: openapi_types.Date{Time: w.Until}}
		}
		out = append(out, c)
	}
	return out
}

func declarationOf(d workspace.Declaration) contract.Declaration {
	return contract.Declaration{Name: d.Name, Text: d.Text, Title: d.Title, Revision: int(d.Revision), KeptAt: d.KeptAt,
		Messages: messagesOf(d.Messages)}
}

// GetDeclaration serves the current text.
func (s *Server) GetDeclaration(ctx context.Context,
	_ contract.GetDeclarationRequestObject) (contract.GetDeclarationResponseObject, error) {
	if err := s.app.Workspace.Sync(ctx); err != nil {
		return nil, err
	}
	return contract.GetDeclaration200JSONResponse(declarationOf(s.app.Workspace.Declaration())), nil
}

// KeepDeclaration keeps a text.
func (s *Server) KeepDeclaration(ctx context.Context,
	q contract.KeepDeclarationRequestObject) (contract.KeepDeclarationResponseObject, error) {
	d, err := s.app.Workspace.Keep(ctx, q.Body.Text, q.Body.Message, uint(max(0, q.Body.Base)))
	if err != nil {
		return nil, err
	}
	return contract.KeepDeclaration200JSONResponse(declarationOf(d)), nil
}

// maxChanges is how many crossings are listed; more are only counted.
const maxChanges = 5000

func changesOf(list []access.Turned) []contract.Change {
	out := []contract.Change{}
	for _, c := range list[:min(maxChanges, len(list))] {
		out = append(out, contract.Change{Route: c.Route, Caller: c.Caller, From: c.From, To: c.To,
			Expect: contract.Expect(c.Expect),
			Turn:   contract.ChangeTurn(c.Turn)})
	}
	return out
}

// CheckDeclaration says what a text would change.
func (s *Server) CheckDeclaration(_ context.Context,
	q contract.CheckDeclarationRequestObject) (contract.CheckDeclarationResponseObject, error) {
	e := s.app.Workspace.Check(q.Body.Text)
	return contract.CheckDeclaration200JSONResponse{Messages: messagesOf(e.Messages), Fresh: orEmpty(e.NewMessages),
		Failed: e.Failed, Changes: changesOf(e.Changes), Total: len(e.Changes),
		Opens: e.Opens, Closes: e.Closes, Other: e.Other, Added: orEmpty(e.Added), Gone: orEmpty(e.Gone)}, nil
}

// ListRevisions serves the kept revisions.
func (s *Server) ListRevisions(ctx context.Context,
	q contract.ListRevisionsRequestObject) (contract.ListRevisionsResponseObject, error) {
	before, err := numberAfter(q.Params.After)
	if err != nil {
		return nil, err
	}
	limit := limitOfPage(q.Params.Limit)
	list, err := s.app.Workspace.Revisions(ctx, uint(before), limit)
	if err != nil {
		return nil, err
	}
	out := contract.ListRevisions200JSONResponse{Items: make([]contract.Revision, len(list))}
	for i, r := range list {
		out.Items[i] = contract.Revision{Id: int(r.ID), At: r.At, Message: r.Message}
	}
	if len(list) == limit {
		out.Next = optional(strconv.Itoa(int(list[len(list)-1].ID)))
	}
	return out, nil
}

// GetRevision serves the text of one.
func (s *Server) GetRevision(ctx context.Context,
	q contract.GetRevisionRequestObject) (contract.GetRevisionResponseObject, error) {
	t, err := s.app.Workspace.RevisionText(ctx, uint(max(0, q.Id)))
	if err != nil {
		return nil, err
	}
	return contract.GetRevision200JSONResponse{Text: t}, nil
}

// ListTargets serves the declared targets.
func (s *Server) ListTargets(context.Context, contract.ListTargetsRequestObject) (contract.ListTargetsResponseObject,
	error) {
	d, _ := s.app.Workspace.Document()
	out := contract.ListTargets200JSONResponse{}
	for _, t := range d.Targets {
		out = append(out, contract.Target{Name: t.Name, Base: t.Base, Hosts: maps.Clone(t.Hosts),
			Values: maps.Clone(t.Values), Direct: t.Direct, Pace: t.Pace.String(),
			Unsafe: contract.UnsafePolicy(t.Unsafe),
			AskFor: append([]string{}, t.AskFor...)})
	}
	return out, nil
}

// PutTarget adds or changes one.
func (s *Server) PutTarget(ctx context.Context, q contract.PutTargetRequestObject) (contract.PutTargetResponseObject,
	error) {
	b := q.Body
	pace, err := declaration.ParsePace(b.Pace)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if strings.TrimSpace(b.Name) == "" {
		return nil, fmt.Errorf("%w: the target needs a name", fault.ErrInput)
	}
	d, err := s.app.Workspace.PutTarget(ctx, declaration.Target{Name: strings.TrimSpace(b.Name),
		Base:  strings.TrimSpace(b.Base),
		Hosts: b.Hosts, Values: b.Values, Direct: strings.TrimSpace(b.Direct), Pace: pace,
		Unsafe: declaration.Unsafe(b.Unsafe), AskFor: b.AskFor})
	if err != nil {
		return nil, err
	}
	return contract.PutTarget200JSONResponse(declarationOf(d)), nil
}

// PutSample changes what is sent to a route.
func (s *Server) PutSample(ctx context.Context, q contract.PutSampleRequestObject) (contract.PutSampleResponseObject,
	error) {
	d, err := s.app.Workspace.PutSample(ctx, q.Body.Route, q.Body.Body)
	if err != nil {
		return nil, err
	}
	return contract.PutSample200JSONResponse(declarationOf(d)), nil
}

// TestTarget tests a connection.
func (s *Server) TestTarget(ctx context.Context, q contract.TestTargetRequestObject) (contract.TestTargetResponseObject,
	error) {
	c, err := s.app.Workspace.TestTarget(ctx, q.Body.Target)
	if err != nil {
		return nil, err
	}
	out := contract.Connection{Ok: c.OK}
	for _, st := range c.Steps {
		out.Steps = append(out.Steps, contract.ConnectionStep{Name: st.Name, Ok: st.OK, Text: st.Text})
	}
	out.Steps = orEmpty(out.Steps)
	return contract.TestTarget200JSONResponse(out), nil
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
	before, err := numberAfter(q.Params.After)
	if err != nil {
		return nil, err
	}
	limit := limitOfPage(q.Params.Limit)
	list, err := s.app.Sweeps.List(ctx, uint(before), limit)
	if err != nil {
		return nil, err
	}
	out := contract.ListSweeps200JSONResponse{Items: make([]contract.Sweep, len(list))}
	for i, r := range list {
		out.Items[i] = *sweepOf(r)
	}
	if len(list) == limit {
		out.Next = optional(strconv.Itoa(int(list[len(list)-1].ID)))
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
	out := contract.SweepResult{Sweep: *sweepOf(r), Findings: findingsOf(res.Findings), Left: omissionsOf(res.Left)}
	for _, m := range res.Made {
		out.Made = append(out.Made, contract.Leftover{Route: m.Route, What: m.What, Why: m.Why})
	}
	for _, u := range res.Unsent {
		out.Unsent = append(out.Unsent, contract.Unsent{Probes: u.Probes, Why: u.Why})
	}
	out.Made, out.Unsent = orEmpty(out.Made), orEmpty(out.Unsent)
	return contract.GetSweep200JSONResponse(out), nil
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
	r, err := s.app.Sweeps.ProbeAgain(ctx, q.Body.Target, keys) //nolint:contextcheck // a sweep outlives the question
	if err != nil {
		return nil, err
	}
	return contract.ProbeAgain201JSONResponse{Body: *sweepOf(r),
		Headers: contract.ProbeAgain201ResponseHeaders{Location: placeOf(r)}}, nil
}

// OpenDemo opens the demo.
func (s *Server) OpenDemo(context.Context, contract.OpenDemoRequestObject) (contract.OpenDemoResponseObject, error) {
	if s.demo == nil {
		return nil, fmt.Errorf("%w: this server has no demo", fault.ErrNotFound)
	}
	if err := s.demo(); err != nil {
		return nil, err
	}
	return contract.OpenDemo204Response{}, nil
}
