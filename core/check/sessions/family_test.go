package sessions

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/testkit/play"
)

// judging plays a drill against an issuer and judges what was seen, through the store.
func judging(t *testing.T, s *issuer, change func(*check.Fact)) (check.Verdict, []check.Outcome) {
	t.Helper()
	d, x := drill(t, "")
	c := &check.Context{Doc: d, Target: d.Targets[0]}
	p := &check.Probe{ID: check.ID{Family: "session", Route: "POST /in",
		Caller: check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}}, Detail: Detail{Use: x.Use}}
	f, _ := play.Run(Family{}.Script(c, p), -1, s.answer)
	f.Family, f.Version = Family{}.Name(), Family{}.Version()
	if change != nil {
		change(&f)
	}
	b, err := json.Marshal(f)
	require.NoError(t, err)
	var back check.Fact
	require.NoError(t, json.Unmarshal(b, &back))
	require.NoError(t, back.Read(check.Families{Family{}}))
	return Family{}.Judge(c, p, &back, nil), Family{}.Outcomes(c, p, &back)
}

func TestAsDeclared(t *testing.T) {
	v, steps := judging(t, newIssuer(), nil)
	assert.Empty(t, v.Gaps)
	assert.Equal(t, finding.Proven, v.Proof.Confidence())
	assert.Equal(t, "the session goes as declared, in 21 steps", v.Says)
	require.Len(t, steps, 21)
	assert.Equal(t, check.Outcome{Worked: true, Wanted: "works"}, steps[0])
	assert.Contains(t, steps, check.Outcome{Wanted: "refused"})
}

// Each fault is a gap at everything behind the scheme, with what it rests on: where the
// answer that it rests on was not seen whole, it is likely and no more.
func TestGaps(t *testing.T) {
	for cause, change := range map[string]func(*issuer){
		"session logout-nobody": func(s *issuer) { s.anybody = true },
		"afterlife":             func(s *issuer) { s.lingers = time.Hour },
	} {
		s := newIssuer()
		change(s)
		v, _ := judging(t, s, nil)
		require.NotEmpty(t, v.Gaps, cause)
		for _, g := range v.Gaps {
			assert.Equal(t, cause, g.Cause.Cause)
			assert.Equal(t, "everything behind s", g.Scope.String())
			assert.Equal(t, finding.Proven, g.Proof.Confidence(), g.Says)
		}
		// What it rests on decides, and nothing else.
		rests := map[string][]string{
			"session logout-nobody": {session.LogOutNobody},
			"afterlife": {session.LogOut, session.UseAfterLogout, session.AskIssuerAfter,
				session.RefreshAfterLogout},
		}[cause]
		for of, want := range map[bool]finding.Confidence{true: finding.Likely, false: finding.Proven} {
			s = newIssuer()
			change(s)
			v, _ = judging(t, s, func(f *check.Fact) {
				for i := range f.Reports {
					f.Reports[i].Exchange.Truncated = of == slices.Contains(rests, f.Reports[i].Name)
				}
			})
			require.NotEmpty(t, v.Gaps)
			for _, g := range v.Gaps {
				assert.Equal(t, want, g.Proof.Confidence(), g.Says)
			}
		}
	}
}

func TestNothingToJudge(t *testing.T) {
	s := newIssuer()
	v, _ := judging(t, s, func(f *check.Fact) { f.Data = nil })
	assert.Equal(t, "the session did not work when it was new: answered 0", v.Says)
	assert.Equal(t, finding.NotSure, v.Proof.Confidence())
	v, _ = judging(t, newIssuer(), func(f *check.Fact) {
		m := f.Data.(*Measured)
		i := slices.IndexFunc(m.Steps, func(s session.Step) bool { return s.Name == session.Use })
		m.Steps[i].Worked, m.Steps[i].Status = false, 403
	})
	assert.Equal(t, "the session did not work when it was new: answered 403", v.Says,
		"it shows nothing, whatever came after")
	assert.Empty(t, v.Gaps)

	_, err := Family{}.Decode(99, []byte("{}"))
	require.Error(t, err, "what a later version keeps is not guessed at")
	var f check.Fact
	require.NoError(t, json.Unmarshal([]byte(`{"family":"gone","data":{}}`), &f))
	require.ErrorContains(t, f.Read(check.Families{Family{}}), `no checks named "gone"`)
}

// Every step that a judgement rests on is one that a drill has.
func TestEveryGapHasARow(t *testing.T) {
	catalogue := finding.NewCatalogue(Family{}.Causes())
	for _, r := range session.DrillCauses {
		got, ok := catalogue.Row(r.Kind, r.Cause)
		assert.True(t, ok)
		assert.Same(t, r, got)
	}
}

// What an earlier version kept of a drill lives as long as it did then.
func TestADrillOfBefore(t *testing.T) {
	began := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	assert.Equal(t, time.Hour, Before(session.Drilled{Life: time.Hour}, began).Of(began).Life)
	assert.Zero(t, Before(session.Drilled{}, began).Of(began).Life)
	assert.True(t, Before(session.Drilled{}, began).Ends.IsZero())
}
