package server

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/tokens"
	"millgate/app/view"
	"millgate/server/contract"
)

// recast gives a value of the contract the members of one of the app that has
// the same names.
func recast[T any](from any) (T, error) {
	var to T
	b, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(b, &to)
	}
	return to, err
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// JudgeToken judges a token.
func (s *Server) JudgeToken(ctx context.Context, q contract.JudgeTokenRequestObject) (contract.JudgeTokenResponseObject,
	error) {
	b := q.Body
	v, err := s.app.Tokens.JudgeToken(ctx, tokens.Query{Text: b.Text, Target: b.Target, Identity: b.Identity,
		Scheme: b.Scheme, Obtain: b.Obtain, Kept: b.Kept, Refresh: b.Refresh, Ask: b.Ask != nil && *b.Ask})
	if err != nil {
		return nil, err
	}
	out := contract.TokenView{Kind: contract.TokenViewKind(v.Kind), Fingerprint: v.Fingerprint, Subject: v.Subject,
		Masked: v.Masked, Outcome: contract.TokenViewOutcome(v.Outcome), Scheme: v.Scheme, Identity: v.Identity,
		KeySource: v.KeySource, CanAsk: v.CanAsk, Settles: orEmpty(v.Settles),
		Header: partsOf(v.Header), Claims: partsOf(v.Claims)}
	if out.Judgements, err = recast[[]contract.Judgement](orEmpty(v.Judgements)); err != nil {
		return nil, err
	}
	if out.Facts, err = recast[[]contract.TokenFact](orEmpty(v.Facts)); err != nil {
		return nil, err
	}
	if out.Reach, err = recast[[]contract.Opens](v.Reach); err != nil {
		return nil, err
	}
	out.Axis.Now, out.Axis.Issued, out.Axis.Begins, out.Axis.Ends, out.Axis.DeclaredEnd = v.Axis.Now,
		instant(v.Axis.Issued), instant(v.Axis.Begins), instant(v.Axis.Ends), instant(v.Axis.DeclaredEnd)
	if v.Axis.AfterlifeSaid {
		n := int(v.Axis.Afterlife / time.Second)
		out.Axis.Afterlife = &n
	}
	return contract.JudgeToken200JSONResponse(out), nil
}

func partsOf(list []tokens.Part) []contract.TokenPart {
	out := []contract.TokenPart{}
	for _, p := range list {
		out = append(out, contract.TokenPart{Name: p.Name, Value: p.Value, Means: p.Means, Date: p.Date})
	}
	return out
}

// LookAtSessions says what the lifetimes of a text come to, and what drills
// measured.
func (s *Server) LookAtSessions(ctx context.Context,
	q contract.LookAtSessionsRequestObject) (contract.LookAtSessionsResponseObject, error) {
	list, err := s.app.View.Sessions(ctx, q.Body.Target, q.Body.Text, q.Body.Logouts)
	if err != nil {
		return nil, err
	}
	out := contract.LookAtSessions200JSONResponse{}
	for _, x := range list {
		c := contract.Session{Scheme: x.Scheme, Kind: string(x.Kind), Line: x.Place.Line, File: x.Place.File,
			Renewed: x.Renewed, Access: sec(x.Access), Skew: sec(x.Skew), Longest: sec(x.Longest), Bounded: x.Bounded,
			Idle: sec(x.Idle), StolenAccess: sec(x.StolenAccess), StolenRefresh: sec(x.StolenRefresh),
			StolenBounded: x.StolenBounded, Noticed: x.Noticed, After: sec(x.After), AfterSaid: x.AfterSaid,
			NeedsList: x.NeedsList, Entry: sec(x.Entry), Size: x.Size, SweepEvery: sec(x.SweepEvery),
			SizeSwept: x.SizeSwept, Drills: []contract.Drill{}, Clocks: []contract.ClockSeen{},
			Alone: []contract.LeftAlone{}, Lives: []contract.Life{}}
		for _, l := range x.Lives {
			c.Lives = append(c.Lives, contract.Life{Of: contract.LifeOf(l.Of), Name: l.Name, Text: l.Text})
		}
		for _, v := range x.Drills {
			c.Drills = append(c.Drills, drillOf(v))
		}
		for _, v := range x.Clocks {
			c.Clocks = append(c.Clocks, contract.ClockSeen{Side: contract.ClockSeenSide(v.Side),
				Least: sec(v.Leeway.Least), Most: sec(v.Leeway.Most), Kind: contract.Kind(v.Verdict.Kind),
				Reason: v.Verdict.Reason})
		}
		for _, v := range x.Alone {
			c.Alone = append(c.Alone, contract.LeftAlone{Identity: v.Identity, Seconds: sec(v.For),
				Idle: sec(v.Idle), Works: v.Works,
				Kind: contract.Kind(v.Verdict.Kind), Reason: v.Verdict.Reason})
		}
		out = append(out, c)
	}
	return out, nil
}

func sec(d time.Duration) float64 { return d.Seconds() }

