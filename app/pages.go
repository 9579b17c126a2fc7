package app

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/probe"
	"millgate/core/verdict"
	"millgate/wire"
)

// page asks as a page of another origin does: the preflight, then the request
// with its Origin, then once more without a credential. What the browser makes
// of the answers is judged afterwards.
func (r *run) page(p *probe.Probe, f *Fact) error {
	id := p.Record.ID // what is sent is safe, so that no record is made for it
	f.Record = id
	send := func(o wire.Outgoing, as *probe.Probe) (*check.Exchange, error) {
		x, n, err := r.deliver(as, o)
		f.Repeats += n
		return &x, err
	}
	bare := *p // who asks without a credential
	bare.Identity, bare.Scheme = "", ""
	if q, asks := probe.Preflight(r.doc, p, id); asks {
		x, err := send(wire.Outgoing{Method: q.Method, Host: q.Host, Path: q.Path, Query: q.Query, Headers: q.Headers},
			&bare)
		if err != nil {
			return r.withoutCredential(p, f, err)
		}
		f.Preflight = x
	}
	if p.PreflightOnly {
		return r.keep(p, f)
	}
	o, err := r.outgoing(p, id)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	without := o
	without.Headers = slices.Clone(o.Headers)
	x, err := send(o, p)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	f.Exchange = *x
	if p.Refused {
		if f.Refusal, err = send(without, &bare); err != nil {
			return r.withoutCredential(p, f, err)
		}
	}
	return r.keep(p, f)
}

// widens says whether a gap asks for more probes: not where a page that has
// nothing to do with the declared ones is let in anyway.
func (j *judge) widens(p *probe.Probe, v verdict.Verdict) bool {
	if !v.Kind.IsGap() {
		return false
	}
	if p.Kind != probe.Origin {
		return true
	}
	for _, o := range j.pages[p.RouteKey] {
		if o.Way == origin.Unrelated && j.facts[o.ID] != nil && j.judge(o).Kind.IsGap() {
			return false
		}
	}
	return true
}

// answerIf is an exchange for the judge, nil without one.
func answerIf(x *check.Exchange) *check.Answer {
	if x == nil {
		return nil
	}
	a := check.AnswerOf(*x)
	return &a
}

// letters are a row's cells in the Origins lens: what is declared, the
// verdicts, and what a browser lets the page do, "." where that is not known.
func (m *pageMemo) letters(pages []origin.Page, i int, row Row, seen map[string]finding.Kind,
	does map[string]string) (expect, found, can string) {
	e := m.declared(pages, i)
	var v, c []byte
	for _, col := range pages {
		k := row.Key + "\x00" + col.ID
		letter := byte('.')
		if d, ok := origin.DoesOf(does[k]); ok {
			letter = d.Letter()
		}
		v, c = append(v, verdictLetter(seen[k])), append(c, letter)
	}
	return e, string(v), string(c)
}

// pageMemo remembers what is declared for pages: routes that are called alike,
// under one entry, have it in common.
type pageMemo struct {
	d     *declaration.Document
	known map[string]string
}

// declared has a letter for each page at route i, "-" where it has no such page.
func (m *pageMemo) declared(pages []origin.Page, i int) string {
	if i < 0 {
		return strings.Repeat("-", len(pages))
	}
	call := probe.CallOf(m.d, i, "")
	key := fmt.Sprint(m.d.OriginsAt[i], call.Method, "\x00", call.ContentType, "\x00", call.Credential)
	if s, ok := m.known[key]; ok {
		return s
	}
	out := make([]byte, len(pages))
	for k, col := range pages {
		out[k] = '-'
		if page, ok := probe.PageAt(m.d, i, col.ID); ok {
			out[k] = origin.Expect(call, page.Origin, probe.Allowed(m.d, i)).Does.Letter()
		}
	}
	m.known[key] = string(out)
	return string(out)
}
