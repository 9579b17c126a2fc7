package app

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/view"
	"millgate/core/check"
	"millgate/core/finding"
)

// traces is a made-up family: what admits somebody must not tell on which machine it ran.
// All that it is stands here; that it is planned, sent, judged, gathered, stored and shown
// touches no other file.
type traces struct{}

// seen is what a script of it measured.
type seen struct{ Machines []string }

var tells = &finding.Row{Cause: "trace ", Kind: finding.Leaking, Title: "The machine {what} is told",
	Means:  "Names of machines help an attacker.",
	Advice: "Leave the header out at {route}.", OWASP: finding.API8, CWE: 497, Severity: finding.Low}

func (traces) Name() string { return "trace" }

func (traces) Plan(c *check.Context, p *check.Planning) {
	for i, rt := range c.Doc.Routes {
		s, ok := p.Control(i)
		if !ok {
			p.Leave(check.Omission{Route: rt.Key(), What: "the trace", Why: "nobody is admitted with what there is"})
			continue
		}
		p.Add(check.Probe{ID: check.ID{Family: "trace", Route: rt.Key(), Caller: s.Caller}, Phase: check.SafeFirst,
			Control: s.Key, Detail: s.Request})
	}
}

func (traces) Script(_ *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		m := &seen{}
		t.Measured(m)
		request := p.Detail.(check.Request)
		for _, name := range []string{"once", "once more"} {
			r := t.One(check.Call{Name: name, Request: request, As: []check.Present{{Caller: p.Caller}}, Must: true,
				Retry: true, Effect: check.Safe})
			if at := check.AnswerOf(r.Exchange).Header("X-Ran-On"); at != "" {
				m.Machines = append(m.Machines, at)
			}
		}
	})
}

func (traces) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 2} }

func (traces) Judge(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	control := e.Of(p.Control)
	if control == nil || check.Classify(check.AnswerOf(control.Reports[0].Exchange), c.Doc.Answers) != check.Admitted {
		return check.Unproven("the control was not admitted")
	}
	v := check.Verdict{Says: "no machine is told", Proof: check.Shown(f.Reports...)}
	for _, m := range f.Data.(*seen).Machines {
		v.Gaps = append(v.Gaps, check.Gap{Cause: tells, What: m, Scope: finding.Scope{Of: finding.AtScheme,
			Name: "all"},
			Says: fmt.Sprintf("The answer says that it ran on %s.", m), Proof: check.Shown(f.Reports...)})
	}
	return v
}

func (traces) Causes() finding.Family {
	return finding.Family{Name: "trace", Title: "Traces", Shown: "Sent twice.", Refuted: "No header.",
		Rows: []*finding.Row{tells}}
}

func (traces) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "trace"
}

func (traces) Version() int { return 3 }

func (traces) Decode(version int, data []byte) (check.Data, error) {
	if version != 3 {
		return nil, errors.New("of another version")
	}
	m := &seen{}
	return m, json.Unmarshal(data, m)
}

// tellsItsMachine is a service that has what the family looks for.
func tellsItsMachine(_ *fake, w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/login":
		_, _ = fmt.Fprint(w, `{"t":"token-of-ann"}`)
	case r.Header.Get("Authorization") != "Bearer token-of-ann":
		w.WriteHeader(http.StatusUnauthorized)
	case r.URL.Path == "/a":
		w.Header().Set("X-Ran-On", "loom")
		_, _ = fmt.Fprint(w, `{}`)
	case r.URL.Path == "/t/t0" && r.Method == "GET":
		_, _ = fmt.Fprint(w, `{"n":1}`)
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

func TestAFamilyTouchesNothingElse(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	s := newFake(t, tellsItsMachine)
	data := t.TempDir()
	a := openText(t, fmt.Sprintf(small, s.URL, "refused"), data)
	without, err := a.Sweeps.Plan("")
	require.NoError(t, err)
	a.Targets.Families = append(slices.Clip(a.Targets.Families), traces{})

	plan, err := a.Sweeps.Plan("")
	require.NoError(t, err)
	require.Equal(t, without.Requests+4, plan.Requests, "planned, with what it costs")
	assert.Contains(t, plan.Left, check.Omission{Route: "POST /t", What: "the trace",
		Why: "nobody is admitted with what there is", Family: traces{}.Name()})

	_, res := swept(t, a)
	i := slices.IndexFunc(res.Findings, func(f finding.Finding) bool { return f.Cause == "trace loom" })
	require.GreaterOrEqual(t, i, 0, "%v", res.Findings)
	f := res.Findings[i]
	assert.Equal(t, []any{finding.Leaking, "everything behind all", "The machine loom is told",
		"Leave the header out at everything behind all.", finding.Low, finding.Proven, []string{"ann (trace)"}, 497,
		"GET /a", "ann"},
		[]any{f.Kind, f.Where(), f.Title, f.Advice, f.Severity, f.Confidence, f.Callers, f.CWE, f.At, f.Column})

	shown := func(a *App) view.CrossingView {
		x, err := a.View.Crossing(t.Context(), "", "GET /a", "ann")
		require.NoError(t, err)
		return x
	}
	x := shown(a)
	k := slices.IndexFunc(x.Probes, func(p view.ProbeView) bool { return p.Label == "trace" })
	require.GreaterOrEqual(t, k, 0)
	p := x.Probes[k]
	require.Len(t, p.Steps, 2)
	assert.Equal(t, []any{"once more", 200, true}, []any{p.Steps[1].Report.Name, p.Steps[1].Report.Exchange.Status,
		p.Steps[1].Worked})
	assert.NotContains(t, fmt.Sprint(p.Steps), "token-of-ann")
	assert.Equal(t, finding.Agrees, verdictAt(t, a, "GET /t/{id}", "trace"))
	b, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	row := b.Rows[slices.IndexFunc(b.Rows, func(r view.Row) bool { return r.Key == "GET /a" })]
	assert.Equal(t, finding.Leaking, row.Worst)
	assert.Equal(t, finding.Leaking, b.Cells[row.Access[1]].Found, "in ann's cell")

	// Stored, and read by a later process; one without the family says so and loses nothing else.
	require.NoError(t, a.Close())
	a = openText(t, fmt.Sprintf(small, s.URL, "refused"), data)
	a.Targets.Families = append(slices.Clip(a.Targets.Families), traces{})
	assert.Equal(t, p.Verdict, shown(a).Probes[slices.IndexFunc(shown(a).Probes,
		func(p view.ProbeView) bool { return p.Label == "trace" })].Verdict)
	require.NoError(t, a.Close())
	a = openText(t, fmt.Sprintf(small, s.URL, "refused"), data)
	assert.False(t, slices.ContainsFunc(shown(a).Probes, func(p view.ProbeView) bool { return p.Label == "trace" }))
	assert.NotEmpty(t, shown(a).Probes)
}

// verdictAt is the kind of the verdict on ann's probe with a label at a route.
func verdictAt(t *testing.T, a *App, route, label string) finding.Kind {
	t.Helper()
	x, err := a.View.Crossing(t.Context(), "", route, "ann")
	require.NoError(t, err)
	for _, p := range x.Probes {
		if p.Label == label {
			return p.Verdict.Kind
		}
	}
	return ""
}
