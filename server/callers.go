package server

import (
	"context"
	"fmt"

	"millgate/app/callers"
	"millgate/server/contract"
)

// LookAtCallers serves who calls.
func (s *Server) LookAtCallers(_ context.Context,
	q contract.LookAtCallersRequestObject) (contract.LookAtCallersResponseObject, error) {
	o := s.app.Callers.Look(q.Body.Target, q.Body.Text)
	out := contract.LookAtCallers200JSONResponse{Targets: orEmpty(o.Targets), Kinds: orEmpty(o.Kinds),
		Roles:      []contract.CallerRole{},
		Identities: []contract.CallerIdentity{},
		Schemes:    []contract.CallerScheme{}}
	for _, r := range o.Roles {
		out.Roles = append(out.Roles, contract.CallerRole{Name: r.Name, Includes: orEmpty(r.Includes),
			Holders: orEmpty(r.Holders), Opens: r.Opens, More: r.More, Line: r.Line})
	}
	for _, id := range o.Identities {
		x := contract.CallerIdentity{Name: id.Name, Roles: orEmpty(id.Roles), Scopes: orEmpty(id.Scopes),
			Attributes: map[string]string{}, Credentials: []contract.CallerCredential{}, Owns: id.Owns, In: id.In,
			Opens: id.Opens,
			Line:  id.Line}
		for n, v := range id.Attributes {
			x.Attributes[n] = fmt.Sprint(v)
		}
		for _, c := range id.Credentials {
			cr := contract.CallerCredential{Scheme: c.Scheme, Fill: []contract.CallerMember{},
				State: contract.CredentialState(c.State), Why: c.Why, At: instant(c.At), Ends: instant(c.Ends)}
			for _, m := range c.Fill {
				cr.Fill = append(cr.Fill, contract.CallerMember{Name: m.Name, Text: m.Text, Secret: m.Secret})
			}
			x.Credentials = append(x.Credentials, cr)
		}
		out.Identities = append(out.Identities, x)
	}
	for _, x := range o.Schemes {
		out.Schemes = append(out.Schemes, contract.CallerScheme{Name: x.Name, Kind: x.Kind, Login: x.Login,
			Needs: orEmpty(x.Needs), Secret: orEmpty(x.Secret), Routes: x.Routes, Users: orEmpty(x.Users),
			Line: x.Line})
	}
	return out, nil
}

// EditCallers edits who calls in a text.
func (s *Server) EditCallers(ctx context.Context,
	q contract.EditCallersRequestObject) (contract.EditCallersResponseObject, error) {
	b := q.Body
	ch := callers.Change{Do: string(b.Do), Kind: callers.Kind(b.Kind), Name: b.Name, To: word(b.To),
		Text: word(b.Scheme)}
	list := func(p *[]string) []string {
		if p == nil {
			return nil
		}
		return *p
	}
	ch.Includes, ch.Roles, ch.Scopes = list(b.Includes), list(b.Roles), list(b.Scopes)
	if b.Attributes != nil {
		ch.Attributes = *b.Attributes
	}
	if b.In != nil {
		ch.In = *b.In
	}
	if b.Credentials != nil {
		for _, g := range *b.Credentials {
			ch.Credentials = append(ch.Credentials, callers.Given{Scheme: g.Scheme, Members: g.Members,
				Secrets: g.Secrets})
		}
	}
	text, title, err := s.app.Callers.Edit(ctx, b.Text, ch)
	if err != nil {
		return nil, err
	}
	return contract.EditCallers200JSONResponse{Text: text, Title: title}, nil
}

// TryCaller tries a credential.
func (s *Server) TryCaller(ctx context.Context, q contract.TryCallerRequestObject) (contract.TryCallerResponseObject,
	error) {
	t, err := s.app.Callers.Try(ctx, q.Body.Target, q.Body.Text, q.Body.Identity, q.Body.Scheme)
	if err != nil {
		return nil, err
	}
	out := contract.TryCaller200JSONResponse{State: contract.CredentialState(t.State), Why: t.Why, At: t.At,
		Ends: instant(t.Ends), Request: t.Request, Takes: []contract.CallerTake{}, Token: t.Token != nil &&
			t.Token.Kind == "signed", Offers: []contract.CallerOffer{}}
	for _, o := range t.Offers {
		x := contract.CallerEdit{Do: contract.CallerEditDo(o.Do), Kind: contract.CallerEditKind(o.Kind), Name: o.Name,
			To: &o.To}
		switch {
		case o.Roles != nil:
			x.Roles = &o.Roles
		case o.Scopes != nil:
			x.Scopes = &o.Scopes
		default:
			x.Scheme = &o.Text
		}
		out.Offers = append(out.Offers, contract.CallerOffer{Says: o.Says, Why: o.Why, Change: x})
	}
	for _, x := range t.Takes {
		out.Takes = append(out.Takes, contract.CallerTake{Name: x.Name, Pointer: x.Pointer, There: x.There})
	}
	if t.Exchange != nil {
		x := exchangeOf(*t.Exchange)
		out.Exchange = &x
	}
	return out, nil
}

