package app

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/raised"
	"millgate/core/finding"
)

// A command line is that of what a probe is about, although its record is made and read
// before.
func TestTheFirstCall(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "allowed"), "")
	d, _ := a.Workspace.Document()
	tg := d.TargetNamed("stand-in")
	pl := check.NewPlan(d, tg, a.Targets.Families)
	for key, want := range map[string]string{
		"crossing|DELETE /t/{id}|nobody||absent||":            "DELETE /t/t9",
		"crossing|DELETE /t/{id}|ann|access|sound|own|":       "DELETE /t/t9",
		"around|DELETE /t/{id}|nobody||absent||letter case":   "DELETE /T/t9",
		"undeclared|PUT /t/{id}|nobody||absent||other-method": "PUT /t/t9",
		"crossing|GET /a|ann|access|sound||":                  "GET /a",
	} {
		p := pl.Find(key)
		require.NotNil(t, p, key)
		call := a.View.FirstCall(d, tg, p, nil)
		require.NotNil(t, call, key)
		assert.Equal(t, check.TheRequest, call.Name)
		q := call.Request.OnID("t9")
		assert.Equal(t, want, q.Method+" "+q.Path, key)
	}
}

// What versions before kept of a probe that is one call on a record is judged on.
func TestRecordsOfBefore(t *testing.T) {
	for id, want := range map[string]string{
		"crossing|GET /a|ann|s|sound||":                    "crossing|GET /a|ann|s|sound||",
		"accept|GET /a|nobody||absent||asking for HTML":    "crossing|GET /a|nobody||absent||asking for HTML",
		"around|GET /a|nobody||absent||HEAD":               "around|GET /a|nobody||absent||HEAD",
		"unknown-path|GET /x|nobody||absent||":             "undeclared|GET /x|nobody||absent||unknown-path",
		"other-method|PUT /a|ann|s|sound||":                "undeclared|PUT /a|ann|s|sound||other-method",
		"neighbour|GET /v1/a|nobody||absent||":             "undeclared|GET /v1/a|nobody||absent||neighbour",
		"session|POST /in|ann|s|sound||":                   "session|POST /in|ann|s|sound||",
		"credential|GET /a|nobody|s|broken||malformed|ann": "credential|GET /a|nobody|s|broken||malformed|ann",
	} {
		assert.Equal(t, want, sameProbe(id))
	}
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "allowed"), "")
	const exchange = `{"method":"DELETE","url":"/t/t9","status":403,"content":""}`
	f, err := decodeFact("crossing|DELETE /t/{id}|nobody||absent||", "", []byte(`{"exchange":`+exchange+
		`,"record":"t9","readBack":"gone","repeats":1,"sweep":3}`), a.Targets.Families)
	require.NoError(t, err)
	assert.Equal(t, "crossing", f.Check.Family)
	assert.Equal(t, []any{"t9", "gone", 1, uint(3)}, []any{f.Record, f.ReadBack, f.Repeats, f.Sweep})
	d, _ := a.Workspace.Document()
	tg := d.TargetNamed("stand-in")
	pl := check.NewPlan(d, tg, a.Targets.Families)
	p := pl.Find("crossing|DELETE /t/{id}|nobody||absent||")
	v := newJudge(pl, newKnown(map[string]*Fact{p.Key(): f}).of).judge(p).Verdict
	assert.Equal(t, []any{finding.Unprotected, finding.Likely}, []any{v.Kind, v.Confidence},
		"what was read is not there to be judged again")

	f, err = decodeFact("crossing|POST /t|ann|s|sound||", "ann", []byte(`{"exchange":{"status":201},"then":[
		{"request":"GET /t","exchange":{"status":200}}, {"request":"GET /a","as":"bob","exchange":{"error":"reset"}},
		{"request":"GET /b","exchange":{},"lost":"the answer has nothing at /id"}]}`), a.Targets.Families)
	require.NoError(t, err)
	var fates []string
	for _, r := range f.Check.Reports {
		fates = append(fates, fmt.Sprintf("%s %d %s", r.Name, r.Fate, r.Why))
	}
	assert.Equal(t, []string{"the request 1 ", "GET /t as ann 1 ", "GET /a as bob 3 reset",
		"GET /b as ann 0 the answer has nothing at /id"}, fates)

	for _, id := range []string{"around|GET /a|nobody||absent||HEAD", "neighbour|GET /v1/a|nobody||absent||"} {
		f, err = decodeFact(id, "", []byte(`{"exchange":{"status":404}}`), a.Targets.Families)
		require.NoError(t, err)
		assert.Equal(t, []any{onRecord(id), 404}, []any{f.Check.Family, f.Exchange.Status})
	}
	f, err = decodeFact("around|GET /a|nobody||absent||HEAD", "",
		[]byte(`{"exchange":{},"lost":"not sent: x"}`), a.Targets.Families)
	require.NoError(t, err)
	assert.Nil(t, f.Check, "nothing was seen")
	assert.Equal(t, "", onRecord("origin|GET /a|nobody||absent||unrelated"))
	f, err = decodeFact("raised-role|POST /t|ann|s|sound||roles", "ann",
		[]byte(`{"exchange":{"status":201},"record":"t9","raised":"the answer"}`), a.Targets.Families)
	require.NoError(t, err)
	assert.Equal(t, &raised.Measured{Recorded: check.Recorded{Record: "t9"}, Raised: "the answer"}, f.Check.Data)
	assert.Equal(t, "t9", f.Record)
	f, err = decodeFact("credential|POST /t|nobody|page|broken||cross-site|ann", "",
		[]byte(`{"exchange":{"status":201},"sameSite":"lax"}`), a.Targets.Families)
	require.NoError(t, err)
	assert.Equal(t, "lax", f.Check.Reports[0].SameSite)
}
