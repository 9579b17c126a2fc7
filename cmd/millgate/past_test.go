package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rule: What a pipeline stops for is what is new or back, and nothing is called mended that was not probed.

// twoRoutes is a declaration of two routes for ann, and a key.
const twoRoutes = `millgate: 1.1
targets: { t: { base: "%s", pace: 2000 per 1s } }
routes: [{ at: GET /a, owner: doors }, GET /b]
roles: { r: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { roles: r, credentials: { key: { key: ann-has-this-key } } } }
access: [{ at: /a, who: %s }, { at: /b, who: r }]
`

// doors is a service of two routes, of which GET /a may have no guard.
func doors(t *testing.T) (base string, open *atomic.Bool) {
	open = &atomic.Bool{}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		known := r.URL.Path == "/a" || r.URL.Path == "/b"
		switch {
		case known && r.Method != "GET" && r.Method != "HEAD":
			w.WriteHeader(405)
		case !known:
			w.WriteHeader(404)
		case r.Header.Get("X-Key") != "ann-has-this-key" && (r.URL.Path != "/a" || !open.Load()):
			w.WriteHeader(401)
		default:
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"path":%q,"note":"a value of its own"}`, r.URL.Path)
		}
	}))
	t.Cleanup(srv.Close)
	return srv.URL, open
}

func TestComparisons(t *testing.T) {
	base, open := doors(t)
	dir := t.TempDir()
	gate, data := filepath.Join(dir, "x.gate.yaml"), filepath.Join(dir, "data")
	declare := func(who string) {
		require.NoError(t, os.WriteFile(gate, []byte(fmt.Sprintf(twoRoutes, base, who)), 0o600))
	}
	declare("r")
	file := func(name string) string { return filepath.Join(dir, name) }
	sweep := func(args ...string) (int, string) {
		code, out, errs := run(t, append([]string{"sweep", gate, "--target", "t"}, args...)...)
		return code, out + errs
	}
	kept := []string{"--data", data}
	with := func(args ...string) []string { return append(args, kept...) }

	code, out := sweep(with("--save", file("1.json"))...)
	require.Equal(t, 0, code, out)
	open.Store(true)
	code, out = sweep(with("--save", file("2.json"), "--baseline", file("1.json"))...)
	assert.Equal(t, 1, code, out)
	assert.Regexp(t, `(?m)^t, from .*1\.json to this sweep: 1 new$`, out)
	code, out = sweep(with("--save", file("3.json"), "--baseline", "sweep:2")...)
	assert.Equal(t, 0, code, "it was there: "+out)
	assert.Contains(t, out, "t, from sweep 2 to this sweep: 1 unchanged")
	open.Store(false)
	code, _ = sweep(with("--save", file("4.json"))...)
	assert.Equal(t, 0, code)
	open.Store(true)
	code, out = sweep(with("--save", file("5.json"), "--baseline", "sweep:4", "--fail-on", "leaking")...)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "t, from sweep 4 to this sweep: 1 back")
	declare("anyone")
	code, out = sweep(with("--save", file("6.json"))...)
	require.Equal(t, 0, code, out)

	for _, x := range []struct {
		args []string
		code int
		says string
	}{
		{with("1", "2"), 1, "from sweep 1 to sweep 2: 1 new"},
		{with("1", "2", "--fail-on", "leaking,critical"), 0, "1 new"},
		{with("1", "2", "--fail-on", "unprotected"), 1, "1 new"},
		{with("sweep:2", "4"), 0, "1 mended"},
		{with("4", "5"), 1, "1 back"},
		{with("1", "5"), 1, "1 back"}, // one between had it
		{with("5", "6"), 0, "1 moved"},
		{[]string{file("2.json"), file("4.json")}, 0, "1 mended"},
		{[]string{file("1.json"), file("2.json")}, 1, "1 new"},
		{with("5", file("6.json")), 0, `expected was "refuse", and is "admit"`},
		{with("2", "1"), 2, "name the earlier one first"},
		{with("2", "2"), 2, "cannot be compared with itself"},
		{with("1", "77"), 2, "there is no sweep 77"},
		{with("1", file("none.json")), 2, "no such file"},
		{with("1", gate), 2, "is no result of a sweep"},
		{with("1", "2", "--fail-on", "grave"), 2, `"grave" is neither a severity`},
	} {
		code, out, errs := run(t, append([]string{"compare"}, x.args...)...)
		assert.Equal(t, x.code, code, "%v: %s%s", x.args, out, errs)
		assert.Contains(t, out+errs, x.says, "%v", x.args)
	}

	_, out, _ = run(t, append([]string{"compare", "4", "5", "--format", "json"}, kept...)...)
	var cmp struct {
		Version  int
		Counts   map[string]int
		Findings []struct {
			Change  string
			Finding struct{ ID, Kind string }
		}
		Stops []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &cmp))
	require.Len(t, cmp.Findings, 1)
	assert.Equal(t, []any{1, map[string]int{"back": 1}, "back", "U", []string{cmp.Findings[0].Finding.ID}},
		[]any{cmp.Version, cmp.Counts, cmp.Findings[0].Change, cmp.Findings[0].Finding.Kind, cmp.Stops})

	_, out, _ = run(t, append([]string{"sweeps"}, kept...)...)
	assert.Equal(t, 6, strings.Count(out, "\n"), out)
	assert.Regexp(t, `(?m)^ +2  \d{4}-\d\d-\d\d \d\d:\d\d  t  revision 1  done  1 unprotected$`, out)
	_, out, _ = run(t, append([]string{"sweeps", "--target", "other"}, kept...)...)
	assert.Equal(t, "No whole sweep is kept there.\n", out)
	code, out, _ = run(t, append([]string{"show", "2"}, kept...)...)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "t: 1 finding")
	code, _, errs := run(t, append([]string{"show", "two"}, kept...)...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is no number of a sweep")

	old := file("old.json")
	require.NoError(t, os.WriteFile(old, []byte(`{"version":1,"sweep":{"target":"t"},"findings":[]}`), 0o600))
	code, out = sweep("--baseline", old)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "does not say what each probe found out")
	require.NoError(t, os.WriteFile(old, []byte(`{"version":7}`), 0o600))
	code, out = sweep("--baseline", old)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "has version 7 of results, 1 is read")
}

// A sweep hands on what it came to: reports in every form, a line that does not change, and nothing at all where
// nothing changed and nobody wants to hear of that.
func TestReportsOfASweep(t *testing.T) {
	base, open := doors(t)
	open.Store(true)
	dir := t.TempDir()
	gate := filepath.Join(dir, "x.gate.yaml")
	file := func(name string) string { return filepath.Join(dir, name) }
	declare := func(more string) {
		require.NoError(t, os.WriteFile(gate, []byte(fmt.Sprintf(twoRoutes, base, "r")+more), 0o600))
	}
	declare("")
	data := []string{"--data", file("data")}
	sweep := func(args ...string) (int, string, string) {
		return run(t, append(append([]string{"sweep", gate, "--target", "t"}, data...), args...)...)
	}
	code, out, errs := sweep("--report", file("1.html"), "--report", file("1.json"), "--save", file("base.txt"))
	require.Equal(t, 1, code, errs)
	assert.Regexp(t, `(?m)^summary: target=t sweep=1 findings=1 waived=0 checked=\d+% exit=1$`, out)
	assert.Contains(t, out, "next: millgate report 1 --data")
	html, err := os.ReadFile(file("1.html"))
	require.NoError(t, err)
	assert.NotContains(t, string(html), "a value of its own", "somebody's data")

	for _, x := range []struct {
		args []string
		code int
		says string
	}{
		{append([]string{"1", "-o", file("2.sarif"), "-o", file("2.xml"), "-o", file("2.md"), "-o", file("2.csv"), "-o",
			file("2.har")}, data...), 0, ""},
		{[]string{file("1.json"), "-o", file("3.har"), "-o", file("3.html")}, 0, ""},
		{[]string{file("base.txt"), "-o", file("4.har")}, 3, "has no exchanges"},
		{[]string{file("base.txt"), "-o", file("4.xml")}, 0, ""},
		{append([]string{"1", "-o", file("5.md"), "--with-values"}, data...), 0, ""},
		{append([]string{"1", "-o", file("6.md"), "--owner", "doors"}, data...), 0, ""},
		{append([]string{"1", "-o", file("6.md"), "--owner", "dors"}, data...), 2, `did you mean "doors"?`},
		{append([]string{"9", "-o", file("6.md")}, data...), 2, "there is no sweep 9"},
		{append([]string{"1", "-o", file("6.pdf")}, data...), 2, "use one of .sarif"},
		{append([]string{"1"}, data...), 2, "say where to with -o"},
		{[]string{file("1.html"), "-o", file("7.md")}, 2, "is no result of a sweep"},
		{[]string{file("1.json"), "-o", file("no/7.md")}, 3, "cannot be written"},
	} {
		code, out, errs := run(t, append([]string{"report"}, x.args...)...)
		assert.Equal(t, x.code, code, "%v: %s%s", x.args, out, errs)
		assert.Contains(t, out+errs, x.says, "%v", x.args)
	}
	md, err := os.ReadFile(file("5.md"))
	require.NoError(t, err)
	assert.Contains(t, string(md), "a value of its own", "it was asked for")
	left, err := filepath.Glob(file("*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)

	code, out, errs = sweep("--quiet-unless-changed")
	assert.Equal(t, []any{1, ""}, []any{code, out}, errs)
	id := regexp.MustCompile(`mg-[0-9a-f]{10}`).FindString(string(md))
	declare("waivers:\n  - { finding: " + id + ", callers: nobody, reason: A door for all, by: ann, until: " +
		"2099-01-31 }\n")
	code, out, errs = sweep("--report", file("8.sarif"), "--format", "json")
	assert.Equal(t, 0, code, errs)
	c, err := jsonschema.NewCompiler().Compile("../../docs/result.schema.json")
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	require.NoError(t, err)
	require.NoError(t, c.Validate(v))
	code, out, errs = sweep()
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "waived: U GET /a")
	assert.Contains(t, out, "until 2099-01-31 by ann: A door for all")
	open.Store(false)
	code, out, _ = sweep("--quiet-unless-changed")
	assert.Equal(t, 0, code)
	assert.Regexp(t, `(?m)^summary: .* findings=0 waived=0 new=0 back=0 mended=1 moved=0 not-checked=0 `, out)
	code, out, errs = sweep("--only", "/b", "--kinds", "crossing,around", "--plan")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "only some routes or kinds were asked for")
	code, _, errs = sweep("--only", "/nowhere")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "/nowhere selects no route")
	code, _, errs = sweep("--budget", "1ns")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing can be sent")
	code, _, errs = sweep("--report", file("9.doc"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "does not say by its ending")
}

// What docs/pipelines.md shows works as it stands there.
func TestExamplesOfPipelines(t *testing.T) {
	text, err := os.ReadFile("../../docs/pipelines.md")
	require.NoError(t, err)
	whole := text
	_, text, _ = bytes.Cut(text, []byte("## Examples"))
	blocks := regexp.MustCompile("(?s)```(sh|yaml)\n(.*?)```").FindAllSubmatch(text, -1)
	require.Len(t, blocks, 5)
	base, open := doors(t)
	for i, script := range []string{strings.Join(runsOf(t, blocks[1][2]), "\n"),
		strings.Join(runsOf(t, blocks[3][2]), "\n"), "sh gate.sh"} {
		open.Store(false)
		dir, sh := checkout(t, base, blocks[0][2])
		code, out := sh(script)
		assert.Equal(t, 0, code, out)
		assert.FileExists(t, filepath.Join(dir, "gate/baseline.json"))
		open.Store(true)
		code, out = sh(script)
		assert.Equal(t, 1, code, "something new: "+out)
		for _, f := range []string{"gate.html", "gate.xml", "gate.sarif", "gate/new.json"} {
			assert.FileExists(t, filepath.Join(dir, f))
		}
		if i > 0 {
			continue
		}
		code, out = sh(string(blocks[4][2]))
		assert.Equal(t, 1, code, "the first night")
		assert.Contains(t, out, "summary: target=staging sweep=1")
		code, out = sh(string(blocks[4][2]))
		assert.Equal(t, 1, code, "it is still there")
		assert.NotContains(t, out, "summary:", "nothing changed")
	}

	// On several runners.
	dir, sh := checkout(t, base, blocks[0][2])
	code, out := sh("sh gate.sh; mv gate/new.json gate/baseline.json") // what is found is accepted
	require.Equal(t, 0, code, out)
	runs := runsOf(t, blocks[2][2])
	require.Len(t, runs, 2, "a shard, and the merge")
	for _, shard := range []string{"1", "2", "3"} {
		code, out = sh("export SHARD=" + shard + "\n" + runs[0])
		require.Equal(t, 0, code, out)
		assert.Contains(t, out, "summary: target=staging sweep=1 shard="+shard+"/3")
	}
	code, out = sh(runs[1])
	assert.Equal(t, 0, code, "nothing is new: "+out)
	assert.FileExists(t, filepath.Join(dir, "gate.sarif"))

	// And as the text before shows it.
	_, block, _ := bytes.Cut(whole, []byte("## On several runners"))
	commands := regexp.MustCompile("(?s)```sh\n(.*?)```").FindSubmatch(block)
	require.NotNil(t, commands)
	code, out = sh(string(commands[1]))
	assert.Equal(t, 0, code, out)
	assert.FileExists(t, filepath.Join(dir, "whole.json"))
}

// runsOf are the commands of a pipeline, in their order.
func runsOf(t *testing.T, text []byte) (found []string) {
	t.Helper()
	var job yaml.MapSlice
	require.NoError(t, yaml.UnmarshalWithOptions(text, &job, yaml.UseOrderedMap()))
	walkYAML(job, func(key string, v any) {
		switch x := v.(type) {
		case string:
			if key == "run" && !slices.Contains(found, x) {
				found = append(found, x)
			}
		case []any:
			if key == "script" {
				for _, l := range x {
					found = append(found, fmt.Sprint(l))
				}
			}
		}
	})
	require.NotEmpty(t, found, "%s", text)
	return found
}

// checkout is a folder as a pipeline has it, and what runs a script there.
func checkout(t *testing.T, base string, gate []byte) (dir string, sh func(script string) (int, string)) {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	dir = t.TempDir()
	write := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), mode))
	}
	declared := strings.Replace(fmt.Sprintf(twoRoutes, base, "r"), "{ t: {", "{ staging: {", 1)
	write("policy.gate.yaml", strings.Replace(declared, "key: ann-has-this-key", "key: env:ANN_KEY", 1), 0o600)
	write("gate.sh", string(gate), 0o600)
	write("bin/millgate", "#!/bin/sh\nMILLGATE_AS_PROGRAM=1 exec "+exe+" \"$@\"\n", 0o700)
	return dir, func(script string) (int, string) {
		c := exec.Command("sh", "-c", script)
		c.Dir = dir
		c.Env = append(os.Environ(), "ANN_KEY=ann-has-this-key", "PATH="+dir+"/bin:"+os.Getenv("PATH"))
		out, err := c.CombinedOutput()
		var code *exec.ExitError
		if errors.As(err, &code) {
			return code.ExitCode(), string(out)
		}
		require.NoError(t, err)
		return 0, string(out)
	}
}

// walkYAML goes through everything that a text of YAML holds.
func walkYAML(v any, see func(key string, v any)) {
	switch x := v.(type) {
	case yaml.MapSlice:
		for _, y := range x {
			see(fmt.Sprint(y.Key), y.Value)
			walkYAML(y.Value, see)
		}
	case []any:
		for _, y := range x {
			walkYAML(y, see)
		}
	}
}
