package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShardsAreSweptAndMerged(t *testing.T) {
	base, open := doors(t)
	dir := t.TempDir()
	gate, data := filepath.Join(dir, "x.gate.yaml"), filepath.Join(dir, "data")
	require.NoError(t, os.WriteFile(gate, []byte(fmt.Sprintf(twoRoutes, base, "r")), 0o600))
	file := func(name string) string { return filepath.Join(dir, name) }
	millgate := func(args ...string) (int, string) {
		code, out, errs := run(t, args...)
		return code, out + errs
	}
	sweep := func(args ...string) (int, string) {
		return millgate(append([]string{"sweep", gate, "--target", "t"}, args...)...)
	}
	code, out := sweep("--save", file("before.json"))
	require.Equal(t, 0, code, out)
	open.Store(true)
	code, out = sweep("--save", file("one.json"))
	require.Equal(t, 1, code, out)

	wrong := map[string][]string{
		"--alone is for --shard":         {"--alone"},
		"needs --save FILE":              {"--shard", "1/2"},
		"write for example 2/5":          {"--shard", "3/2", "--save", file("x")},
		"give --baseline to millgate":    {"--shard", "1/2", "--save", file("x"), "--baseline", file("one.json")},
		`did you mean "doors"?`:          {"--owner", "door"},
		"can be split among":             {"--shard", "1/900", "--save", file("x")},
		"no result of a sweep":           {"--baseline", gate},
		"no sweep to compare; give --ba": {"--shard", "1/2", "--save", file("x"), "--quiet-unless-changed"},
	}
	for says, args := range wrong {
		code, out = sweep(args...)
		assert.Equal(t, 2, code, out)
		assert.Contains(t, out, says)
	}
	code, out = sweep("--shard", "1/2", "--plan")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "every other shard")

	found := 0
	for _, k := range []string{"1", "2"} {
		code, out = sweep("--shard", k+"/2", "--save", file("part"+k+".json"), "--fail-on", "low", "--report",
			file("part"+k+".md"))
		found += code
		assert.Contains(t, out, "shard="+k+"/2")
		assert.FileExists(t, file("part"+k+".md"))
		code, out = sweep("--shard", k+"/2", "--save", file("part"+k+".json"))
		assert.Equal(t, 0, code, "findings are for merge: "+out)
	}
	assert.Positive(t, found, "the gap is in one of them")

	code, out = millgate("merge", file("part2.json"), file("part1.json"), "-o", file("whole.json"), "-o",
		file("whole.har"), "--baseline", file("before.json"))
	assert.Equal(t, 1, code, out)
	assert.Regexp(t, `new=1 .*exit=1`, out)
	read := func(name string) (r struct {
		Findings []struct{ ID, Kind, Severity string }
		Coverage any
	}) {
		b, err := os.ReadFile(file(name))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(b, &r))
		return r
	}
	assert.Equal(t, read("one.json"), read("whole.json"))
	b, err := os.ReadFile(file("whole.har"))
	require.NoError(t, err)
	assert.Contains(t, string(b), base+"/a", "it has exchanges")
	code, out = millgate("compare", file("before.json"), file("whole.json"))
	assert.Equal(t, 1, code, out)
	code, out = millgate("merge", file("part1.json"), file("part2.json"), "--baseline", file("one.json"), "--data",
		data)
	assert.Equal(t, 0, code, "it was there: "+out)
	assert.Contains(t, out, "sweep=1")
	code, out = millgate("report", "1", "--data", data, "-o", file("again.html"))
	assert.Equal(t, 0, code, out)
	code, out = millgate("merge", file("part1.json"), file("part2.json"), "--baseline", "sweep:1", "--data", data,
		"--format", "json")
	assert.Equal(t, 0, code, out)
	code, out = millgate("compare", "1", "2", "--data", data)
	assert.Equal(t, 0, code, out)

	code, out = millgate("merge", file("part1.json"), "--most-unproven", "100")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "shard 2/2 is missing")
	for says, args := range map[string][]string{
		"both are 1/2":               {"merge", file("part1.json"), file("part1.json")},
		"one.json is no shard":       {"merge", file("one.json")},
		"x.gate.yaml is no shard":    {"merge", gate},
		"no such file":               {"merge", file("none.json")},
		"join it with the others":    {"report", file("part1.json"), "-o", file("y.md")},
		"does not say by its ending": {"merge", file("part1.json"), "-o", file("y.doc")},
		"--baseline: the input":      {"merge", file("part1.json"), "--baseline", gate},
		"--most-unproven is a share": {"merge", file("part1.json"), "--most-unproven", "101"},
		"no route has the owner":     {"merge", file("part1.json"), file("part2.json"), "--owner", "nobody"},
		"requires at least 1 arg":    {"merge"},
	} {
		code, out = millgate(args...)
		assert.Equal(t, 2, code, out)
		assert.Contains(t, out, says)
	}
}
