package report

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
)

// curlOf is a curl that answers each request with a status, by who asks: the variable that the request bears.
const curlOf = `#!/bin/sh
case "$*" in
*"-o /dev/null -w %{http_code}"*) ;;
*) echo "asked for something else: $*" >&2; exit 9 ;;
esac
case "$*" in
*secret-of-control*) printf %s "$CONTROL" ;;
*secret-of-probe*) printf %s "$PROBE" ;;
*) echo "without its secret: $*" >&2; exit 9 ;;
esac
[ -z "$BREAKS" ]
`

// A witness tells by itself whether the gap is there, and says so when it cannot tell.
func TestWitness(t *testing.T) {
	it := sample().Findings[0]
	step := func(who string) Step {
		v := strings.ToUpper(who) + "_KEY"
		return Step{who, "# " + v + " is the key of " + who + "\ncurl --path-as-is -sS -i -X GET \\\n  -H \"X-Key: " +
			"$" + v +
			"\" \\\n  -H 'costs: $100' \\\n  \"http://t.example/a\\$b\""}
	}
	asked := Asked{Control: step("control"), Probe: step("probe"), Seen: 200,
		At: time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC), Expected: access.Expectation{Outcome: access.Refuse}}
	script, ok := it.Witness(asked)
	require.True(t, ok)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "curl"), []byte(curlOf), 0o700)) //nolint:gosec // it is run
	run := func(script string, env ...string) (string, int) {
		c := exec.Command("/bin/sh")
		c.Stdin = strings.NewReader(script)
		c.Env = append([]string{"PATH=" + dir + ":/usr/bin:/bin"}, env...)
		out, err := c.CombinedOutput()
		var code *exec.ExitError
		if errors.As(err, &code) {
			return string(out), code.ExitCode()
		}
		require.NoError(t, err)
		return string(out), 0
	}
	keys := []string{"CONTROL_KEY=secret-of-control", "PROBE_KEY=secret-of-probe"}
	for _, x := range []struct {
		control, probe, breaks string
		says                   string
		code                   int
	}{
		{"200", "200", "", "still there: answered 200, as on 2026-11-30", 1},
		{"204", "201", "", "still there: answered 201", 1},
		{"200", "401", "", "gone: answered 401", 0},
		{"200", "404", "", "gone: answered 404", 0},
		{"200", "500", "", "cannot tell: answered 500", 2},
		{"500", "200", "", "cannot tell: the control was answered 500", 2},
		{"000", "000", "yes", "cannot tell: the control was answered nothing", 2},
	} {
		out, code := run(script, append(keys, "CONTROL="+x.control, "PROBE="+x.probe, "BREAKS="+x.breaks)...)
		assert.Equal(t, x.code, code, "%v: %s", x, out)
		assert.Contains(t, out, x.says)
	}
	out, code := run(script, keys[0], "CONTROL=200", "PROBE=200")
	assert.NotZero(t, code)
	assert.Contains(t, out, "PROBE_KEY: is not set")

	asked.Control, asked.Seen = Step{}, 403
	script, ok = it.Witness(asked)
	require.True(t, ok, "a wrong refusal")
	out, code = run(script, keys[1], "PROBE=403")
	assert.Equal(t, []any{1, true}, []any{code, strings.HasPrefix(out, "still there")}, out)
	out, code = run(script, keys[1], "PROBE=401")
	assert.Equal(t, 0, code, out)
	asked.Expected = access.Expectation{Outcome: access.Admit}
	script, ok = it.Witness(asked)
	require.True(t, ok, "somebody who may is turned away")
	_, code = run(script, keys[1], "PROBE=200")
	assert.Zero(t, code)
	for seen, expected := range map[int]access.Outcome{0: access.Refuse, 401: access.Refuse, 200: access.Admit} {
		asked.Seen, asked.Expected = seen, access.Expectation{Outcome: expected}
		_, ok = it.Witness(asked)
		assert.False(t, ok, "%d does not tell", seen)
	}
}
