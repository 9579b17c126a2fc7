package wire

import (
	"context"
	"errors"
	"time"

	"millgate/core/access"
	"millgate/core/check"
)

// errUnsent is a call that could not be sent; its report says why.
var errUnsent = errors.New("not sent")

// pairTries is how often what is sent twice is tried.
const pairTries = 3

// sent sends a call as often as it may be sent, and gives the last answer. left says that
// a request went out. Each time its credentials are presented anew: what is signed bears its
// time, and may be admitted once.
func (r *running) sent(ctx context.Context, c check.Call, report *check.Report) (x raw, left bool, err error) {
	who, pair := check.Caller{}, false
	if len(c.As) > 0 {
		who, pair = c.As[0].Caller, c.As[0].Way == check.Repeated
	}
	if who.State == access.Broken {
		who.Identity = "" // quotas count nobody
	}
	before := func() error {
		if r.Intend != nil && (c.Effect == check.Unsafe || c.Effect == check.Creates) {
			if err := r.Intend(c); err != nil {
				return err
			}
		}
		left = true
		return nil
	}
	renewed := false
	for try := 0; ; {
		if pair { // what is sent twice has room for both before the first, which goes while it is presented
			o := Outgoing{Method: c.Request.Method, Host: c.Request.Host, Path: c.Request.Path}
			for range 2 {
				if err := r.room(ctx, o, who); err != nil {
					return x, left, err
				}
			}
			if err := before(); err != nil {
				return x, left, err
			}
		}
		o, epoch, err := r.outgoing(ctx, c)
		if ctx.Err() != nil {
			return x, left, ctx.Err()
		}
		var early *Throttled
		if err != nil && (c.Counts != "" || !errors.As(err, &early)) { // what its login is answered is no answer to it
			report.Why = r.k.client.mask.Text(err.Error())
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.unsent == nil {
				r.unsent = err
			}
			return x, left, errUnsent
		}
		o.Before, o.Counted, o.Within, o.Apart = before, c.Counts != "", c.Within, c.Apart
		switch {
		case pair:
		case c.Counts != "":
			if err := r.beside(ctx, c, report); err != nil {
				return x, left, err
			}
		default:
			if err := r.room(ctx, o, who); err != nil {
				return x, left, err
			}
		}
		if early != nil {
			x = early.raw
		} else if x, err = r.k.client.send(ctx, o); err != nil {
			return x, left, err
		}
		if again := r.again(who); c.Retry && again != nil {
			again, err := again(ctx, o, r.k.client.masked(x), try)
			if err != nil {
				return x, left, err
			}
			if again && (!pair || try+1 < pairTries) {
				try++
				report.Repeats++
				continue
			}
		}
		if renewed || !r.k.Unsound(c, x.Status) || !r.ended(ctx, c, epoch) && (!c.Must || !r.renews(ctx, c, epoch)) {
			return x, left, nil
		}
		renewed = true
		report.Repeats++
	}
}

// room waits until the quotas that count a call have room for it; what is undone waits for
// none.
func (r *running) room(ctx context.Context, o Outgoing, who check.Caller) error {
	if r.Room == nil || r.undoing {
		return nil
	}
	return r.Room(ctx, o, who)
}

// beside waits for room in the quotas beside the one that a call fills.
func (r *running) beside(ctx context.Context, c check.Call, report *check.Report) (err error) {
	if r.Beside == nil {
		return nil
	}
	var waited time.Duration
	if waited, err = r.Beside(ctx, c); errors.Is(err, ErrCrowded) {
		report.Why, err = check.Crowded, errUnsent
	}
	report.Room += waited
	return err
}

// renews renews the credential of a call that was refused, where it is worth that.
func (r *running) renews(ctx context.Context, c check.Call, epoch int) bool {
	if len(c.As) != 1 || c.As[0].Slot != "" || c.As[0].Identity == "" {
		return false
	}
	who := c.As[0].Caller
	return (r.Renews == nil || r.Renews(who, epoch)) && r.k.Renew(ctx, who.Identity, who.Scheme, epoch) == nil
}

// ended says whether a call bore a credential that ended by itself while it was under way. The next
// time it bears another.
func (r *running) ended(ctx context.Context, c check.Call, epoch int) bool {
	if len(c.As) != 1 || c.As[0].Slot != "" || c.As[0].Identity == "" || c.As[0].Way != "" || c.As[0].Fresh {
		return false
	}
	who := c.As[0].Caller
	return who.State == access.Sound && r.k.Dead(ctx, who.Identity, who.Scheme, epoch)
}

// again is what decides whether the answer to who asked is one: without more the keyring's.
func (r *running) again(who check.Caller) answered {
	if r.Again == nil {
		return r.k.Answered
	}
	return func(ctx context.Context, o Outgoing, x check.Exchange, try int) (bool, error) {
		return r.Again(ctx, o, who, x, try)
	}
}
