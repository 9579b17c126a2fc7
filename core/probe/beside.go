package probe

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/route"
)

// asControl presents a probe as the control caller of a route.
func (pl *planner) asControl(p *Probe, ctl *Probe) {
	p.Identity, p.Scheme, p.State = ctl.Identity, ctl.Scheme, ctl.State
	p.Control = ctl.ID
}

// malformed plans an impossible id for each parameter of each template, as a
// caller that gets as far as the handler.
func (pl *planner) malformed() {
	seen := map[string]bool{}
	try := func(i int) {
		rt := pl.d.Routes[i]
		for _, name := range rt.Parameters() {
			k := rt.TemplateKey() + "?" + name
			ctl := pl.controls[i]
			if seen[k] || ctl == nil || rt.Unsafe() && pl.t.Unsafe != declaration.UnsafeAllowed {
				continue
			}
			seen[k] = true
			p := *ctl
			p.Check, p.shown = nil, nil
			p.Kind, p.IsControl, p.StandsFor = Malformed, false, nil
			p.Param, p.Params = name, map[string]string{}
			for n, v := range ctl.Params {
				p.Params[n] = v
			}
			if p.Record.Param != "" && p.Record.Param != name {
				// Another parameter is malformed; a known record stands here.
				p.Params[p.Record.Param] = p.Record.ID
			}
			if s := pl.d.SchemeNamed(ctl.Scheme); s != nil && s.Kind == declaration.Link {
				// The link itself is a sound one: for a record that there is.
				if p.OtherID = ctl.Params[name]; p.OtherID == "" {
					p.OtherID = ctl.Record.ID
				}
			}
			p.Record = RecordUse{}
			p.Params[name] = "not'an\"id<\\>"
			p.Expect = access.Expectation{Outcome: access.Closed}
			if rt.Unsafe() {
				p.Phase = UnsafeTurnedAway
			}
			p.Control = ctl.ID
			pl.add(&p)
		}
	}
	for i, rt := range pl.d.Routes {
		if !rt.Unsafe() {
			try(i)
		}
	}
	for i, rt := range pl.d.Routes {
		if rt.Unsafe() {
			try(i)
		}
	}
}

// otherMethods plans methods that the inventory does not have for a template,
// as nobody and as a caller that one of the declared methods admits.
func (pl *planner) otherMethods() {
	done := map[string]bool{}
	for i, rt := range pl.d.Routes {
		if done[rt.TemplateKey()] {
			continue
		}
		done[rt.TemplateKey()] = true
		sib := pl.d.Inventory.Siblings(i)
		have := map[string]bool{}
		var ctl *Probe
		body := -1
		for _, j := range sib {
			have[pl.d.Routes[j].Method()] = true
			if c := pl.controls[j]; c != nil && (ctl == nil || ctl.Identity == "") {
				ctl = c
			}
			if len(pl.d.Routes[j].Send.JSON) > 0 {
				body = j
			}
		}
		for _, m := range []string{"GET", "POST", "PUT", "PATCH", "DELETE"} {
			if have[m] {
				continue
			}
			callers := []*Probe{nil}
			if ctl != nil && ctl.Identity != "" {
				callers = append(callers, ctl)
			}
			for _, caller := range callers {
				p, why := pl.undeclared(sib[0], m)
				if p == nil {
					if caller == nil {
						pl.leave(m+" "+route.Hosted(rt.Host, rt.Path()), "", "a method that is not declared", why)
					}
					continue
				}
				p.Kind = OtherMethod
				if body >= 0 && m != "GET" && m != "DELETE" {
					p.Route = body
				} else {
					p.WithBody = false
				}
				if caller != nil {
					pl.asControl(p, caller)
				}
				pl.add(p)
			}
		}
	}
}

