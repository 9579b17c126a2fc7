package snapshot

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/check/raised"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/store"
)

const ofRecords = `millgate: 1
targets: { stand-in: { base: "http://127.0.0.1:1", pace: 5000 per 1s, unsafe: allowed } }
routes: ["GET /t/{id}", "DELETE /t/{id}", POST /t]
roles: { r: }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { p: "{p}" }, take: { access: /t } } }
identities:
  ann: { roles: r, credentials: { access: { p: env:ANN_SECRET } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t0] }, make: { send: POST /t, id: /id }, remove: "DELETE /t/{id}" }
access:
  - { at: "/t/{id}", who: owner }
  - { at: POST /t, who: r }
`

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
		assert.Equal(t, want, SameProbe(id))
	}
	d, msgs := declaration.Parse("x", []byte(ofRecords), nil)
	require.Empty(t, msgs)
	const exchange = `{"method":"DELETE","url":"/t/t9","status":403,"content":""}`
	f, err := Decode("crossing|DELETE /t/{id}|nobody||absent||", "", []byte(`{"exchange":`+exchange+
		`,"record":"t9","readBack":"gone","repeats":1,"sweep":3}`), families.All)
	require.NoError(t, err)
	assert.Equal(t, "crossing", f.Check.Family)
	assert.Equal(t, []any{"t9", "gone", 1, uint(3)}, []any{f.Record, f.ReadBack, f.Repeats, f.Sweep})
	tg := d.TargetNamed("stand-in")
	pl := check.NewPlan(d, tg, families.All)
	p := pl.Find("crossing|DELETE /t/{id}|nobody||absent||")
	v := NewJudge(pl, NewKnown(map[string]*Fact{p.Key(): f}).Of).Judge(p).Verdict
	assert.Equal(t, []any{finding.Unprotected, finding.Likely}, []any{v.Kind, v.Confidence},
		"what was read is not there to be judged again")

	f, err = Decode("crossing|POST /t|ann|s|sound||", "ann", []byte(`{"exchange":{"status":201},"then":[
		{"request":"GET /t","exchange":{"status":200}}, {"request":"GET /a","as":"bob","exchange":{"error":"reset"}},
		{"request":"GET /b","exchange":{},"lost":"the answer has nothing at /id"}]}`), families.All)
	require.NoError(t, err)
	var fates []string
	for _, r := range f.Check.Reports {
		fates = append(fates, fmt.Sprintf("%s %d %s", r.Name, r.Fate, r.Why))
	}
	assert.Equal(t, []string{"the request 1 ", "GET /t as ann 1 ", "GET /a as bob 3 reset",
		"GET /b as ann 0 the answer has nothing at /id"}, fates)

	for _, id := range []string{"around|GET /a|nobody||absent||HEAD", "neighbour|GET /v1/a|nobody||absent||"} {
		f, err = Decode(id, "", []byte(`{"exchange":{"status":404}}`), families.All)
		require.NoError(t, err)
		assert.Equal(t, []any{OnRecord(id), 404}, []any{f.Check.Family, f.Exchange.Status})
	}
	f, err = Decode("around|GET /a|nobody||absent||HEAD", "",
		[]byte(`{"exchange":{},"lost":"not sent: x"}`), families.All)
	require.NoError(t, err)
	assert.Nil(t, f.Check, "nothing was seen")
	assert.Equal(t, "", OnRecord("origin|GET /a|nobody||absent||unrelated"))
	f, err = Decode("raised-role|POST /t|ann|s|sound||roles", "ann",
		[]byte(`{"exchange":{"status":201},"record":"t9","raised":"the answer"}`), families.All)
	require.NoError(t, err)
	assert.Equal(t, &raised.Measured{Recorded: check.Recorded{Record: "t9"}, Raised: "the answer"}, f.Check.Data)
	assert.Equal(t, "t9", f.Record)
	f, err = Decode("credential|POST /t|nobody|page|broken||cross-site|ann", "",
		[]byte(`{"exchange":{"status":201},"sameSite":"lax"}`), families.All)
	require.NoError(t, err)
	assert.Equal(t, "lax", f.Check.Reports[0].SameSite)
}

// Facts of a version before are read in one pass as encoding/json reads them.
func TestFactsAreReadAlike(t *testing.T) {
	data := t.TempDir()
	in, err := os.Open(filepath.Join("..", "testdata", "before", "millgate.db.gz"))
	require.NoError(t, err)
	defer in.Close() //nolint:errcheck // it was only read
	z, err := gzip.NewReader(in)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(data, "millgate.db"), b, 0o600))
	st, err := store.Open(data)
	require.NoError(t, err)
	defer func() { require.NoError(t, st.Close()) }()
	n := 0
	require.NoError(t, st.EachProbe(t.Context(), []uint{1, 2, 3, 4, 5}, 100, func(rows []store.Probe) error {
		for _, row := range rows {
			if !row.Answered {
				continue
			}
			n++
			var want, got Fact
			require.NoError(t, json.Unmarshal(row.Fact, &want))
			require.NoError(t, unmarshal(row.Fact, &got))
			require.Equal(t, want, got, row.ProbeID)
		}
		return nil
	}))
	require.Greater(t, n, 50)
	var f Fact
	const full = `{"check":{"family":"crossing","version":2,"began":"2026-11-30T00:07:20.685590621Z","cut":"x","reports":[
		{"name":"r","fate":1,"begin":1,"end":-2,"exchange":{"method":"GET","answer":[["A","b"]],"content":"\u00e9\u2028","took":5}}],
		"data":{"record":"t9"}},"repeats":3,"sick":true,"noCredential":true,"sweep":7,"unknown":{"a":[1]}}`
	require.NoError(t, unmarshal([]byte(full), &f))
	var want Fact
	require.NoError(t, json.Unmarshal([]byte(full), &want))
	require.Equal(t, want, f)
	require.Error(t, unmarshal([]byte(`{"check":`), &f))
}
