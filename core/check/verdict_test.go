package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/finding"
)

func answered(body string) Report {
	return Report{Name: "r", Fate: Answered, Exchange: Exchange{Status: 200, Content: body}}
}

func TestProof(t *testing.T) {
	whole, cut := answered("{}"), answered("{}")
	cut.Exchange.Truncated = true
	late, lost, unsent := Report{Fate: Late}, Report{Fate: Lost}, Report{}
	for name, c := range map[string]struct {
		proof Proof
		want  finding.Confidence
		hid   bool
	}{
		"zero":                     {Proof{}, finding.NotSure, false},
		"shown by nothing":         {Shown(), finding.NotSure, false},
		"shown":                    {Shown(whole, whole), finding.Proven, false},
		"cut":                      {Shown(whole, cut), finding.Likely, true},
		"late":                     {Shown(late), finding.Likely, true},
		"lost":                     {Shown(whole, lost), finding.Likely, true},
		"unsent":                   {Shown(unsent), finding.Likely, true},
		"speaks":                   {Speaks(whole), finding.Likely, false},
		"turned away":              {TurnedAway(whole, whole, Admitted), finding.Proven, false},
		"the control was not":      {TurnedAway(whole, whole, Refused), finding.NotSure, false},
		"the control was not seen": {TurnedAway(whole, lost, Admitted), finding.NotSure, false},
		"the control was long":     {TurnedAway(whole, cut, Admitted), finding.Proven, false},
		"the refusal was lost":     {TurnedAway(lost, whole, Admitted), finding.Likely, true},
	} {
		assert.Equal(t, c.want, c.proof.Confidence(), name)
		assert.Equal(t, c.hid, c.proof.Hid() != "", name)
	}
}

func TestChanged(t *testing.T) {
	gone := answered("")
	gone.Exchange.Status = 404
	broken := answered("")
	broken.Exchange.Status = 500
	a, b := answered(`{"n":1,"at":1}`), answered(`{"n":1,"at":2}`)
	for name, c := range map[string]struct {
		first, second, after Report
		want                 Change
		sure                 finding.Confidence
	}{
		"as it was":              {a, a, a, Unchanged, finding.Proven},
		"changes by itself":      {a, b, answered(`{"n":1,"at":3}`), Unchanged, finding.Proven},
		"and something else":     {a, b, answered(`{"n":2,"at":3}`), Altered, finding.Proven},
		"a member more":          {a, a, answered(`{"n":1,"at":1,"x":0}`), Altered, finding.Proven},
		"gone":                   {a, a, gone, Gone, finding.Proven},
		"never there":            {gone, gone, gone, NotRead, finding.NotSure},
		"there for the first":    {gone, gone, a, Altered, finding.Proven},
		"not read before":        {broken, a, a, NotRead, finding.NotSure},
		"not read afterwards":    {a, a, broken, NotRead, finding.NotSure},
		"text":                   {answered("x"), answered("x"), answered("y"), Altered, finding.Proven},
		"text changes by itself": {answered("x"), answered("y"), answered("z"), Unchanged, finding.Proven},
	} {
		p, how := Changed(c.first, c.second, c.after)
		assert.Equal(t, c.want, how, name)
		assert.Equal(t, c.sure, p.Confidence(), name)
	}
}

func TestEvidenceRemembers(t *testing.T) {
	e := NewEvidence(func(key string) *Fact {
		if key == "a" {
			return &Fact{Family: "x"}
		}
		return nil
	})
	assert.Empty(t, e.Asked())
	assert.Equal(t, "x", e.Of("a").Family)
	assert.Nil(t, e.Of("b"))
	e.Of("a")
	assert.Equal(t, []string{"a", "b"}, e.Asked())
}

func TestKeys(t *testing.T) {
	id := ID{Family: "f", Route: "GET /a", Of: "w"}
	assert.Equal(t, "f|GET /a|nobody||||w", id.Key())
	p := NewPlanning(nil)
	p.Add(Probe{ID: id})
	p.Add(Probe{ID: id, Unsafe: true})
	id.Caller.Identity = "ann"
	p.Add(Probe{ID: id})
	assert.Len(t, p.Probes, 2, "one id, one probe")
}
