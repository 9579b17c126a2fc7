package history

import (
	"fmt"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/finding"
)

// Rule: Nothing is called mended that was not probed, and no finding is lost.

// sweepOf has a gap at "a" of finding mg-1, unless what is said of its probes is something else.
func sweepOf(gap bool, probed map[string]Probed) Sweep {
	s := Sweep{Probed: probed}
	if gap {
		s.Findings = []finding.Finding{{ID: "mg-1", Kind: finding.Unprotected, Severity: finding.High,
			Probes: []string{"a", "b"}}}
	}
	return s
}

func probed(a, b finding.Kind, expects string) map[string]Probed {
	return map[string]Probed{"a": {Kind: a, Expects: expects}, "b": {Kind: b, Expects: "refuse"}}
}

func TestStates(t *testing.T) {
	u, ok := finding.Unprotected, finding.Agrees
	gap := sweepOf(true, probed(u, u, "refuse"))
	clear := sweepOf(false, probed(ok, ok, "refuse"))
	moved := sweepOf(false, probed(ok, ok, "admit"))
	for _, x := range []struct {
		name   string
		sweeps []Sweep
		state  State
		why    string
	}{
		{"new", []Sweep{gap}, New, ""},
		{"new, late", []Sweep{clear, gap}, New, ""},
		{"open", []Sweep{gap, gap}, Open, ""},
		{"mended", []Sweep{gap, clear}, Mended, ""},
		{"mended still", []Sweep{gap, clear, clear}, Mended, ""},
		{"back", []Sweep{gap, clear, gap}, Back, ""},
		{"back, then open", []Sweep{gap, clear, gap, gap}, Open, ""},
		{"moved", []Sweep{gap, moved}, MovedOn, `expected was "refuse", and is "admit": a`},
		{"back after it moved", []Sweep{gap, moved, gap}, Back, ""},
		{"one is unproven", []Sweep{gap, sweepOf(false, probed(ok, finding.Unproven, "refuse"))}, NotChecked,
			"unproven: b"},
		{"one is not planned", []Sweep{gap, sweepOf(false, map[string]Probed{"a": {Kind: ok, Expects: "refuse"}})},
			NotChecked,
			"not planned any more: b"},
		{"one was not sent", []Sweep{gap, sweepOf(false, probed(ok, finding.Unprobed, "refuse"))}, NotChecked,
			"not sent: b"},
		{"moved, and one is not planned", []Sweep{gap, sweepOf(false, map[string]Probed{"a": {Kind: ok,
			Expects: "admit"}})}, MovedOn, `expected was "refuse", and is "admit": a`},
		{"none is planned", []Sweep{gap, sweepOf(false, nil)}, NotChecked, "not planned any more: b"},
		{"another gap", []Sweep{gap, sweepOf(false, probed(ok, finding.Leaking, "refuse"))}, NotChecked,
			"it shows another gap: b"},
		{"not checked, then open", []Sweep{gap, sweepOf(false, nil), gap}, Open, ""},
		{"mended, not checked, back", []Sweep{gap, clear, sweepOf(false, nil), gap}, Back, ""},
	} {
		lines := Follow(x.sweeps)
		require.Len(t, lines, 1, x.name)
		l := lines[0]
		assert.Equal(t, x.state, l.Now(), x.name)
		assert.Equal(t, x.why, l.Whys[len(l.Whys)-1], x.name)
		assert.Len(t, l.Marks, len(x.sweeps), x.name)
	}
	assert.Empty(t, Follow([]Sweep{clear, moved}), "there was never a gap")

	// One that only followed a gap is not sent where there is none.
	wide := sweepOf(true, map[string]Probed{"a": {Kind: u}, "b": {Kind: u, Widens: true}})
	alone := map[string]Probed{"a": {Kind: ok}}
	assert.Equal(t, Mended, Follow([]Sweep{wide, sweepOf(false, alone)})[0].Now())
	assert.Equal(t, NotChecked, Follow([]Sweep{wide, sweepOf(false, map[string]Probed{"c": {Kind: ok}})})[0].Now())
	both := sweepOf(true, map[string]Probed{"a": {Kind: u, Widens: true}, "b": {Kind: u, Widens: true}})
	l := Follow([]Sweep{both, sweepOf(false, nil)})[0]
	assert.Equal(t, []any{NotChecked, "what its probes followed was not seen"}, []any{l.Now(), l.Whys[1]})
	l = Follow([]Sweep{clear, gap, sweepOf(false, nil), clear, sweepOf(false, nil)})[0]
	assert.Equal(t, []int{1, 1, 3, 4}, []int{l.First, l.Last, l.Judged, l.From()})
	assert.Equal(t, 2, Follow([]Sweep{gap, clear, gap, gap})[0].From(), "back, then open")
	assert.Equal(t, 1, Follow([]Sweep{gap, clear, clear})[0].From(), "mended still")
	assert.Equal(t, 0, Follow([]Sweep{gap, sweepOf(false, nil), gap})[0].From(), "new, not checked, then open")
	assert.Equal(t, []State{Unknown, New, NotChecked, Mended, NotChecked, Unknown}, []State{l.At(0), l.At(1), l.At(2),
		l.At(3), l.At(4), l.At(5)})
}

