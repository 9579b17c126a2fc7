// Package observing asks a target what it lets happen today, with safe reads, and keeps what was answered until it is
// asked again. What of that becomes part of a declaration somebody confirms, group by group.
//
// There is one observation at a time, and none beside a sweep: each would be part of what the other counts.
package observing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/room"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/observe"
	"millgate/store"
	"millgate/wire"
)

// lanes are requests in flight; silent is after how many without an answer, one after the other, a target is given up.
const lanes, silent = 8, 20

// mostShown is how much of an answer is kept to be looked at, in bytes.
const mostShown = 4000

// Holder lets no sweep begin until it is released.
type Holder interface {
	Hold(target string) (release func(), err error)
}

// Observing asks targets and keeps what was answered. It is safe for concurrent use.
type Observing struct {
	store  *store.Store
	events *events.Hub
	ws     *workspace.Workspace
	sweeps Holder

	mu      sync.Mutex
	running *run
	read    Observed // what was read last of the store; the zero one is of no target
}

func New(st *store.Store, hub *events.Hub, ws *workspace.Workspace, sweeps Holder) *Observing {
	return &Observing{store: st, events: hub, ws: ws, sweeps: sweeps}
}

// Observed is what was asked of a target, and what it answered.
type Observed struct {
	Target  string         `json:"target"`
	State   string         `json:"state"` // running, done, stopped or failed; "" where nothing was asked
	Note    string         `json:"note,omitempty"`
	At      time.Time      `json:"at"`
	Planned int            `json:"planned"`
	Done    int            `json:"done"`
	Seen    []observe.Seen `json:"seen"`
	Left    []observe.Left `json:"left"`
}

type run struct {
	mu   sync.Mutex
	o    Observed
	stop context.CancelFunc
	done chan struct{}
}

func (r *run) now() Observed {
	r.mu.Lock()
	defer r.mu.Unlock()
	o := r.o
	o.Seen = slices.Clone(o.Seen)
	return o
}

// Start begins to ask a target.
func (ob *Observing) Start(ctx context.Context, target string, choice observe.Choice) error {
	d, t, err := ob.ws.Present().Current(target)
	if err != nil {
		return err
	}
	if err := known(d, choice); err != nil {
		return err
	}
	c := &check.Context{Doc: d, Target: t}
	asks, left := observe.Plan(c, choice)
	if len(asks) == 0 {
		why := "there is no read that nobody has decided"
		if len(left) > 0 {
			why = fmt.Sprintf("none of %d reads can be sent; the first, %s: %s", len(left), left[0].Route, left[0].Why)
		}
		return fmt.Errorf("%w: nothing can be asked: %s", fault.ErrInput, why)
	}
	release, err := ob.sweeps.Hold(t.Name)
	if err != nil {
		return err
	}
	within, stop := context.WithCancel(context.WithoutCancel(ctx)) // secrets are looked up as long as it lasts
	client, keys, err := ob.ws.Connect(within, d, t)
	if err != nil {
		stop()
		release()
		return err
	}
	client.AtOnce(lanes)
	r := &run{stop: stop, done: make(chan struct{}), o: Observed{Target: t.Name, State: store.Running, At: time.Now(),
		Planned: len(asks), Seen: []observe.Seen{}, Left: append([]observe.Left{}, left...)}}
	ob.mu.Lock()
	ob.running, ob.read = r, Observed{}
	ob.mu.Unlock()
	go func() { //nolint:contextcheck // it lasts longer than the question
		defer close(r.done)
		defer release()
		defer client.Close()
		defer stop()
		ob.end(within, r, ob.ask(within, r, c, client, keys, asks))
	}()
	return nil
}

// known says which caller or route that somebody chose there is not.
func known(d *declaration.Document, choice observe.Choice) error {
	for _, n := range choice.Callers {
		if d.IdentityNamed(n) == nil {
			return fmt.Errorf("%w: there is no identity %q", fault.ErrInput, n)
		}
	}
	for _, key := range slices.Concat(choice.Also, choice.Only) {
		if d.RouteNamed(key) < 0 {
			return fmt.Errorf("%w: there is no route %q", fault.ErrInput, key)
		}
	}
	return nil
}

var errSilent = errors.New("it does not answer any more")

