package server

import (
	"context"
	"fmt"
	"strings"

	"millgate/app/snapshot"
	"millgate/app/view"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/finding"
	"millgate/format/curl"
	"millgate/server/contract"
)

func ladderOf(x access.Expectation) []contract.Rung {
	out := []contract.Rung{}
	for _, r := range x.Ladder {
		out = append(out, contract.Rung{Number: r.Number, Name: r.Name, Result: string(r.Result), Text: r.Text})
	}
	return out
}

func expectedOf(x access.Expectation) string {
	s := access.OutcomeText(x.Outcome, x.On, 0)
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
		At: x.At, Ms: float64(x.Took.Microseconds()) / 1000, Mark: optional(x.Mark)}
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
		Target: v.Target, Probes: []contract.Probe{}, Order: []contract.Sequence{}}
	if strings.HasPrefix(v.Caller, snapshot.CountedCaller) || strings.HasPrefix(v.Caller, check.QuotaColumn) {
		out.Expected, out.Reason = "no more calls than its quota", ""
	}
	for _, o := range v.Order {
		out.Order = append(out.Order, contract.Sequence{First: contract.Stage(o.First), Then: contract.Stage(o.Then),
			Says: o.Says})
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
		if len(p.Rows) > 0 {
			rows := rowsOf(p.Rows)
			cp.Rows = &rows
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
		if len(p.Declares) > 0 {
			cp.Declares = &p.Declares
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

// lensOf is the lens that has a column of the board.
func lensOf(column string) contract.Lens {
	for prefix, lens := range map[string]contract.Lens{check.TokenColumn: contract.LensTokens,
		check.PageColumn: contract.LensOrigins, check.QuotaColumn: contract.LensQuotas,
		snapshot.CountedCaller: contract.LensQuotas} {
		if strings.HasPrefix(column, prefix) {
			return lens
		}
	}
	return contract.LensAccess
}

func findingOf(f finding.Finding) contract.Finding {
	out := contract.Finding{Id: f.ID, Kind: contract.Kind(f.Kind), Name: f.Kind.Name(), Title: f.Title, Route: f.Route,
		Where: f.Where(), Callers: append([]string{}, f.Callers...), Inferred: append([]string{}, f.Inferred...),
		Rung:     f.Rung,
		Severity: contract.Severity(f.Severity), Confidence: contract.Confidence(f.Confidence),
		Reason: f.Reason, Advice: f.Advice,
		Owasp: f.OWASP, Cwe: f.CWE, Crossings: f.Crossings, Weighs: optional(f.Weighs), Docs: optional(f.Docs)}
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
		lens := lensOf(f.Column)
		out.Lens = &lens
	}
	return out
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

// Send serves what came of a request that is sent by itself.
func (s *Server) Send(ctx context.Context, q contract.SendRequestObject) (contract.SendResponseObject, error) {
	x := view.Sending{Target: q.Body.Target, Probe: q.Body.Probe, As: word(q.Body.As), Record: word(q.Body.Record),
		Body: q.Body.Body}
	for _, h := range q.Body.Headers {
		x.Headers = append(x.Headers, [2]string{h.Name, h.Value})
	}
	sent, err := s.app.View.Send(ctx, x)
	if err != nil {
		return nil, err
	}
	out := contract.Sent{Exchange: exchangeOf(sent.Report.Exchange), Expected: expectedOf(sent.Explained.Expectation),
		Class: string(sent.Class), Agrees: sent.Agrees, Differs: append([]string{}, sent.Differs...)}
	if sent.Before != nil {
		out.Before = &sent.Before.Status
	}
	return contract.Send200JSONResponse(out), nil
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
			Body: u.Body, Type: u.Type, Line: u.Line, File: u.File, Waiting: u.Waiting, Mark: optional(u.Mark)})
	}
	return out, nil
}

func rowsOf(list []check.Row) (out []contract.ListedRow) {
	for _, r := range list {
		out = append(out, contract.ListedRow{Id: r.ID, Owner: r.Owner, Stands: orEmpty(r.Stands), Missing: r.Missing})
	}
	return out
}
