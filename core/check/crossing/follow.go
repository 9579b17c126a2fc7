package crossing

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/route"
)

// following is a follow-up of a route, with what it needs of the answer.
type following struct {
	name  string // of its report
	call  check.Call
	take  []check.Take
	slots []string // in the order of take
	why   string   // it cannot be sent
}

// FollowName names the report of a follow-up that is sent as somebody.
func FollowName(u *declaration.FollowUp, as string) string {
	return fmt.Sprintf("%s %s as %s", u.Method, route.Hosted(u.Host, u.Path), as)
}

// follows are the follow-ups that a route declares under `then`. What the answer and the
// request's own parameters hold fills their names. They are sent as the caller of the
// request, unless they say as whom.
func follows(c *check.Context, p *check.Probe) (out []following) {
	for k, u := range c.Doc.Routes[c.Doc.RouteNamed(p.Route)].Then {
		as := cmp.Or(u.As.Name, p.Caller.Identity)
		f := following{name: FollowName(u, cmp.Or(as, "nobody"))}
		if declaration.UnsafeMethod(u.Method) && c.Target.Unsafe != declaration.UnsafeAllowed &&
			!isLogin(c.Doc, &u.Request) {
			f.why = "the target allows no unsafe request (unsafe: " + string(c.Target.Unsafe) + ")"
		}
		ofTarget := check.FillsOf(c.Doc, c.Target, "", "")
		f.call = check.Call{Name: f.name, As: check.As(c.Doc, &u.Request, as)}
		if !declaration.UnsafeMethod(u.Method) {
			f.call.Effect = check.Safe
		}
		f.call.Request = check.Template(&u.Request, func(n string) (check.Fill, bool) {
			if _, ok := u.With[n]; ok {
				return check.Fill{Slot: slotOf(k, n)}, true
			}
			if p.Record.Param != "" && (n == p.Record.Param || n == "id") {
				if p.Record.Lent() {
					return check.Fill{Slot: check.OnRecord}, true
				}
				return check.Fill{Text: p.Record.Value}, true
			}
			if v, ok := of(p).Params[n]; ok {
				return check.Fill{Text: v}, true
			}
			return ofTarget(n)
		})
		for n := range f.call.Request.Fill { // a link for it is asked for with what fills it
			if f.call.Request.Params == nil {
				f.call.Request.Params = map[string]string{}
			}
			f.call.Request.Params[n] = "{" + n + "}"
		}
		for _, n := range slices.Sorted(maps.Keys(u.With)) {
			f.take = append(f.take, check.Take{Slot: slotOf(k, n), At: string(u.With[n]), Plain: true})
			f.slots = append(f.slots, slotOf(k, n))
		}
		out = append(out, f)
	}
	return out
}

func slotOf(k int, name string) string { return fmt.Sprintf("then %d: %s", k, name) }

// send sends a follow-up after an admitted answer. Where it cannot be sent, its report says
// why.
func (f following) send(t *check.Telling, after check.Report) check.Report {
	for k, s := range f.slots {
		if after.Took[s] == "" {
			return check.Report{Name: f.name, Why: "the answer has nothing at " + f.take[k].At}
		}
	}
	if f.why != "" {
		return check.Report{Name: f.name, Why: f.why}
	}
	return t.Send(f.call)[0]
}

// isLogin says whether a request goes to a scheme's login: it is sent whatever `unsafe`
// says, since there is no other way to a token.
func isLogin(d *declaration.Document, q *declaration.Request) bool {
	return slices.ContainsFunc(d.Schemes, func(s *declaration.Scheme) bool {
		l := s.Login
		return l != nil && l.Method == q.Method && l.Host == q.Host && l.Path == q.Path
	})
}

// misses says what the answer to a follow-up does not show, "" when it shows everything.
func misses(u *declaration.FollowUp, a check.Answer) string {
	switch {
	case u.Status == 0 && (a.Status < 200 || a.Status >= 300):
		return fmt.Sprintf("answered %s in place of 2xx", a.Code())
	case u.Status != 0 && a.Status != u.Status:
		return fmt.Sprintf("answered %s in place of %d", a.Code(), u.Status)
	}
	for _, p := range u.Has {
		if _, ok := p.In(a.JSON()); !ok {
			return "its answer has no " + string(p)
		}
	}
	for _, p := range u.Lacks {
		if _, ok := p.In(a.JSON()); ok {
			return "its answer still has " + string(p)
		}
	}
	return ""
}
