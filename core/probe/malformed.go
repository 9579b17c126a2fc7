package probe

import (
	"millgate/core/access"
	"millgate/core/declaration"
)

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