func TestBetween(t *testing.T) {
	u, ok := finding.Unprotected, finding.Agrees
	gap, clear := sweepOf(true, probed(u, u, "refuse")), sweepOf(false, probed(ok, ok, "refuse"))
	moved, unseen := sweepOf(false, probed(ok, ok, "admit")), sweepOf(false, nil)
	for _, x := range []struct {
		name   string
		sweeps []Sweep
		a, b   int
		change Change
	}{
		{"new", []Sweep{clear, gap}, 0, 1, IsNew},
		{"came between", []Sweep{clear, gap, gap}, 0, 2, IsBack},
		{"came and went and came", []Sweep{clear, gap, clear, gap}, 0, 3, IsBack},
		{"back", []Sweep{gap, clear, gap}, 1, 2, IsBack},
		{"back after it was not looked at", []Sweep{gap, unseen, gap}, 1, 2, IsBack},
		{"unchanged", []Sweep{gap, clear, gap}, 0, 2, Unchanged},
		{"mended", []Sweep{gap, unseen, clear}, 0, 2, IsMended},
		{"moved", []Sweep{gap, moved}, 0, 1, HasMoved},
		{"not checked", []Sweep{gap, unseen}, 0, 1, NotSeen},
		{"in neither", []Sweep{gap, clear, unseen}, 1, 2, NoChange},
		{"not yet", []Sweep{clear, clear, gap}, 0, 1, NoChange},
	} {
		l := Follow(x.sweeps)[0]
		assert.Equal(t, x.change, l.Between(x.a, x.b), x.name)
	}
	lines := Follow([]Sweep{clear, gap})
	assert.Len(t, Stops(lines, 0, 1, finding.FailOn{Least: finding.High}), 1)
	assert.Empty(t, Stops(lines, 0, 1, finding.FailOn{Least: finding.Critical, Kinds: []finding.Kind{finding.Leaking}}))
	assert.Len(t, Stops(lines, 0, 1, finding.FailOn{Least: finding.Critical, Kinds: []finding.Kind{u}}), 1)
	assert.Empty(t, Stops(Follow([]Sweep{gap, gap}), 0, 1, finding.FailOn{Least: finding.Low}), "it was there")
	came, went := Apart(finding.Finding{Probes: []string{"a", "b"}}, finding.Finding{Probes: []string{"b", "c"}})
	assert.Equal(t, [][]string{{"c"}, {"a"}}, [][]string{came, went})
}

// Over random histories each state obeys its rule.
func TestStatesOfRandomHistories(t *testing.T) {
	kinds := []finding.Kind{finding.Agrees, finding.Agrees, finding.Unprotected, finding.Unproven, finding.Leaking, ""}
	for seed := range int64(400) {
		r := rand.New(rand.NewSource(seed)) //nolint:gosec // the same each time
		var sweeps []Sweep
		for range 2 + r.Intn(8) {
			s := Sweep{Probed: map[string]Probed{}}
			gaps := map[string][]string{}
			for k := range 6 {
				p := fmt.Sprint("p", k)
				kind := kinds[r.Intn(len(kinds))]
				if kind == "" {
					continue // not sent
				}
				s.Probed[p] = Probed{Kind: kind, Expects: []string{"refuse", "refuse", "refuse", "admit"}[r.Intn(4)]}
				if kind.IsGap() {
					id := fmt.Sprint("mg-", kind, k%3)
					gaps[id] = append(gaps[id], p)
				}
			}
			for _, k := range []finding.Kind{finding.Unprotected, finding.Leaking} {
				for n := range 3 {
					if id := fmt.Sprint("mg-", k, n); gaps[id] != nil {
						s.Findings = append(s.Findings, finding.Finding{ID: id, Kind: k, Probes: gaps[id]})
					}
				}
			}
			sweeps = append(sweeps, s)
		}
		lines := Follow(sweeps)
		seen := map[string]bool{}
		for _, l := range lines {
			assert.False(t, seen[l.Finding.ID], "one line for each")
			seen[l.Finding.ID] = true
			obeys(t, sweeps, l)
		}
		for _, s := range sweeps {
			for _, f := range s.Findings {
				assert.True(t, seen[f.ID], "none is lost")
			}
		}
	}
}

// obeys holds the states of a line against what they say.
func obeys(t *testing.T, sweeps []Sweep, l *Line) {
	t.Helper()
	rests, as := map[string]Probed{}, finding.Finding{}
	was := false // a gap at some time
	for i, s := range sweeps {
		is := false
		for _, f := range s.Findings {
			if f.ID == l.Finding.ID {
				is, as = true, f
			}
		}
		state := l.At(i)
		require.Equal(t, is, state.Asks(), "%s at %d", state, i)
		require.Equal(t, !is && !was, state == Unknown)
		require.Equal(t, is && !was, state == New)
		if is {
			was = true
			for _, p := range as.Probes {
				rests[p] = s.Probed[p]
			}
			continue
		}
		if state != Mended && state != MovedOn {
			continue
		}
		same, all, any := true, true, false
		for _, p := range as.Probes {
			now, ok := s.Probed[p]
			if all = all && ok; !ok {
				continue
			}
			any = true
			require.Equal(t, finding.Agrees, now.Kind, "it agrees")
			same = same && now.Expects == rests[p].Expects
		}
		require.True(t, any, "it was probed")
		require.Equal(t, same, state == Mended, "mended needs the same expectation")
		require.True(t, all || state == MovedOn, "mended needs all of them")
	}
}