// ask sends everything, several beside each other, inside the target's pace and the declared quotas.
func (ob *Observing) ask(ctx context.Context, r *run, c *check.Context, client *wire.Client, keys *wire.Keyring,
	asks []observe.Ask) error {
	if err := client.Reach(ctx); err != nil {
		return err
	}
	rooms := room.New(c.Doc, c.Target, time.Now())
	runner := wire.Runner{Keys: keys, Stopping: ctx.Done(),
		Room: func(ctx context.Context, o wire.Outgoing, as check.Caller) error {
			return wait(ctx, rooms, c.Doc, o, as.Identity)
		}}
	var missed atomic.Int32
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(lanes)
	for _, a := range asks {
		g.Go(func() error {
			if within.Err() != nil {
				return within.Err()
			}
			s := a.Seen
			fact, err := runner.Run(within, check.Tell(func(t *check.Telling) { t.One(a.Call) }))
			switch {
			case within.Err() != nil:
				return within.Err()
			case len(fact.Reports) > 0:
				s = a.Answered(fact.Reports[0], c.Doc.Answers)
			case err != nil:
				s.Why = err.Error()
			}
			if s.Status == 0 && s.Exchange != nil {
				if missed.Add(1) >= silent {
					return errSilent
				}
			} else {
				missed.Store(0)
			}
			ob.tell(r, s)
			return nil
		})
	}
	return g.Wait()
}

// wait waits until the declared quotas have room for a request.
func wait(ctx context.Context, rooms *room.Room, d *declaration.Document, o wire.Outgoing, identity string) error {
	if rooms == nil {
		return nil
	}
	at := d.Inventory.Find(o.Method, o.Host, o.Path)
	for at >= 0 {
		left, _ := rooms.Wait(room.Request{Route: at, Identity: identity, Host: o.Host}, time.Now())
		if left == 0 || left > planning.LongestRoom {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(left):
		}
	}
	return nil
}

// tell keeps what an ask was answered, and says how far it is.
func (ob *Observing) tell(r *run, s observe.Seen) {
	if s.Exchange != nil {
		x := *s.Exchange
		if len(x.Content) > mostShown {
			x.Content, x.Truncated = strings.ToValidUTF8(x.Content[:mostShown], ""), true
		}
		s.Exchange = &x
	}
	r.mu.Lock()
	r.o.Seen = append(r.o.Seen, s)
	r.o.Done++
	p := events.Progress{Target: r.o.Target, Done: r.o.Done, Planned: r.o.Planned}
	r.mu.Unlock()
	ob.events.Send(events.Event{Type: events.Observing, Progress: &p})
}

// end keeps what was seen.
func (ob *Observing) end(ctx context.Context, r *run, err error) {
	r.mu.Lock()
	switch {
	case errors.Is(err, context.Canceled):
		r.o.State, r.o.Note = store.Stopped, fmt.Sprintf("stopped after %d of %d reads", r.o.Done, r.o.Planned)
	case err != nil:
		r.o.State, r.o.Note = store.Failed, err.Error()
	default:
		r.o.State = store.Done
	}
	slices.SortStableFunc(r.o.Seen, func(a, b observe.Seen) int {
		return strings.Compare(a.Route+"\n"+a.Identity+"\n"+a.Scheme, b.Route+"\n"+b.Identity+"\n"+b.Scheme)
	})
	o := r.o
	r.mu.Unlock()
	if text, merr := json.Marshal(o); merr == nil {
		if serr := ob.store.KeepObserved(context.WithoutCancel(ctx), o.Target, text); serr != nil {
			r.mu.Lock()
			r.o.Note = strings.TrimPrefix(r.o.Note+"; it could not be stored: "+serr.Error(), "; ")
			r.mu.Unlock()
		}
	}
	ob.events.Send(events.Event{Type: events.Observing, Progress: &events.Progress{Target: o.Target, Done: o.Done,
		Planned: o.Planned, Ended: true}})
}

// current is the observation of a target that runs, or ended last in this process.
func (ob *Observing) current(target string) *run {
	ob.mu.Lock()
	defer ob.mu.Unlock()
	if ob.running != nil && ob.running.now().Target == target {
		return ob.running
	}
	return nil
}

// Stop ends what runs against a target, and returns when it has ended.
func (ob *Observing) Stop(target string) {
	if r := ob.current(target); r != nil {
		r.stop()
		<-r.done
	}
}

// Close ends what runs.
func (ob *Observing) Close() {
	ob.mu.Lock()
	r := ob.running
	ob.mu.Unlock()
	if r != nil {
		r.stop()
		<-r.done
	}
}

// Wait returns when what runs against a target has ended, or the context has.
func (ob *Observing) Wait(ctx context.Context, target string) {
	if r := ob.current(target); r != nil {
		select {
		case <-r.done:
		case <-ctx.Done():
			r.stop()
			<-r.done
		}
	}
}

