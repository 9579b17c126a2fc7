package server

import (
	"strings"

	"millgate/app"
	"millgate/core/origin"
	"millgate/server/contract"
)

// script is how a page's script would ask, in words.
func script(q origin.Request) string {
	s := q.Method
	var names []string
	for _, h := range q.Headers {
		v := h[0]
		if strings.EqualFold(h[0], "Content-Type") {
			v += ": " + h[1]
		}
		names = append(names, v)
	}
	if len(names) > 0 {
		s += " with " + strings.Join(names, ", ")
	}
	if q.Credentials == origin.Include {
		return s + ", with the user's cookies"
	}
	return s + ", without cookies"
}

func stepsOfPage(list []origin.Step) []contract.PageStep {
	out := []contract.PageStep{}
	for _, s := range list {
		out = append(out, contract.PageStep{Name: s.Name, Text: s.Text, Header: s.Header, Failed: s.Failed, Section: s.Section})
	}
	return out
}

func saidOf(list []origin.Judgement) []contract.PageSaid {
	out := []contract.PageSaid{}
	for _, j := range list {
		out = append(out, contract.PageSaid{Id: j.ID, Sort: contract.PageSaidSort(j.Sort), Minor: j.Minor, Header: j.Header, Text: j.Text})
	}
	return out
}

func pageOf(p app.ProbeView) contract.PageView {
	v := p.Page
	out := contract.PageView{Origin: v.Page.Origin, Says: v.Page.Says, Want: v.Want.Does.String(), Steps: []contract.PageStep{}, Said: []contract.PageSaid{}}
	if p.Fact == nil {
		return out
	}
	got, how := v.Got.Does.String(), script(v.Got.Request)
	out.Got, out.Request, out.Assumed = &got, &how, v.Got.Assumed
	out.Steps, out.Said = stepsOfPage(v.Got.Outcome.Steps), saidOf(v.Said)
	if x := p.Fact.Preflight; x != nil {
		e := exchangeOf(*x)
		out.Preflight = &e
	}
	if x := p.Fact.Refusal; x != nil {
		e := exchangeOf(*x)
		out.Refusal = &e
	}
	return out
}