// A waiver is shown in the place of what a gap would be; what grows beyond what was accepted is open again.
func TestWaived(t *testing.T) {
	u, ok := finding.Unprotected, finding.Agrees
	gap := func(waived *finding.Waived, callers ...string) Sweep {
		s := sweepOf(true, probed(u, u, "refuse"))
		s.Findings[0].Waived, s.Findings[0].Callers = waived, callers
		return s
	}
	graver := func(s Sweep) Sweep { s.Findings[0].Severity = finding.Critical; return s }
	clear := sweepOf(false, probed(ok, ok, "refuse"))
	any, again := &finding.Waived{Reason: "so", Whoever: true}, &finding.Waived{Reason: "and so", Whoever: true}
	named := &finding.Waived{Reason: "so"}
	for _, x := range []struct {
		name   string
		sweeps []Sweep
		state  State
		why    string
	}{
		{"at once", []Sweep{gap(any, "ann")}, Waived, ""},
		{"later", []Sweep{gap(nil, "ann"), gap(any, "ann")}, Waived, ""},
		{"still", []Sweep{gap(any, "ann"), gap(any, "ann")}, Waived, ""},
		{"ended", []Sweep{gap(any, "ann"), gap(nil, "ann")}, Open, ""},
		{"fewer callers", []Sweep{gap(any, "ann", "bob"), gap(any, "ann")}, Waived, ""},
		{"another caller", []Sweep{gap(any, "ann"), gap(any, "ann", "bob")}, Open,
			"it was accepted before bob showed it"},
		{"another caller, still", []Sweep{gap(any, "ann"), gap(any, "bob"), gap(any, "bob")}, Open,
			"it was accepted before bob showed it"},
		{"another caller, accepted anew", []Sweep{gap(any, "ann"), gap(any, "bob"), gap(again, "bob")}, Waived, ""},
		{"another caller, and the waiver names them", []Sweep{gap(named, "ann"), gap(named, "bob")}, Waived, ""},
		{"graver", []Sweep{gap(any, "ann"), graver(gap(any, "ann"))}, Open, "it was accepted as high, and is critical"},
		{"less grave", []Sweep{graver(gap(any, "ann")), gap(any, "ann")}, Waived, ""},
		{"back, for others", []Sweep{gap(any, "ann"), clear, gap(any, "bob")}, Waived, ""},
		{"mended", []Sweep{gap(any, "ann"), clear}, Mended, ""},
	} {
		l := Follow(x.sweeps)[0]
		i := len(x.sweeps) - 1
		assert.Equal(t, x.state, l.Now(), x.name)
		assert.Equal(t, x.why, l.Whys[i], x.name)
		assert.Equal(t, x.state != Waived, l.Finding.Waived == nil || x.state == Mended, x.name)
	}
}

// The last sweep read anew keeps the states of what stayed, and says what did not.
func TestAnew(t *testing.T) {
	u, ok := finding.Unprotected, finding.Agrees
	gap, clear := sweepOf(true, probed(u, u, "refuse")), sweepOf(false, probed(ok, ok, "refuse"))
	moved := sweepOf(false, probed(ok, ok, "admit"))
	anew := func(s Sweep) Sweep { s.Anew = true; return s }
	for _, x := range []struct {
		name   string
		before []Sweep
		now    Sweep
		state  State
	}{
		{"new stays new", []Sweep{clear, gap}, anew(gap), New},
		{"back stays back", []Sweep{gap, clear, gap}, anew(gap), Back},
		{"open stays open", []Sweep{gap, gap}, anew(gap), Open},
		{"mended by what was sent again", []Sweep{gap}, anew(clear), Mended},
		{"moved by another declaration", []Sweep{gap}, anew(moved), MovedOn},
		{"shown by what was sent again", []Sweep{clear}, anew(gap), New},
		{"back by what was sent again", []Sweep{gap, clear}, anew(gap), Back},
	} {
		var b Book
		for _, s := range x.before {
			b.Add(s)
		}
		n := 0
		for _, l := range b.Lines {
			n += len(l.Marks)
		}
		assert.Equal(t, x.state, b.With(x.now)[0].Now(), x.name)
		for _, l := range b.Lines {
			n -= len(l.Marks)
		}
		assert.Zero(t, n, "the book stays as it is")
		b.Add(x.now)
		assert.Equal(t, x.state, b.Lines[0].Now(), x.name)
	}
	more := gap
	more.Findings = []finding.Finding{{ID: "mg-1", Probes: []string{"b", "c"}}}
	l := Follow([]Sweep{gap, gap, more})[0]
	assert.Equal(t, []Turn{{2, []string{"c"}, []string{"a"}}}, l.Turns, "it says what came and went")
}
