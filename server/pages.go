package server

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"millgate/app/fault"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/check/pages"
	"millgate/core/origin"
	"millgate/format/har"
	"millgate/server/contract"
)

func stepsOfPage(list []origin.Step) []contract.PageStep {
	out := []contract.PageStep{}
	for _, s := range list {
		out = append(out, contract.PageStep{Name: s.Name, Text: s.Text, Header: s.Header, Failed: s.Failed,
			Section: s.Section})
	}
	return out
}

func saidOf(list []origin.Judgement) []contract.PageSaid {
	out := []contract.PageSaid{}
	for _, j := range list {
		out = append(out, contract.PageSaid{Id: j.ID, Sort: contract.PageSaidSort(j.Sort), Minor: j.Minor,
			Header: j.Header, Text: j.Text})
	}
	return out
}

func pageOf(p view.ProbeView) contract.PageView {
	v := p.Page
	out := contract.PageView{Origin: v.Page.Origin, Says: v.Page.Says, Want: v.Want.Does.String(),
		Steps: []contract.PageStep{}, Said: []contract.PageSaid{}, Ways: []contract.PageWay{},
		Mends: []contract.PageMend{}}
	if p.Fact == nil {
		return out
	}
	got, how := v.Got.Does.String(), v.Got.Request.Words()
	out.Got, out.Request, out.Assumed = &got, &how, v.Got.Assumed
	out.Steps, out.Said = stepsOfPage(v.Got.Outcome.Steps), saidOf(v.Said)
	for _, a := range v.Ways() {
		out.Ways = append(out.Ways, contract.PageWay{Asks: a.Request.Words(), Told: a.Told(), Does: a.Does.String(),
			Script: origin.Script(a.Request, v.Body)})
	}
	for _, m := range v.Mends() {
		out.Mends = append(out.Mends, contract.PageMend{On: contract.PageMendOn(m.On), Header: m.Header,
			Value: m.Value})
	}
	if p.Fact.Check == nil { // it could not be sent
		return out
	}
	if r := pages.Preflight(p.Fact.Check); r != nil {
		e := exchangeOf(r.Exchange)
		out.Preflight = &e
	}
	if r := pages.Refusal(p.Fact.Check); r != nil {
		e := exchangeOf(r.Exchange)
		out.Refusal = &e
	}
	return out
}

// JudgePages says what a browser makes of answers that are pasted or recorded.
func (s *Server) JudgePages(_ context.Context, q contract.JudgePagesRequestObject) (contract.JudgePagesResponseObject,
	error) {
	out := contract.PagesJudged{Pages: []contract.PageJudged{}, Problems: []string{}}
	var list []view.JudgedPage
	if text := word(q.Body.Har); text != "" {
		var problems []har.Problem
		var err error
		if list, problems, err = s.app.View.JudgeArchive([]byte(text)); err != nil {
			return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
		for _, p := range problems {
			out.Problems = append(out.Problems, fmt.Sprintf("line %d: %s", p.Line, p.Text))
		}
	} else {
		r, err := pasted(*q.Body)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
		list = s.app.View.JudgePages([]origin.Recorded{r})
	}
	for _, j := range list {
		p := contract.PageJudged{Page: j.Recorded.Request.Page, Request: j.Recorded.Request.Words(),
			Url: j.Recorded.Request.URL, Route: j.Route, Does: j.Does.String(), Known: !j.Outcome.Unknown,
			Steps: stepsOfPage(j.Outcome.Steps), Said: saidOf(j.Said), Browser: j.Browser,
			Readable: orEmpty(j.Outcome.Readable)}
		if j.Want != nil {
			w := j.Want.String()
			p.Want = &w
		}
		out.Pages = append(out.Pages, p)
	}
	return contract.JudgePages200JSONResponse(out), nil
}

// pasted reads one request with the heads of its answers.
func pasted(q contract.PageQuestion) (r origin.Recorded, err error) {
	r.Request = origin.Request{Page: strings.TrimSpace(word(q.Page)), Method: strings.TrimSpace(word(q.Method)),
		URL: strings.TrimSpace(word(q.Url)), Credentials: origin.Omit}
	if q.Cookies != nil && *q.Cookies {
		r.Request.Credentials = origin.Include
	}
	if r.Request.Page == "" || r.Request.Page != origin.Null &&
		origin.Of(r.Request.Page) != strings.TrimSuffix(r.Request.Page, "/") {
		return r, fmt.Errorf("the page %q is no origin; write it like https://app.example, or null", r.Request.Page)
	}
	r.Request.Page = strings.TrimSuffix(r.Request.Page, "/")
	if origin.Of(r.Request.URL) == "" {
		return r, fmt.Errorf("%q is no address of a service; write it like https://api.example/v1/things",
			r.Request.URL)
	}
	if t := word(q.Headers); strings.TrimSpace(t) != "" {
		h, err := origin.ParseHead(t)
		if err != nil {
			return r, fmt.Errorf("headers of the script, %w", err)
		}
		r.Request.Headers = h.Headers
	}
	for _, x := range []struct {
		what string
		text *string
		into **origin.Answer
	}{{"preflight", q.Preflight, &r.Preflight}, {"answer", q.Answer, &r.Answer}} {
		if t := word(x.text); strings.TrimSpace(t) != "" {
			a, err := origin.ParseHead(t)
			if err != nil {
				return r, fmt.Errorf("answer to the %s, %w", strings.Replace(x.what, "answer", "request", 1), err)
			}
			*x.into = &a
		}
	}
	if r.Preflight == nil && r.Answer == nil {
		return r, errors.New("paste the head of an answer: its status line and header fields")
	}
	return r, nil
}

// LookAtPages says what pages may do by a text.
func (s *Server) LookAtPages(_ context.Context,
	q contract.LookAtPagesRequestObject) (contract.LookAtPagesResponseObject, error) {
	v, err := s.app.View.Pages(q.Body.Text)
	if err != nil {
		return nil, err
	}
	out := contract.LookAtPages200JSONResponse{Entries: []contract.PageEntry{}, Pages: []contract.PageSeen{},
		Turned: []contract.PageTurn{}, Total: v.Total}
	for _, e := range v.Entries {
		x := contract.PageEntry{Line: e.Place.Line, File: e.Place.File, Here: e.Here, At: e.At, Routes: e.Routes,
			Allow: []contract.PagePermission{}}
		for _, p := range e.Allow {
			x.Allow = append(x.Allow, contract.PagePermission{Origin: p.Origin, Members: p.Members})
		}
		out.Entries = append(out.Entries, x)
	}
	for _, p := range v.Pages {
		out.Pages = append(out.Pages, contract.PageSeen{Id: p.ID, Origin: p.Origin, Hostile: p.Hostile, Says: p.Says,
			Was: p.Was, Now: p.Now})
	}
	for _, t := range v.Turned {
		out.Turned = append(out.Turned, contract.PageTurn{Route: t.Route, Page: t.Page, Was: contract.Expect(t.Was),
			Becomes: contract.Expect(t.Becomes)})
	}
	return out, nil
}

// EditPages changes what pages of an origin may do in a text.
func (s *Server) EditPages(_ context.Context, q contract.EditPagesRequestObject) (contract.EditPagesResponseObject,
	error) {
	b := q.Body
	e, err := s.app.Workspace.EditPages(b.Text, workspace.PageChange{Line: b.Line, At: b.At, Was: b.Was, Page: b.Page,
		Set: b.Set})
	if err != nil {
		return nil, err
	}
	return contract.EditPages200JSONResponse(editedOf(e)), nil
}
