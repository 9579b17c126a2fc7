package sessions

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const leftAlone = `millgate: 1.1
targets:
  t: { base: "http://h", unsafe: allowed, drill: { for: 6s, lifetimes: { desk: { idle: 2s, max: 5s } } } }
  long: { base: "http://h", unsafe: allowed }
  safe: { base: "http://h", drill: { for: 10s, lifetimes: { again: { idle: 4s } } } }
routes: [GET /a, POST /in, POST /again]
schemes:
  s:
    kind: bearer
    login: { send: POST /in, json: { u: "{u}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /again, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    lifetime: { access: desk, refresh: again }
lifetimes: { desk: { max: 1h, idle: 30m }, again: { max: 30d, idle: 4s } }
identities: { ann: { credentials: { s: { u: ann } } } }
access: [{ at: GET /a, who: signed-in }, { at: POST /**, who: anyone }]
`

func idlePlan(t *testing.T, target string) (*check.Planning, *check.Context) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(leftAlone), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c := &check.Context{Doc: d, Target: d.TargetNamed(target)}
	p := check.NewPlanning(crossings{classes: []access.Class{{Members: []int{0}}}, works: map[string]string{
		"ann s": "/a"}})
	Family{}.Plan(c, p)
	return p, c
}

func TestWhichLivesAreWaitedFor(t *testing.T) {
	of := func(p *check.Planning) (out []string) {
		for _, x := range p.Probes {
			out = append(out, x.Of)
		}
		return out
	}
	p, c := idlePlan(t, "t")
	assert.Equal(t, []string{"", idleAccess, idleRefresh}, of(p))
	assert.Equal(t, "session|POST /in|ann|s|sound||idle access", p.Probes[1].Key())
	assert.Equal(t, 6*time.Second, Family{}.Cost(c, p.Probes[1]).Waits, "its longest life, and a second")
	assert.Equal(t, 5*time.Second, Family{}.Cost(c, p.Probes[2]).Waits)
	p, _ = idlePlan(t, "long")
	assert.Equal(t, []string{""}, of(p))
	require.Len(t, p.Left, 2)
	assert.Equal(t, "that a session of s ends when it is unused for 30m", p.Left[0].What)
	assert.Contains(t, p.Left[0].Why, "waits at most 3s; where it is configured shorter, say so:  drill: { "+
		"lifetimes: { "+
		"desk: { idle: 2s } } }")
	p, _ = idlePlan(t, "safe")
	assert.Equal(t, "the target does not allow unsafe methods, and a drill renews sessions", p.Left[2].Why)
}

// desk is a service whose sessions end when they are unused, and after their longest life.
type desk struct {
	idle, max time.Duration // 0 is never
	one       bool          // a login ends the sessions before it
	n         int
	began     map[string]time.Duration
	used      map[string]time.Duration
	slots     map[string]string
}

func (s *desk) answer(c check.Call, at time.Duration) check.Report {
	if s.slots == nil {
		s.slots, s.began, s.used = map[string]string{}, map[string]time.Duration{}, map[string]time.Duration{}
	}
	r := check.Report{Fate: check.Answered, Took: map[string]string{}, Exchange: check.Exchange{Status: 200}}
	give := func(began time.Duration) {
		s.n++
		id := fmt.Sprint("‹", s.n, "›")
		s.began[id], s.used[id] = began, at
		for _, k := range c.Take {
			s.slots[k.Slot], r.Took[k.Slot] = id, id
		}
	}
	alive := func(id string) bool {
		began, ok := s.began[id]
		return ok && (s.idle == 0 || at-s.used[id] < s.idle) && (s.max == 0 || at-began < s.max)
	}
	switch c.Request.Path {
	case "/in":
		if s.one {
			clear(s.began)
		}
		give(at)
		return r
	case "/again":
		if id := s.slots[c.Request.Fill["refresh"].Slot]; alive(id) {
			delete(s.began, id)
			give(at)
			return r
		}
	case "/a":
		if id := s.slots[c.As[0].Slot]; alive(id) {
			s.used[id] = at
			return r
		}
	}
	r.Exchange.Status = 401
	return r
}

func TestLeftAlone(t *testing.T) {
	for _, x := range []struct {
		name string
		of   string
		s    *desk
		want finding.Kind
		sure finding.Confidence
		says string
	}{
		{"as configured", idleAccess, &desk{idle: 2 * time.Second, max: 5 * time.Second}, finding.Agrees,
			finding.Likely, "left alone for 3s was refused, and one that was kept in use was not; tried with the 2s " +
				"that " +
				"the target is configured for"},
		{"as declared", idleRefresh, &desk{idle: 4 * time.Second}, finding.Agrees, finding.Proven,
			"left alone for 5s was refused"},
		{"unused ones live on", idleAccess, &desk{max: 5 * time.Second}, finding.Lifetime, finding.Proven,
			"A session of ann that was unused for 3s works on; it is to end after 2s on this target."},
		{"unused ones are renewed", idleRefresh, &desk{}, finding.Lifetime, finding.Proven,
			"that was unused for 5s works on; it is to end after 4s."},
		{"used ones live on", idleAccess, &desk{idle: 2 * time.Second}, finding.Lifetime, finding.Proven,
			"A session of ann is admitted after 6s; it is to end after 5s on this target, however much it is used."},
		{"all end soon", idleAccess, &desk{max: 2 * time.Second}, finding.Unproven, finding.NotSure,
			"whether it is the time without a use does not show"},
		{"one session for each", idleAccess, &desk{one: true}, finding.Unproven, finding.NotSure,
			"did not work before it was left alone, beside another of its caller"},
	} {
		t.Run(x.name, func(t *testing.T) {
			p, c := idlePlan(t, "t")
			probe := p.Probes[1]
			if x.of == idleRefresh {
				probe = p.Probes[2]
			}
			f, sent := play.Run(Family{}.Script(c, probe), -1, x.s.answer)
			assert.LessOrEqual(t, len(sent), 16)
			kind, sure, _ := play.Said(Family{}.Judge(c, probe, &f, nil))
			v := Family{}.Judge(c, probe, &f, nil)
			says := v.Says
			for _, g := range v.Gaps {
				says += g.Says
			}
			assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, says)
			assert.Contains(t, says, x.says)
			if x.want == finding.Agrees {
				for _, o := range (Family{}).Outcomes(c, probe, &f) {
					assert.Equal(t, o.Worked, o.Wanted == "works")
				}
			}
		})
	}
}
