package quota

import (
	"fmt"
	"math/rand"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// world is a simulated service: calls take a few milliseconds, now and then much
// longer, and the first longest.
type world struct {
	limits []Limit
	phase  int64
	start  int64 // ticks after which it begins
	hold   int64 // ticks that a call takes beyond that
	slow   int   // every so many calls are slow by themselves; 0 none
	late   int64 // ticks that a third of the calls comes late, and a third of the answers, at most
	drill  Drill
}

// drive runs the world's drill.
func (w world) drive(seed int64) *Drill {
	r := rand.New(rand.NewSource(seed)) //nolint:gosec // the same each time
	g := NewGate(w.limits)
	now := int64(1_790_000_000_000_000) + w.start
	d := &w.drill
	call := func(at int64) Seen {
		took := int64(1000+r.Intn(1500)) + w.hold
		switch {
		case len(d.Calls) == 0:
			took += 40_000
		case w.slow > 0 && len(d.Calls)%w.slow == 0:
			took += 200_000
		case r.Intn(60) == 0:
			took += int64(r.Intn(9_000))
		}
		came := at + 500 + w.phase
		if w.late > 0 && r.Intn(3) == 0 {
			off := r.Int63n(w.late)
			came, took = came+off, took+off
		}
		if w.late > 0 && r.Intn(3) == 0 {
			took += r.Int63n(w.late)
		}
		dec := g.Call(came, max(1, w.hold))
		if dec.OK {
			took += dec.At - came
		} else {
			took -= w.hold
		}
		return Seen{At: at, Took: took, OK: dec.OK}
	}
	for !d.Done() {
		s := d.Next(now)
		if s.Many == 0 {
			break
		}
		now = max(now, s.At)
		if s.Beside {
			var list []Seen
			for k := range int64(s.Many) {
				list = append(list, call(now+k*40))
			}
			for _, c := range list {
				now = max(now, c.At+c.Took)
			}
			d.SawBeside(list)
			continue
		}
		for range s.Many {
			c := call(now)
			d.Saw(c)
			now += c.Took
			if s.Stop && d.Enough() {
				break
			}
		}
		if s.Stop {
			d.Filled()
		}
	}
	return d
}

func drive(l []Limit, phase int64, budget Budget, burst int, seed int64) *Drill {
	return world{limits: l, phase: phase, drill: Drill{Budget: budget, Burst: burst}}.drive(seed)
}

func TestADrillFindsTheLimiter(t *testing.T) {
	ms := int64(1000)
	for k, l := range []Limit{
		{Kind: FixedFirst, N: 8, W: 2000 * ms}, {Kind: FixedFirst, N: 30, W: 1000 * ms},
		{Kind: FixedFirst, N: 3, W: 3000 * ms},
		{Kind: SlidingLog, N: 8, W: 2000 * ms}, {Kind: SlidingLog, N: 30, W: 1000 * ms},
		{Kind: SlidingLog, N: 5, W: 4000 * ms},
		{Kind: FixedClock, N: 8, W: 2000 * ms}, {Kind: FixedClock, N: 20, W: 1000 * ms},
		{Kind: Bucket, N: 10, W: 2000 * ms, Burst: 10}, {Kind: Bucket, N: 20, W: 1000 * ms, Burst: 5},
		{Kind: Bucket, N: 2, W: 1000 * ms, Burst: 6},
		{Kind: TwoCounters, N: 10, W: 2000 * ms}, {Kind: TwoCounters, N: 20, W: 1000 * ms},
	} {
		t.Run(fmt.Sprintf("%s %d per %d ms", l.Kind, l.N, l.W/ms), func(t *testing.T) {
			t.Parallel()
			d := drive([]Limit{l}, 337*ms, Budget{Calls: 400, Ticks: 90 * second}, 100, int64(k))
			require.NotEmpty(t, d.Fits)
			rest := Remaining(d.Fits, len(d.Calls))
			var kinds []Kind
			var mine *Fit
			for i, f := range rest {
				if !slices.Contains(kinds, f.Kind) {
					kinds = append(kinds, f.Kind)
				}
				if f.Kind == l.Kind && mine == nil {
					mine = &rest[i]
				}
			}
			require.NotNil(t, mine, "%v of %+v", kinds, d.Fits)
			assert.LessOrEqual(t, len(kinds), 2, "%v", kinds)
			if l.Kind == Bucket {
				assert.InEpsilon(t, l.W/l.N, mine.W, 0.1, "the time of a token")
				assert.InDelta(t, l.Burst, mine.Burst, max(1, float64(l.Burst)/10))
			} else {
				assert.Equal(t, l.N, mine.N)
				assert.InEpsilon(t, l.W, mine.W, 0.1)
			}
			t.Logf("%d calls in %.1f s: %v, misses %d", len(d.Calls), float64(d.Calls[len(d.Calls)-1].At-d.begun)/1e6,
				kinds, mine.Misses)
		})
	}
}

func TestADrillOfNothing(t *testing.T) {
	d := drive(nil, 0, Budget{Calls: 200, Ticks: 10 * second}, 60, 1)
	assert.Len(t, d.Calls, 60)
	assert.Empty(t, d.Fits, "what never refused has no limiter that is known")
}

// One answer that comes late among many that waited in turn does not change how far
// apart they are.
func TestALateAnswerIsNoOtherSpacing(t *testing.T) {
	const each = 100_000
	d := &Drill{}
	now := int64(0)
	see := func(took int64, idle bool) {
		d.Calls = append(d.Calls, Seen{At: now, Took: took, OK: true, Idle: idle})
		now += took
	}
	see(500, false)
	for k := range 60 {
		took := int64(each) + int64(k%2)*800 - 400
		if k == 35 { // and the next has its turn when it would have had it
			took += 25_000
		} else if k == 36 {
			took -= 25_000
		}
		see(took, false)
	}
	for range 4 {
		now += 400_000
		see(300, true)
	}
	fits := Infer(d.Calls, nil)
	require.NotEmpty(t, fits)
	assert.Equal(t, Bucket, fits[0].Kind)
	assert.InEpsilon(t, each, fits[0].W, 0.02)
}

// recorded are calls to a limiter of 5 in each second, as a drill made them: the
// millisecond, and whether it was admitted.
const recorded = `
0+ 0+ 0+ 1+ 1+ 1- 16- 32- 49- 64- 79- 95- 110- 125- 141- 156- 171- 187- 202- 217- 233- 248- 263- 280- 297- 
316- 335- 356- 378- 401- 426- 453- 481- 511- 542- 575- 610- 647- 687- 729- 773- 820- 869- 922- 978- 1037+ 
1038+ 1038+ 1038+ 1038+ 1038- 2023+ 2023+ 2023+ 2023+ 2023+ 2024- 2959- 2984- 3009+ 5221+ 5221+ 6203+ 6204+ 
6204+ 6204+ 7284+ 7284+ 7284+ 7284+ 7284+ 7285- 8685+ 8685+ 9195+ 9196+ 9196+ 9196+ 9755+ 9755- 9755- 9756- 
9756- 9756- 10902+ 10903+ 11411+ 11411+ 11412+ 11412+ 11971+ 11972- 11972- 11972- 11972- 11972- 13119+ 13120+ 
13628+ 13629+ 13629+ 13629- 14188+ 14188+ 14188+ 14188+ 14188+ 14189- 14485- 14485- 14485- 14485- 14504- 
14568- 14631- 14693- 14757- 14820- 14882- 14945- 15008+ 15071+ 15135+ 15197+ 15260+ 15324- 15387- 15449- 
15513- 15576- 15639- 15702- 15765- 15828- 15891- 15954- 16017+ 16080+ 16143+ 16206+ 16269+ 16332- 16396- 
16458- 16521- 16584- 16647- 16710-
`

// The clock that windows stand on began long ago: whenever the drill is run, and however
// far its windows are apart in large steps, the window is the same.
func TestWheneverItIsDrilled(t *testing.T) {
	var calls []Seen
	for _, f := range strings.Fields(recorded) {
		ms, err := strconv.ParseInt(f[:len(f)-1], 10, 64)
		require.NoError(t, err)
		calls = append(calls, Seen{At: 1_790_000_000_000_000 + ms*1000, Took: 300, OK: f[len(f)-1] == '+'})
	}
	for k := range int64(5) {
		shifted := slices.Clone(calls)
		for i := range shifted {
			shifted[i].At += k * 83_172_454
		}
		told := Told(Infer(shifted, nil), len(shifted))
		require.NotEmpty(t, told)
		for _, f := range told {
			assert.Equal(t, []any{FixedClock, int64(5)}, []any{f.Kind, f.N})
			assert.InEpsilon(t, second, f.W, 0.01)
		}
	}
}

// A queue that lets one call through each 100 ms, as a drill met it on a machine that took
// the processor away for half a second: answers came late, and not each of them was seen
// to. Each line of the file has when a call was sent in seconds, how long its answer took in
// milliseconds, whether it was admitted (+), a gap in the drill's own clock (g) or a pause
// before it (i), and its batch.
func TestLateAnswersOfAQueue(t *testing.T) {
	text, err := os.ReadFile("testdata/late-answers.txt")
	require.NoError(t, err)
	var calls []Seen
	for _, l := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		f := strings.Fields(l)
		at, err := strconv.ParseFloat(f[0], 64)
		require.NoError(t, err)
		took, err := strconv.ParseFloat(f[1], 64)
		require.NoError(t, err)
		batch, err := strconv.Atoi(f[3])
		require.NoError(t, err)
		calls = append(calls, Seen{At: 1_790_000_000_000_000 + int64(at*1e6), Took: int64(took * 1000),
			OK: strings.Contains(f[2], "+"), Gap: strings.Contains(f[2], "g"), Idle: strings.Contains(f[2], "i"),
			Batch: batch})
	}
	for _, k := range []int64{0, 3} { // whenever it is drilled
		shifted := slices.Clone(calls)
		for i := range shifted {
			shifted[i].At += k * 83_172_454
		}
		told := Told(Infer(shifted, nil), len(alone(shifted)))
		require.NotEmpty(t, told)
		for _, f := range told {
			assert.InEpsilon(t, 100_000, float64(f.W)/float64(f.N), 0.02, "%s", f.Limit)
		}
	}
}
