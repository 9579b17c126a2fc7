package sessions

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/finding"
	"millgate/testkit/play"
)

func TestEndedOnOneNode(t *testing.T) {
	s := newIssuer()
	s.nodes = true
	v, _ := judging(t, s, nil)
	kind, sure, cause := play.Said(v)
	assert.Equal(t, []any{finding.Lifetime, finding.Proven, "session one-node"}, []any{kind, sure, cause})
	s = newIssuer()
	s.nodesFor = time.Second
	v, _ = judging(t, s, nil)
	assert.Empty(t, v.Gaps, "its nodes tell each other a moment later")
}

// What was ended is buried once it was refused, and tried again.
func TestBuried(t *testing.T) {
	d, x := drill(t, "")
	buries := func(s *issuer) (out []check.Bury) {
		script := Script(d, d.Targets[0], x)
		var last []check.Report
		for now := time.Duration(0); ; now += time.Second {
			step := script.Next(now, last)
			if step.Ends() {
				return out
			}
			if last = nil; step.Bury != nil {
				out = append(out, *step.Bury)
			}
			for _, c := range step.Send {
				r := s.answer(c, now)
				r.Name, r.Begin, r.End = c.Name, now, now
				last = append(last, r)
			}
		}
	}
	list := buries(newIssuer())
	require.Len(t, list, 1)
	assert.Equal(t, check.Caller{Identity: "ann", Scheme: "s"}, list[0].Caller)
	assert.Empty(t, buries(&issuer{of: map[string]int{}, used: map[string]bool{}, ended: map[int]time.Duration{},
		slots: map[string]string{}, lingers: time.Hour}), "one that works on was never refused")

	p, c := plan(t, "all", "", map[string]string{"ann s": "/a"})
	probe := p.Probes[slices.IndexFunc(p.Probes, func(x *check.Probe) bool { return x.Of == endedBefore })]
	for _, x := range []struct {
		name     string
		statuses []int
		want     finding.Kind
		sure     finding.Confidence
		says     string
	}{
		{"refused still", []int{401, 401}, finding.Agrees, finding.Proven, "refused still: 2 tried"},
		{"one is admitted", []int{401, 200, 200}, finding.Lifetime, finding.Proven, "1 of 2 credentials of ann"},
		{"one was, a moment long", []int{401, 200, 401}, finding.Agrees, finding.Proven, "refused still: 2 tried"},
		{"none was ended", nil, finding.Unproven, finding.NotSure, "no session was ended"},
	} {
		n := -1
		f, _ := play.Run(Family{}.Script(c, probe), -1, func(call check.Call, _ time.Duration) check.Report {
			r := check.Report{Fate: check.Answered, Took: map[string]string{}}
			if call.Name == play.Recalled {
				for i := range min(len(x.statuses), 2) {
					r.Took["buried "+string(rune('0'+i))] = "‹x›"
				}
				return r
			}
			n++
			assert.Equal(t, "buried "+string(rune('0'+min(n, 1))), call.As[0].Slot)
			r.Exchange.Status = x.statuses[n]
			return r
		})
		v := Family{}.Judge(c, probe, &f, nil)
		kind, sure, _ := play.Said(v)
		says := v.Says
		for _, g := range v.Gaps {
			says += g.Says
		}
		assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, says)
		assert.Contains(t, says, x.says, x.name)
		assert.LessOrEqual(t, len(Family{}.Outcomes(c, probe, &f)), len(f.Reports))
	}
}