// LookAtSteps serves what stands before the first sweep.
func (s *Server) LookAtSteps(ctx context.Context,
	q contract.LookAtStepsRequestObject) (contract.LookAtStepsResponseObject, error) {
	var err error
	x := s.app.Callers.Steps(q.Body.Target, q.Body.Text, func(target string) (in map[string]bool) {
		in, err = s.app.Observing.LetIn(ctx, target)
		return in
	})
	if err != nil {
		return nil, err
	}
	return contract.LookAtSteps200JSONResponse{Routes: x.Routes, Targets: x.Targets, Callers: x.Callers, LogIn: x.LogIn,
		Decided: x.Decided}, nil
}

// ReadAccounts serves what a table of test accounts says.
func (s *Server) ReadAccounts(_ context.Context,
	q contract.ReadAccountsRequestObject) (contract.ReadAccountsResponseObject, error) {
	list, err := s.app.Callers.Table(q.Body.Text, q.Body.Table)
	if err != nil {
		return nil, err
	}
	out := contract.ReadAccounts200JSONResponse{}
	for _, a := range list {
		x := contract.Account{Line: a.Line, Name: a.Name, Roles: orEmpty(a.Roles), Scopes: orEmpty(a.Scopes),
			Attributes: a.Attributes, Scheme: a.Scheme, Members: orEmpty(a.Members), Known: a.Known, Problem: a.Problem}
		if x.Attributes == nil {
			x.Attributes = map[string]string{}
		}
		out = append(out, x)
	}
	return out, nil
}

// TakeAccounts writes the accounts of a table into a text.
func (s *Server) TakeAccounts(ctx context.Context,
	q contract.TakeAccountsRequestObject) (contract.TakeAccountsResponseObject, error) {
	text, title, err := s.app.Callers.TakeTable(ctx, q.Body.Text, q.Body.Table)
	return contract.TakeAccounts200JSONResponse{Text: text, Title: title}, err
}

// ReadExample serves what requests that worked say.
func (s *Server) ReadExample(_ context.Context,
	q contract.ReadExampleRequestObject) (contract.ReadExampleResponseObject, error) {
	r, err := s.app.Callers.Example(q.Body.Target, q.Body.Text, pastedOf(q.Body.Requests))
	if err != nil {
		return nil, err
	}
	out := contract.ReadExample200JSONResponse{Told: []contract.ExampleTold{}, Parts: []contract.ExamplePart{},
		Proposals: []contract.ExampleProposal{}, Unread: orEmpty(r.Unread)}
	for _, t := range r.Told {
		out.Told = append(out.Told, contract.ExampleTold{Whose: t.Whose, Form: string(t.Form), Line: t.Line,
			Method: t.Method, Path: t.Path, Logs: t.Logs, Proves: t.Proves, Unread: orEmpty(t.Unread)})
	}
	for _, p := range r.Parts {
		out.Parts = append(out.Parts, contract.ExamplePart{In: contract.ExamplePartIn(p.In), Name: p.Name,
			Varies: contract.ExamplePartVaries(p.Varies), Of: p.Of, Proves: p.Proves})
	}
	for _, p := range r.Proposals {
		out.Proposals = append(out.Proposals, contract.ExampleProposal{Id: p.ID,
			Kind: contract.ExampleProposalKind(p.Kind),
			Name: p.Name, Text: p.Line(), Why: p.Why, Adds: p.DeclaredBefore})
	}
	return out, nil
}

// TakeExample writes what was chosen of that into a text.
func (s *Server) TakeExample(ctx context.Context,
	q contract.TakeExampleRequestObject) (contract.TakeExampleResponseObject, error) {
	text, title, err := s.app.Callers.TakeExample(ctx, q.Body.Target, q.Body.Text, pastedOf(q.Body.Requests),
		q.Body.Take)
	return contract.TakeExample200JSONResponse{Text: text, Title: title}, err
}

func pastedOf(list []contract.ExamplePasted) (out []callers.Pasted) {
	for _, p := range list {
		out = append(out, callers.Pasted{Text: p.Text, Whose: p.Whose, Role: p.Role})
	}
	return out
}