func drillOf(v view.DrillView) contract.Drill {
	out := contract.Drill{Identity: v.Identity, Route: v.Route, Inferred: orEmpty(v.Inferred),
		Kind: contract.Kind(v.Verdict.Kind), Reason: v.Verdict.Reason, Gaps: []contract.Gap{},
		Steps: []contract.DrillStep{}}
	for _, g := range v.Verdict.Gaps {
		out.Gaps = append(out.Gaps, contract.Gap{Kind: contract.Kind(g.Row.Kind), Rung: g.Rung, Reason: g.Reason,
			Confidence: contract.Confidence(g.Confidence)})
	}
	if r := v.Result; r != nil {
		out.At, out.Life, out.Said, out.After, out.Waited, out.Outlived, out.Rotated = &v.At, sec(r.Life), sec(r.Said),
			sec(r.After), sec(r.Waited), r.Outlived, r.Rotated
		for i, st := range r.Steps {
			out.Steps = append(out.Steps, contract.DrillStep{Name: st.Name, At: sec(st.At), Status: st.Status,
				Worked: st.Worked, Expected: expectedAt(v.Steps, i)})
		}
	}
	return out
}

func expectedAt(list []view.ScriptStep, i int) string {
	if i < len(list) {
		return list[i].Wanted
	}
	return ""
}

// CompareLogins compares how long wrong logins take.
func (s *Server) CompareLogins(ctx context.Context,
	q contract.CompareLoginsRequestObject) (contract.CompareLoginsResponseObject, error) {
	t, err := s.app.Sweeps.CompareLogins(ctx, q.Body.Target, q.Body.Identity, q.Body.Scheme)
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	return contract.CompareLogins200JSONResponse{N: t.N, Known: ms(t.Known), Unknown: ms(t.Unknown),
		Probability: float64(t.Probability), Differs: t.Differs}, err
}

// GetKeptTokens lists the names of kept tokens.
func (s *Server) GetKeptTokens(ctx context.Context,
	_ contract.GetKeptTokensRequestObject) (contract.GetKeptTokensResponseObject, error) {
	names, err := s.app.Tokens.KeptTokens(ctx)
	return contract.GetKeptTokens200JSONResponse(orEmpty(names)), err
}

// KeepToken seals a token.
func (s *Server) KeepToken(ctx context.Context, q contract.KeepTokenRequestObject) (contract.KeepTokenResponseObject,
	error) {
	return contract.KeepToken204Response{}, s.app.Tokens.KeepToken(ctx, q.Body.Name, q.Body.Text)
}

// ForgetToken removes a kept token.
func (s *Server) ForgetToken(ctx context.Context,
	q contract.ForgetTokenRequestObject) (contract.ForgetTokenResponseObject, error) {
	return contract.ForgetToken204Response{}, s.app.Tokens.ForgetToken(ctx, q.Params.Name)
}

// MintToken makes a test token.
func (s *Server) MintToken(ctx context.Context, q contract.MintTokenRequestObject) (contract.MintTokenResponseObject,
	error) {
	b := q.Body
	if b.Minutes < 0 || b.Minutes > 366*24*60 {
		return nil, fmt.Errorf("%w: a test token lives between a minute and a year", fault.ErrInput)
	}
	set, err := tokens.ReadClaims(word(b.Claims))
	if err != nil {
		return nil, err
	}
	m, err := s.app.Tokens.MintToken(ctx, tokens.MintQuery{Identity: b.Identity, Scheme: b.Scheme, Target: b.Target,
		Key: b.Key, Life: time.Duration(b.Minutes) * time.Minute, Set: set})
	if err != nil {
		return nil, err
	}
	return contract.MintToken200JSONResponse{Token: m.Token, Header: m.Header, Curl: m.Curl, Warns: m.Warns}, nil
}

// GuessSecret looks for a token's secret.
func (s *Server) GuessSecret(ctx context.Context,
	q contract.GuessSecretRequestObject) (contract.GuessSecretResponseObject, error) {
	w, ok, err := tokens.GuessSecret(ctx, q.Body.Text, strings.NewReader(q.Body.Words), nil)
	if err != nil {
		return nil, err
	}
	return contract.GuessSecret200JSONResponse{Found: ok, Word: w,
		Tried: strings.Count(strings.TrimRight(q.Body.Words, "\n"), "\n") + 1}, nil
}

// AuditTokens judges every token of a file while it is being sent.
func (s *Server) AuditTokens(ctx context.Context,
	q contract.AuditTokensRequestObject) (contract.AuditTokensResponseObject, error) {
	watch := tokens.Watch{Progress: func(p events.AuditProgress) {
		p.ID = q.Params.Id
		s.app.Events.Send(events.Event{Type: events.Auditing, Audit: &p})
	}}
	r, err := s.app.Tokens.AuditTokens(ctx, word(q.Params.Target), false, q.Body, watch)
	if err != nil {
		return nil, err
	}
	out, err := recast[contract.Audited](r)
	for i := range out.Lifetimes { // nanoseconds there
		out.Lifetimes[i].UpTo /= float64(time.Second)
	}
	out.Tallies, out.Offenders, out.Powerful = orEmpty(out.Tallies), orEmpty(out.Offenders), orEmpty(out.Powerful)
	return contract.AuditTokens200JSONResponse(out), err
}