// undeclared drafts a request with method m at the template of route i.
func (pl *planner) undeclared(i int, m string) (*Probe, string) {
	rt := pl.d.Routes[i]
	unsafe := declaration.UnsafeMethod(m)
	if unsafe && pl.t.Unsafe == declaration.UnsafeRefused {
		return nil, "the target does not allow unsafe methods"
	}
	p := &Probe{Route: i, RouteKey: m + " " + route.Hosted(rt.Host, rt.Path()), Method: m, Host: rt.Host,
		Path: rt.Path(), State: access.Absent,
		Params: map[string]string{}, Expect: access.Expectation{Outcome: access.Hide, Decider: 1, Subject: "route"},
		Phase: Safe}
	if unsafe {
		p.Phase = UnsafeTurnedAway
	}
	for _, name := range rt.Parameters() {
		if v, ok := rt.Send.Path[name]; ok && !unsafe {
			p.Params[name] = v
			continue
		}
		rec := pl.drafts.Fills(i, name, pl.d.Record(i))
		if rec == nil {
			if v, ok := rt.Send.Path[name]; ok && pl.t.Unsafe == declaration.UnsafeAllowed {
				p.Params[name] = v
				continue
			}
			return nil, fmt.Sprintf("no sample for {%s}", name)
		}
		known, why := pl.drafts.Record(i, rec, name, nil, access.NoRecord, unsafe, true)
		if why != "" {
			return nil, why
		}
		use := recordOf(known, access.NoRecord)
		if p.Record.Name != "" {
			p.Params[name] = use.ID
			continue
		}
		p.Record = use
	}
	if unsafe && pl.t.Unsafe == declaration.UnsafeMade && !p.Record.Made {
		return nil, "the target allows unsafe methods on made records only, and this route has none"
	}
	return p, ""
}

// Prefix groups routes: the host and the path up to the first segment behind a
// version, or the first segment.
func Prefix(s route.Selector) string {
	var out []string
	for _, g := range s.Segments {
		if g.Any || g.Literal == "" {
			break
		}
		out = append(out, g.Literal)
		if !version.MatchString(g.Literal) {
			break
		}
	}
	return route.Hosted(s.Host, "/"+strings.Join(out, "/"))
}

var version = regexp.MustCompile(`^v(\d+)$`)

const nowhere = "no-such-place-4f1d"

func (pl *planner) stray(kind Kind, host, path string) *Probe {
	return pl.add(&Probe{Kind: kind, Route: -1, RouteKey: "GET " + route.Hosted(host, path), Method: "GET", Host: host,
		Path: path, State: access.Absent,
		Expect: access.Expectation{Outcome: access.Hide, Decider: 1, Subject: "route"}, Phase: Safe})
}

// unknownPaths plans a path that nobody serves under each prefix, and one at
// the root of each host.
func (pl *planner) unknownPaths() {
	done := map[string]bool{}
	for _, rt := range pl.d.Routes {
		for _, prefix := range []string{route.Hosted(rt.Host, "/"), Prefix(rt.Selector)} {
			if done[prefix] {
				continue
			}
			done[prefix] = true
			path := strings.TrimSuffix(strings.TrimPrefix(prefix, rt.Host+":"), "/") + "/" + nowhere + "/at-all"
			if pl.d.Inventory.Find("GET", rt.Host, path) < 0 {
				pl.stray(UnknownPath, rt.Host, path)
			}
		}
	}
}

// neighbours plans addresses close to the declared ones.
func (pl *planner) neighbours() {
	var caller *Probe
	for _, c := range pl.controls {
		if c != nil && c.Identity != "" {
			caller = c
			break
		}
	}
	ask := func(host, path string, signedIn bool) {
		if pl.d.Inventory.Find("GET", host, path) >= 0 {
			return
		}
		root := "unknown-path|GET " + route.Hosted(host, "/"+nowhere+"/at-all") + "|nobody||absent||"
		pl.stray(Neighbour, host, path).Control = root
		if signedIn && caller != nil {
			p := *pl.stray(Neighbour, host, path)
			p.Identity, p.Scheme, p.State, p.Control = caller.Identity, caller.Scheme, access.Sound, root
			pl.add(&p)
		}
	}
	for _, rt := range pl.d.Routes {
		if rt.Method() != "GET" || len(rt.Parameters()) > 0 {
			continue
		}
		for k, g := range rt.Segments {
			m := version.FindStringSubmatch(g.Literal)
			if m == nil {
				continue
			}
			n, err := strconv.Atoi(m[1])
			if err != nil {
				break
			}
			for v := max(0, n-2); v < n; v++ {
				segs := strings.Split(rt.Path()[1:], "/")
				segs[k] = "v" + strconv.Itoa(v)
				ask(rt.Host, "/"+strings.Join(segs, "/"), true)
			}
			break
		}
	}
	hosts := []string{""}
	for h := range pl.t.Hosts {
		hosts = append(hosts, h)
	}
	sort.Strings(hosts)
	for _, h := range hosts {
		if h != "" && !slices.ContainsFunc(pl.d.Routes, func(r *declaration.Route) bool { return r.Host == h }) {
			continue
		}
		for _, p := range OperationalPaths {
			ask(h, p, false)
		}
	}
	for _, p := range pl.t.AskFor {
		ask("", p, true)
	}
}
