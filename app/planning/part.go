package planning

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/room"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
)

// Part is which probes of a plan a sweep sends. The zero Part is all of them.
type Part struct {
	Controls bool             // what must be admitted alone, and the logins that it needs
	At       []route.Selector // at these routes
	Kinds    []string         // of these kinds, as the plan counts them
	Budget   time.Duration    // those that are worth most, in that time; 0 all
	Shard    Shard            // of these, what one of several runners sends
}

// Narrow says whether probes are left out that nobody asked for.
func (p Part) Narrow() bool { return p.Controls || len(p.At) > 0 || len(p.Kinds) > 0 || p.Shard.Of > 0 }

// OverBudget begins what is said of a probe that a budget leaves out.
const OverBudget = "the budget of "

// Chosen are the probes of a part.
type Chosen struct {
	Probes []*check.Probe    // that the sweep is about
	Leave  map[string]string // those of them that are not sent, by key, with the reason
	Budget time.Duration     // after which no more are sent; 0 without
	Shard  Shard             // the runner that sends them
	Shares room.Shares       // of counters that others send to meanwhile; nil without others

	elsewhere map[string]bool // records that another shard probes
}

// Left is why a probe is not sent when its turn comes so long after the beginning; "" where it is.
func (c Chosen) Left(p *check.Probe, after time.Duration) string {
	if p.Unsafe && c.elsewhere[onRecord(p)] {
		return "it may change a record that another shard probes"
	}
	if why := c.Leave[p.Key()]; why != "" || c.Budget == 0 || after <= c.Budget {
		return why
	}
	return OverBudget + c.Budget.String() + " was over before their turn came"
}

// Among are the probes of a plan whose keys are wanted, with their controls and what these rest on, in its order.
func Among(pl *check.Plan, wanted map[string]bool) (out []*check.Probe) {
	want := make(map[string]bool, len(wanted))
	for key := range wanted {
		for p := pl.Find(key); p != nil && !want[p.Key()]; p = pl.Find(p.Control) {
			want[p.Key()] = true
		}
	}
	for _, p := range pl.Probes {
		if want[p.Key()] {
			out = append(out, p)
		}
	}
	return out
}

// Choose chooses the probes of a part. What a narrow one does not ask for joins what the plan leaves out.
func (p Part) Choose(d *declaration.Document, t *declaration.Target, pl *check.Plan) (c Chosen, err error) {
	if err := p.known(d, pl); err != nil {
		return c, err
	}
	var asked []*check.Probe
	for _, x := range pl.Probes {
		if p.asks(d, x) {
			asked = append(asked, x)
		}
	}
	c.Probes = Among(pl, keysOf(asked))
	if n := len(pl.Probes) - len(c.Probes); n > 0 && !p.Controls {
		pl.Left = append(pl.Left, check.Omission{Route: "every other route", What: fmt.Sprintf("%d probes", n),
			Why: "only some routes or kinds were asked for"})
	}
	if c.Shard = p.Shard; p.Shard.Of > 0 {
		all := len(c.Probes)
		if err := p.Shard.take(pl, asked, &c); err != nil {
			return c, err
		}
		if n := all - len(c.Probes); n > 0 {
			pl.Left = append(pl.Left, check.Omission{Route: "every other shard", What: fmt.Sprintf("%d probes", n),
				Why: "they are for other runners"})
		}
	}
	if len(c.Probes) == 0 {
		return c, fmt.Errorf("%w: there is nothing to send: no probe is of what was asked for", fault.ErrInput)
	}
	if c.Budget = p.Budget; p.Budget > 0 {
		c.Leave, err = p.leave(d, p.Shard.Paced(t), pl, c)
	}
	return c, err
}

// keysOf are the keys of probes.
func keysOf(list []*check.Probe) map[string]bool {
	want := make(map[string]bool, len(list))
	for _, x := range list {
		want[x.Key()] = true
	}
	return want
}

// asks says whether a probe is asked for by what it is.
func (p Part) asks(d *declaration.Document, x *check.Probe) bool {
	return (!p.Controls || x.IsControl) && (len(p.At) == 0 || d.Selects(p.At, x.Route)) &&
		(len(p.Kinds) == 0 || slices.Contains(p.Kinds, snapshot.KindOf(x)))
}

// known says which words of a part mean nothing.
func (p Part) known(d *declaration.Document, pl *check.Plan) error {
	var kinds []string
	for _, x := range pl.Probes {
		if k := snapshot.KindOf(x); !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	sort.Strings(kinds)
	for _, k := range p.Kinds {
		if slices.Contains(kinds, k) {
			continue
		}
		return fmt.Errorf("%w: no probe is of the kind %q; %s", fault.ErrInput, k,
			declaration.HintAt(k, kinds, "there are "+strings.Join(kinds, ", ")))
	}
	for _, s := range p.At {
		if !slices.ContainsFunc(d.Routes, func(rt *declaration.Route) bool {
			return d.Selects([]route.Selector{s}, rt.Key())
		}) {
			return fmt.Errorf("%w: %s selects no route", fault.ErrInput, s)
		}
	}
	return nil
}

// leave says which probes a budget leaves out: those that are worth most go first, each with its control, as
// many as are expected to fit.
func (p Part) leave(d *declaration.Document, t *declaration.Target, pl *check.Plan,
	c Chosen) (map[string]string, error) {
	list := c.Probes
	worst := map[string]finding.Kind{}
	for _, f := range pl.Families {
		worst[f.Name()] = f.Causes().Worst()
	}
	worth := make(map[*check.Probe]int, len(list))
	for _, x := range list {
		worth[x] = worthOf(d, x, worst[x.Family])
	}
	ranked := slices.Clone(list)
	slices.SortStableFunc(ranked, func(a, b *check.Probe) int { return cmp.Compare(worth[b], worth[a]) })
	first := func(n int) []*check.Probe { return Among(pl, keysOf(ranked[:n])) }
	takes := func(n int) time.Duration {
		part := *pl
		part.Probes = first(n)
		return TimesOf(d, t, &part, c.Shares).Whole
	}
	n := sort.Search(len(ranked), func(n int) bool { return takes(n+1) > p.Budget })
	if n == 0 {
		return nil, fmt.Errorf("%w: in %s nothing can be sent; the first probe alone takes %s", fault.ErrInput,
			p.Budget, takes(1).Round(100*time.Millisecond))
	}
	sent, out := keysOf(first(n)), map[string]string{}
	for _, x := range list {
		if !sent[x.Key()] {
			out[x.Key()] = OverBudget + p.Budget.String() + " is for what is worth more"
		}
	}
	return out, nil
}

// worthOf is how grave a gap would be that a probe can show, of the worst kind that its family finds.
func worthOf(d *declaration.Document, x *check.Probe, worst finding.Kind) int {
	ease := finding.ByAFew
	if x.Caller.Identity == "" {
		ease = finding.ByAnyone
	}
	effect, sens := declaration.Read, declaration.Medium
	if i := d.RouteNamed(x.Route); i >= 0 {
		effect, sens = d.Routes[i].Effect, d.Routes[i].Sensitivity
	}
	return finding.Weigh(worst, effect, sens, ease).Points()
}
