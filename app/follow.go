package app

import (
	"cmp"
	"maps"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/probe"
)

// followUps sends what the route declares under `then`, now that an answer
// says that the request was admitted. What the answer and the request's own
// parameters hold fills the placeholders. It is sent as the caller of the request,
// unless it says as whom.
func (r *run) followUps(p *probe.Probe, f *Fact, id string) []FollowedUp {
	if p.Route < 0 {
		return nil
	}
	var out []FollowedUp
	for _, u := range r.doc.Routes[p.Route].Then {
		t := FollowedUp{Request: followKey(u), As: u.As.Name}
		values := maps.Clone(r.target.Values)
		if values == nil {
			values = map[string]string{}
		}
		maps.Copy(values, p.Params)
		if p.Record.Param != "" {
			values[p.Record.Param], values["id"] = id, id
		}
		for name, at := range u.With {
			v, ok := check.Pointer([]byte(f.Exchange.Content), at)
			if !ok {
				t.Lost = "the answer has nothing at " + at
			}
			values[name] = v
		}
		switch {
		case t.Lost != "":
		case declaration.UnsafeMethod(u.Method) && r.target.Unsafe != declaration.UnsafeAllowed &&
			!r.sessionRequest(&u.Request):
			t.Lost = "the target allows no unsafe request (unsafe: " + string(r.target.Unsafe) + ")"
		default:
			x, err := r.as(r.ctx, &u.Request, cmp.Or(u.As.Name, p.Identity), values)
			if err != nil {
				t.Lost = err.Error()
			}
			t.Exchange = x
		}
		out = append(out, t)
	}
	return out
}

// sessionRequest says whether a request goes to a scheme's login: it is sent
// whatever `unsafe` says, since there is no other way to a token.
func (r *run) sessionRequest(q *declaration.Request) bool {
	for _, s := range r.doc.Schemes {
		if l := s.Login; l != nil && l.Method == q.Method && l.Host == q.Host && l.Path == q.Path {
			return true
		}
	}
	return false
}
