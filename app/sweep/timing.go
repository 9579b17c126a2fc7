package sweep

import (
	"context"
	"fmt"

	"millgate/app/fault"
	"millgate/core/check"
	"millgate/core/check/logins"
	"millgate/core/declaration"
	"millgate/core/session"
	"millgate/wire"
)

// timingPairs are the logins of each kind that are compared.
const TimingPairs = 12

// CompareLogins compares how long a login with a wrong secret takes for a
// known and for an unknown name. Nothing of it is kept.
func (sw *Sweeps) CompareLogins(ctx context.Context, target, identity, scheme string) (session.Timing, error) {
	d, t, err := sw.ws.Present().Current(target)
	if err != nil {
		return session.Timing{}, err
	}
	id, s := d.IdentityNamed(identity), d.SchemeNamed(scheme)
	switch {
	case sw.busy():
		return session.Timing{}, fmt.Errorf("%w: its requests would be part of what is measured", fault.ErrBusy)
	case id == nil || s == nil || s.Login == nil || id.Credential(scheme) == nil:
		return session.Timing{}, fmt.Errorf("%w: %s does not log in with %s", fault.ErrInput, identity, scheme)
	case t.Unsafe != declaration.UnsafeAllowed:
		return session.Timing{}, fmt.Errorf("%w: target %s does not allow wrong logins; write  unsafe: allowed",
			fault.ErrInput, t.Name)
	}
	c, keys, err := sw.ws.Connect(ctx, d, t)
	if err != nil {
		return session.Timing{}, err
	}
	defer c.Close()
	f, err := wire.Runner{Keys: keys}.Run(ctx,
		logins.Timing(&check.Context{Doc: d, Target: t}, identity, scheme, TimingPairs))
	if err != nil {
		return session.Timing{}, err
	}
	m, _ := f.Data.(*logins.Timed)
	if m.Lost != "" {
		return session.Timing{}, fmt.Errorf("%w: %s", wire.ErrUnreachable, m.Lost)
	}
	return session.Compare(m.Known, m.Unknown), nil
}
