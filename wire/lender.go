package wire

// Rule: What is lent is shared as long as it is as it was.

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"millgate/core/check"
)

// Lender keeps the throwaway records that scripts of one sweep lend. Its zero value is
// ready.
type Lender struct {
	mu   sync.Mutex
	lent map[string]*loan // by key
}

// Making is the record of something that is made, from before it is.
type Making interface {
	// Made says that it was made, and what its id is.
	Made(id string) error
	// None says that it was not made, and why.
	None(why string) error
	// Gone says that nothing is left of it to remove.
	Gone() error
}

// loan is a record that was lent.
type loan struct {
	key    string
	id     string
	report check.Report
	made   Making
}

type nothingKept struct{}

func (nothingKept) Made(string) error { return nil }
func (nothingKept) None(string) error { return nil }
func (nothingKept) Gone() error       { return nil }

// lend fills a slot with what is lent. Where nothing could be made the report has taken
// nothing, and the script's run ends with the reason unless something else was sent.
func (r *running) lend(ctx context.Context, l check.Lend) (check.Report, error) {
	x, err := r.borrow(ctx, l)
	var not *notMade
	if errors.As(err, &not) {
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.unsent == nil {
			r.unsent = err
		}
		return not.report, nil
	}
	if err != nil {
		return check.Report{}, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.lent == nil {
		r.lent = map[string]*loan{}
	}
	r.slots[l.Slot], r.lent[l.Slot] = x.id, x
	return x.report, nil
}

// notMade is why a record could not be made.
type notMade struct {
	record, why string
	report      check.Report
	cause       error
}

func (n *notMade) Error() string {
	return fmt.Sprintf("no throwaway %s could be made: %s", n.record, n.why)
}
func (n *notMade) Unwrap() error { return n.cause }

// borrow gives what is lent under a key, and makes it where there is nothing yet.
func (r *running) borrow(ctx context.Context, l check.Lend) (*loan, error) {
	if r.Lender != nil && l.Key != "" {
		r.Lender.mu.Lock()
		x := r.Lender.lent[l.Key]
		r.Lender.mu.Unlock()
		if x != nil {
			return x, nil
		}
	}
	made := Making(nothingKept{})
	if r.Making != nil {
		var err error
		if made, err = r.Making(l); err != nil {
			return nil, err
		}
	}
	had := r.unsent
	report, err := r.call(ctx, l.Make)
	if err != nil {
		return nil, err // whether it was made is not known
	}
	x := &loan{key: l.Key, id: report.Took[l.Slot], report: report, made: made}
	if st := report.Exchange.Status; st >= 200 && st < 300 && x.id != "" {
		if err := made.Made(x.id); err != nil {
			return nil, err
		}
		if r.Lender != nil && l.Key != "" {
			r.Lender.mu.Lock()
			defer r.Lender.mu.Unlock()
			if r.Lender.lent == nil {
				r.Lender.lent = map[string]*loan{}
			}
			r.Lender.lent[l.Key] = x
		}
		return x, nil
	}
	n := &notMade{record: l.Record, report: report}
	switch st := report.Exchange.Status; {
	case report.Fate == check.Unsent:
		n.why, n.cause = report.Why, r.unsent
		r.mu.Lock()
		r.unsent = had // lend tells it with what it was for
		r.mu.Unlock()
	case st == 0:
		n.why = report.Why
		return nil, n // whether it was made is not known
	default:
		n.why = fmt.Sprintf("%s was answered %d", l.Make.Name, st)
		if st < 300 && len(l.Make.Take) > 0 {
			n.why += ", without an id at " + l.Make.Take[0].At
		}
	}
	if err := made.None(n.why); err != nil {
		return nil, err
	}
	return nil, n
}

// back ends a loan: nobody else is lent it.
func (r *running) back(b check.Back) error {
	r.mu.Lock()
	x := r.lent[b.Slot]
	r.mu.Unlock()
	if x == nil {
		return nil
	}
	if r.Lender != nil && x.key != "" {
		r.Lender.mu.Lock()
		if r.Lender.lent[x.key] == x {
			delete(r.Lender.lent, x.key)
		}
		r.Lender.mu.Unlock()
	}
	if b.Gone {
		return x.made.Gone()
	}
	return nil
}
