package workspace

import (
	"context"

	"millgate/core/declaration"
	"millgate/wire"
)

// Connection is what a test of a target's connection showed.
type Connection struct {
	OK    bool
	Steps []Step
}

// Step is one part of the test.
type Step struct {
	Name string
	OK   bool
	Text string
}

// TestTarget connects to every host of the target and obtains a credential
// for each identity.
func (ws *Workspace) TestTarget(ctx context.Context, target string) (Connection, error) {
	d, t, err := ws.Present().Current(target)
	if err != nil {
		return Connection{}, err
	}
	out := Connection{OK: true}
	add := func(name string, err error, ok string) {
		s := Step{Name: name, OK: err == nil, Text: ok}
		if err != nil {
			s.Text, out.OK = err.Error(), false
		}
		out.Steps = append(out.Steps, s)
	}
	c, err := ws.Client(ctx, t, "")
	if err == nil {
		err = c.Reach(ctx)
	}
	add("connect", err, "every host takes connections")
	if err != nil {
		return out, nil
	}
	defer c.Close()
	keys := wire.NewKeyring(d, t, c, ws.Secrets(ctx))
	for _, id := range d.Identities {
		for _, cr := range id.Credentials {
			s := d.SchemeNamed(cr.Scheme.Name)
			if s == nil {
				continue
			}
			if s.Kind == declaration.Link && s.Issue != nil {
				add(id.Name+", "+s.Name, nil, "is given out where it is used")
				continue
			}
			var o wire.Outgoing
			_, err := keys.Present(ctx, &o, id.Name, s.Name)
			add(id.Name+", "+s.Name, err, "a credential is at hand")
		}
	}
	return out, nil
}
