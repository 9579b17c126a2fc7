package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// changed writes a copy of the demo with one text in place of another.
func changed(t *testing.T, from, to string) (old, now string) {
	t.Helper()
	old = example(t, "none")
	b, err := os.ReadFile(old)
	require.NoError(t, err)
	require.Contains(t, string(b), from)
	now = filepath.Join(filepath.Dir(old), "changed.gate.yaml")
	require.NoError(t, os.WriteFile(now, []byte(strings.Replace(string(b), from, to, 1)), 0o600))
	return old, now
}

func TestTheDemoGivesNoMessage(t *testing.T) {
	code, out, _ := run(t, "review", example(t, "none"), "--fail-on", "low")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "0 messages, 4 more waived")
}

func TestReviewFails(t *testing.T) {
	_, file := changed(t, "{ at: GET /v1/audit, who: [auditor, director] }", "{ at: POST /v1/dome/park, who: anyone }")
	code, out, _ := run(t, "review", file, "--fail-on", "high")
	assert.Equal(t, 1, code)
	assert.Regexp(t,
		`changed\.gate\.yaml:\d+:\d+: high: POST /v1/dome/park, which is a command, is open to anyone \[open-write\]`,
		out)
	assert.Contains(t, out, "GET /v1/audit has no access entry")
	code, _, _ = run(t, "review", file, "--fail-on", "critical")
	assert.Equal(t, 0, code)
	code, _, errs := run(t, "review", file, "--fail-on", "dreadful")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "low, medium, high or critical")
	_, out, _ = run(t, "review", file, "--format", "json")
	var res struct {
		Messages []reported `json:"messages"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &res))
	found := false
	for _, m := range res.Messages {
		found = found || m.Check == "open-write" && m.Route == "POST /v1/dome/park" && m.CWE == 306 && m.Fix != ""
	}
	assert.True(t, found, out)
	assert.Contains(t, out, "Sign-up is for everybody", "what is waived is in it, with the reason")
}

func TestReach(t *testing.T) {
	file := example(t, "none")
	code, out, _ := run(t, "reach", file, "--route", "POST /v1/dome/slew")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "2 of 9 callers reach it")
	assert.Regexp(t, `imre +forbid +needs operator, imre has observer`, out)
	code, out, _ = run(t, "reach", file, "--identity", "nobody", "--format", "json")
	assert.Equal(t, 0, code)
	var res struct {
		Reach []struct {
			Route    string
			Admitted bool
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &res))
	assert.Len(t, res.Reach, 56)
	assert.True(t, res.Reach[0].Admitted)
	for _, c := range [][]string{{"--identity", "imree"}, {"--route", "GET /v1/sky/calender"}, {},
		{"--identity", "imre", "--route", "GET /healthz"}} {
		code, _, errs := run(t, append([]string{"reach", file}, c...)...)
		assert.Equal(t, 2, code, c)
		assert.Regexp(t, "did you mean|say --identity", errs)
	}
}

func TestDiff(t *testing.T) {
	old, now := changed(t, "{ at: /v1/dome/**, who: operator }", "{ at: /v1/dome/**, who: observer }")
	code, out, _ := run(t, "diff", old, now)
	assert.Equal(t, 0, code)
	assert.Regexp(t, `opens +imre +POST /v1/dome/slew +forbid → admit`, out)
	assert.Contains(t, out, "4 crossings: 4 open, 0 close")
	code, _, _ = run(t, "diff", old, now, "--fail-open")
	assert.Equal(t, 1, code)
	code, out, _ = run(t, "diff", now, old, "--fail-open", "--format", "json")
	assert.Equal(t, 0, code)
	var d struct{ Opens, Closes int }
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	assert.Equal(t, 4, d.Closes)
	_, bad := changed(t, "who: director }", "who: directr }")
	code, _, errs := run(t, "diff", old, bad)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `did you mean "director"?`)
}

func TestFormatCommand(t *testing.T) {
	_, file := changed(t, "{ at: GET /healthz, sensitivity: low,", "{at: GET /healthz,   sensitivity: low,")
	code, out, _ := run(t, "format", "-l", file)
	assert.Equal(t, 1, code)
	assert.Equal(t, file+"\n", out)
	code, out, _ = run(t, "format", file)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "{ at: GET /healthz, sensitivity: low,")
	code, _, _ = run(t, "format", "-w", file)
	assert.Equal(t, 0, code)
	code, out, _ = run(t, "format", "-l", file)
	assert.Equal(t, 0, code)
	assert.Empty(t, out)
	broken := filepath.Join(t.TempDir(), "b.gate.yaml")
	require.NoError(t, os.WriteFile(broken, []byte("roles: {{\n"), 0o600))
	code, _, errs := run(t, "format", "-w", broken)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was changed")
}

func TestExplain(t *testing.T) {
	file := example(t, "none")
	code, out, _ := run(t, "explain", file, "GET /v1/proposals/{id}", "imre", "--record", "p-202")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "as imre: hide (404)")
	assert.Regexp(t,
		`6 +ownership +failed +the record is not its own, and not published, and to others it does not exist`, out)
	assert.Regexp(t, `decided by the entry at fernhollow\.gate\.yaml:\d+:\d+`, out)
	code, out, _ = run(t, "explain", file, "GET /v1/proposals/p-101", "imre", "--format", "json")
	assert.Equal(t, 0, code)
	var x struct {
		Expect, Record, Whose string
		Ladder                []struct{ Result string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &x))
	assert.Equal(t, "admit, p-101, the proposal p-101 is imre's, it stands in the team spectra",
		x.Expect+", "+x.Record+", "+x.Whose)
	assert.Len(t, x.Ladder, 7)
	code, out, errs := run(t, "explain", file, "GET /v1/proposal", "imre")
	assert.Equal(t, 2, code)
	assert.Empty(t, out)
	assert.Contains(t, errs, "did you mean GET /v1/proposals?")
}
