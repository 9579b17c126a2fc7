package families

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/mask"
)

// What is judged of a masked answer is what would have been judged of the raw one; of
// secrets that only their name tells, it is never more.
func TestMaskedIsJudgedAsRaw(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\n"+
		"routes: [\"GET /a/{id}\"]\nrecords: { thing: { fills: id, owned_by: { ann: [t-1], bob: [t-2] } } }\n"+
		strings.Replace(people, "who: r }", "who: owner }", 1)+"answers: { never: { fields: [inner], "+
		"text: [trace-, \"at line\"] }, "+
		"errors: { type: application/json, has: [/error/code] } }\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	d.Routes[0].Answers = map[int]*declaration.Shape{0: {Open: true}}
	secrets := []string{"secret-of-ann-1", "9123456789", `p"ss w/rd trace-`, "refresh-token-77"}
	set := mask.NewSet([]byte("k")).With(mask.Token, secrets...)
	kinds := map[finding.Kind]int{}
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 2))
		named := r.IntN(4) == 0
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		// Two callers, with some values of their own, some in common, some secret.
		body := func(owner string) string {
			o := map[string]any{"id": pick("t-1", "t-2"), "owner": owner,
				"note": pick("one", secrets[0], "see "+secrets[3]),
				"n":    json.Number(pick("1", "12", secrets[1], "4"+secrets[1]))}
			if r.IntN(3) == 0 {
				o[pick("inner", "extra")] = pick(secrets[2], "at line 3", "x")
			}
			if named {
				o["password"] = pick("alpha", "beta")
			}
			if r.IntN(3) == 0 {
				o["error"] = map[string]any{"code": pick(secrets[3], "e1")}
			}
			b, err := json.Marshal(o)
			require.NoError(t, err)
			return string(b)
		}
		answer := func(status int, text string) (raw, masked check.Answer) {
			raw = check.Answer{Status: status,
				Headers: [][2]string{{"Content-Type", pick("application/json", "text/html")}}, Body: []byte(text)}
			m := set.Begin()
			masked = check.Answer{Status: status, Headers: m.Headers(raw.Headers),
				Body:  []byte(mask.Unnumbered(m.Body(text, "", false))),
				Texts: mask.Within(text, d.Answers.NeverText)}
			return raw, masked
		}
		p := &check.Probe{ID: check.ID{Family: "crossing", Route: "GET /a/{id}", Caller: check.Caller{Identity: "bob",
			Scheme: "s", State: access.Sound}, Relation: access.Foreign}, Record: check.Record{Name: "thing",
			Param: "id", Owner: "ann", Value: "t-1"}, Control: "control",
			Detail: crossing.Detail{ControlBy: "ann", Owner: []crossing.Shown{{Key: "owner", Who: "bob"}},
				Own: []string{"own"}}}
		if r.IntN(2) == 0 {
			p.Relation = access.Own
		}
		theirs := body("ann")
		text := theirs
		if r.IntN(2) == 0 {
			text = body(pick("ann", "bob"))
		}
		status := []int{200, 403, 404, 401}[r.IntN(4)]
		a, am := answer(status, text)
		owner, ownerM := answer(200, theirs)
		own, ownM := answer(200, body("bob"))
		ctl, ctlM := answer(200, theirs)
		want := judged(d, p, a, map[string]check.Answer{"control": ctl, "owner": owner, "own": own})
		got := judged(d, p, am, map[string]check.Answer{"control": ctlM, "owner": ownerM, "own": ownM})
		why := fmt.Sprintf("seed %d\n%s\n%s\n%+v\n%+v", seed, text, am.Body, want, got)
		kinds[want.Kind]++
		require.Equal(t, want.Kind, got.Kind, why)
		require.Equal(t, len(want.Gaps), len(got.Gaps), why)
		for i := range want.Gaps {
			require.Equal(t, want.Gaps[i].Cause(), got.Gaps[i].Cause(), why)
			if !named {
				require.Equal(t, want.Gaps[i].Confidence, got.Gaps[i].Confidence, why)
			} else if got.Gaps[i].Confidence == finding.Proven {
				require.Equal(t, finding.Proven, want.Gaps[i].Confidence, why)
			}
		}
		for _, s := range secrets {
			require.NotContains(t, strings.ReplaceAll(string(am.Body), "4"+secrets[1], ""), s, why)
		}
	}
	for _, k := range []finding.Kind{finding.OverPermissive, finding.OverRestrictive, finding.WrongRefusal,
		finding.Leaking, finding.Agrees} {
		require.Positive(t, kinds[k], "%v", kinds)
	}
}
