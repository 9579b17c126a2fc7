package planning

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/room"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Shard is one of several runs, each on a runner of its own, that send a sweep together. The zero Shard is all
// of it.
type Shard struct {
	Number int `json:"number"` // from 1
	Of     int `json:"of"`
	// Alone: no other runner sends while this one does, so that pace and quotas are its own.
	Alone bool `json:"alone,omitempty"`
}

// MostShards is more than anybody starts by mistake.
const MostShards = 1000

// ParseShard reads "2/5".
func ParseShard(text string) (s Shard, err error) {
	number, of, _ := strings.Cut(text, "/")
	if s.Number, err = strconv.Atoi(number); err == nil {
		s.Of, err = strconv.Atoi(of)
	}
	if err != nil || s.Number < 1 || s.Number > s.Of || s.Of > MostShards {
		return Shard{}, fmt.Errorf("%w: %q is no shard; write for example 2/5, the second of five", fault.ErrInput,
			text)
	}
	return s, nil
}

// String is "2/5"; "" for all of it.
func (s Shard) String() string {
	if s.Of == 0 {
		return ""
	}
	return fmt.Sprint(s.Number, "/", s.Of)
}

// Paced is a target that is sent to at a shard's part of the pace.
func (s Shard) Paced(t *declaration.Target) *declaration.Target {
	if s.Of <= 1 || s.Alone {
		return t
	}
	out := *t
	out.Pace.Count, out.Pace.Per = cmp.Or(t.Pace.Count, declaration.DefaultPace.Count),
		cmp.Or(t.Pace.Per, declaration.DefaultPace.Per)*time.Duration(s.Of)
	return &out
}

// parcels are probes that one runner must send, by what they have in common:
//
//   - the route, so that what an unsafe probe did can be put down to it;
//   - an unsafe control, which another one would meet in another state: it is sent once;
//   - a record of the declaration that one of them may change, so that nobody looks at it meanwhile;
//   - links of a scheme, which are asked for in one mailbox: a new one may end those before;
//   - for the last one, what disturbs others wherever they are: it is sent when they have ended.
type parcels struct {
	up   map[string]string // from a parcel that joined another to that
	last map[*check.Probe]bool
}

// theLast is the parcel of the last shard.
const theLast = "last"

// onRecord names a record of the declaration that a probe is sent on, "" where it is none.
func onRecord(p *check.Probe) string {
	if p.Record.Value == "" {
		return ""
	}
	return "record " + p.Record.Name + " " + p.Record.Value
}

// of is the parcel that one has become a part of.
func (x parcels) of(name string) string {
	for x.up[name] != "" {
		name = x.up[name]
	}
	return name
}

// join makes one parcel of two; the last shard's keeps its name.
func (x parcels) join(a, b string) {
	if a, b = x.of(a), x.of(b); a == theLast {
		a, b = b, a
	}
	if a != b {
		x.up[a] = b
	}
}

// parcel is that of a probe.
func (x parcels) parcel(p *check.Probe) string {
	if x.last[p] {
		return x.of(theLast)
	}
	return x.of("route " + p.Route)
}

// parcelled puts probes of a plan into parcels.
func parcelled(pl *check.Plan, list []*check.Probe) parcels {
	x, changes := parcels{map[string]string{}, map[*check.Probe]bool{}}, map[string]bool{}
	widened, nothing := pl.Copy(), check.NewEvidence(func(string) *check.Fact { return nil })
	for _, p := range list {
		if p.Unsafe && onRecord(p) != "" {
			changes[onRecord(p)] = true
		}
		x.last[p] = slices.ContainsFunc(widened.Widen(p, nothing), func(q *check.Probe) bool {
			return q.Unsafe && onRecord(q) != "" // it may lead to changes anywhere
		})
		for q := p; q != nil; q = pl.Find(q.Control) { // it ends sessions, fills quotas or closes accounts
			x.last[p] = x.last[p] || q.Phase > check.ThenDeleting
		}
	}
	for _, p := range list {
		for q := p; q != nil; q = pl.Find(q.Control) {
			if changes[onRecord(q)] {
				x.join(x.parcel(p), onRecord(q))
			}
			if q.Unsafe {
				x.join(x.parcel(p), x.parcel(q))
			}
			if s := pl.Context.Doc.SchemeNamed(q.Caller.Scheme); s != nil && s.Kind == declaration.Link {
				x.join(x.parcel(p), "links of "+s.Name)
			}
		}
	}
	return x
}

// split gives each shard its probes: parcels, the greatest first, each to whom has least to send. The same list
// is split in the same way wherever that is done.
func (s Shard) split(pl *check.Plan, list []*check.Probe) (map[*check.Probe]int, error) {
	x := parcelled(pl, list)
	requests, names := map[string]int{}, []string{}
	for _, p := range list {
		name := x.parcel(p)
		if requests[name] == 0 {
			names = append(names, name)
		}
		requests[name] += max(1, pl.Family(p).Cost(pl.Context, p).Requests)
		if p.Record.Lent() {
			requests[name] += lending
		}
	}
	if len(names) < s.Of {
		return nil, fmt.Errorf("%w: what is planned can be split among %d runners at most; use --shard K/%d",
			fault.ErrInput, len(names), len(names))
	}
	slices.SortStableFunc(names, func(a, b string) int { return cmp.Compare(requests[b], requests[a]) })
	load, at := make([]int, s.Of), map[string]int{}
	give := func(name string, to int) { at[name], load[to] = to, load[to]+requests[name] }
	if requests[theLast] > 0 {
		give(theLast, s.Of-1)
	}
	for _, name := range names {
		if name != theLast {
			give(name, slices.Index(load, slices.Min(load)))
		}
	}
	out := make(map[*check.Probe]int, len(list))
	for _, p := range list {
		out[p] = at[x.parcel(p)] + 1
	}
	return out, nil
}

// take leaves the probes that are a shard's of those that are asked for. What the others send meanwhile is what its
// counters are shared with.
func (s Shard) take(pl *check.Plan, asked []*check.Probe, c *Chosen) error {
	home, err := s.split(pl, asked)
	if err != nil {
		return err
	}
	of := make([][]*check.Probe, s.Of)
	c.elsewhere = map[string]bool{} // the last one is sent when nobody looks at them any more
	for _, p := range asked {
		n := home[p] - 1
		if of[n] = append(of[n], p); n != s.Number-1 && s.Number < s.Of && onRecord(p) != "" {
			c.elsewhere[onRecord(p)] = true
		}
	}
	c.Probes = Among(pl, keysOf(of[s.Number-1]))
	if s.Alone {
		return nil
	}
	senders := map[string]int{}
	for _, theirs := range of {
		for name := range Counters(pl, theirs) {
			senders[name]++
		}
	}
	c.Shares = func(counter string) int { return cmp.Or(senders[counter], s.Of) }
	return nil
}

// Counters are the counters that count what probes of a plan send, by their names, each with its quota: what it sends
// for their credentials and records among it.
func Counters(pl *check.Plan, list []*check.Probe) map[string]string {
	x := course{d: pl.Context.Doc, t: pl.Context.Target, pl: pl}
	x.counting = room.Counting(x.d, x.t)
	out := map[string]string{}
	for _, p := range list {
		for _, at := range x.sends(p) {
			for _, n := range x.counting.Counters(at) {
				out[n.Name] = n.Quota
			}
		}
	}
	return out
}