// Of is what was asked of a target last.
func (ob *Observing) Of(ctx context.Context, target string) (o Observed, err error) {
	if r := ob.current(target); r != nil {
		return r.now(), nil
	}
	ob.mu.Lock()
	o, began := ob.read, ob.running
	ob.mu.Unlock()
	if target != "" && o.Target == target {
		return o, nil
	}
	o = Observed{Target: target, Seen: []observe.Seen{}, Left: []observe.Left{}}
	switch text, err := ob.store.Observed(ctx, target); {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return Observed{}, err
	default:
		if err := json.Unmarshal(text, &o); err != nil {
			return Observed{}, err
		}
	}
	ob.mu.Lock()
	defer ob.mu.Unlock()
	if ob.running == began { // else it may be of before what ran meanwhile
		ob.read = o
	}
	return o, nil
}

// LetIn are the identities whom a target let in when it was observed.
func (ob *Observing) LetIn(ctx context.Context, target string) (map[string]bool, error) {
	o, err := ob.Of(ctx, target)
	if err != nil {
		return nil, err
	}
	return observe.LetIn(o.Seen), nil
}

// Look is what was observed, in groups, beside a text.
type Look struct {
	Observed
	Doc     *declaration.Document // that the text says
	Groups  []observe.Group
	Guesses []observe.Entry // for writes, from the reads beside them
	Lost    []string        // identities whose credentials opened nothing, or NAME with SCHEME
	Decided int             // routes of the text
	Routes  int
}

// Look reads what was observed of a target beside a text that is not kept yet; "" is the one that is.
func (ob *Observing) Look(ctx context.Context, target, text string) (Look, error) {
	d := ob.ws.Present().Doc
	if text != "" {
		d, _ = ob.ws.Parse(text)
	}
	o, err := ob.Of(ctx, target)
	if err != nil {
		return Look{}, err
	}
	list, lost := observe.Read(d, o.Seen)
	l := Look{Observed: o, Doc: d, Groups: observe.GroupsOf(d, list), Guesses: observe.Guesses(d),
		Routes: len(d.Routes), Lost: lost}
	for i := range d.Routes {
		if !access.IsUndecided(d, i) {
			l.Decided++
		}
	}
	return l, nil
}

// Confirm writes what groups say into a text, and what was guessed for routes; "all" are all groups of which
// nothing looks wrong. It gives the lines that it wrote.
func (ob *Observing) Confirm(ctx context.Context, target, text string, groups, guesses []string,
	at time.Time) (out string, wrote []string, err error) {
	l, err := ob.Look(ctx, target, text)
	if err != nil {
		return "", nil, err
	}
	if l.State == store.Running {
		return "", nil, fmt.Errorf("%w: it is still being asked, and what comes may say otherwise; wait for it, or "+
			"stop it", fault.ErrInput)
	}
	if text == "" {
		text = ob.ws.Present().Text
	}
	var list []observe.Entry
	found := map[string]bool{"all": true}
	for _, g := range l.Groups {
		found[g.ID] = true
		all := slices.Contains(groups, "all") && g.Odd == "" && !g.Confirmed && g.Entry != nil
		switch named := slices.Contains(groups, g.ID); {
		case named && g.Entry == nil:
			return "", nil, fmt.Errorf("%w: %s says nothing that can be confirmed: %s", fault.ErrInput, g.ID, g.Why)
		case named || all:
			list = append(list, observe.Entry{Rule: *g.Entry, Routes: g.Keys(l.Doc), How: "observed"})
		}
	}
	for _, id := range groups {
		if !found[id] {
			return "", nil, fmt.Errorf("%w: there is no group %q of what was observed; look again", fault.ErrInput, id)
		}
	}
	for _, e := range l.Guesses {
		e.Routes = slices.DeleteFunc(slices.Clone(e.Routes),
			func(k string) bool { return !slices.Contains(guesses, k) })
		if len(e.Routes) > 0 {
			list = append(list, e)
		}
	}
	if out, err = observe.Confirm(text, at, ob.ws.Parse, list...); err != nil {
		return "", nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	return out, added(text, out), nil
}

// added are the lines of a text that an earlier one does not have.
func added(before, after string) (out []string) {
	had := map[string]bool{}
	for _, l := range strings.Split(before, "\n") {
		had[l] = true
	}
	for _, l := range strings.Split(after, "\n") {
		if !had[l] {
			out = append(out, strings.TrimSpace(l))
		}
	}
	return out
}
