package millgate_test

// Rule: Imports run downward only.

import (
	"encoding/json"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// arrows are all imports between packages of the project. They run downward only: cmd, server,
// app, then wire, store and format, which do not know each other, then core; standin and
// testkit stand apart. An arrow that is not here is a decision: make it, or turn it round.
var arrows = map[string][]string{
	"app": {
		"app/callers", "app/events", "app/importing", "app/observing",
		"app/past", "app/report", "app/shards", "app/snapshot",
		"app/sweep",
		"app/tokens",
		"app/view",
		"app/workspace", "store",
	},
	"app/callers": {
		"app/fault", "app/workspace", "core/access", "core/byexample", "core/check", "core/declaration",
		"core/declaration/layout", "core/madeup", "core/personal", "core/route", "core/token", "format/csv",
		"format/har", "format/pasted", "store", "wire",
	},
	"app/buried": {"core/check", "store"},
	"app/past": {
		"app/coverage", "app/events", "app/fault", "app/snapshot", "app/workspace", "core/declaration",
		"core/finding", "core/history", "store",
	},
	"core/history": {"core/finding"},
	"app/coverage": {
		"app/events", "app/planning", "app/snapshot", "core/access", "core/check", "core/check/credential",
		"core/check/crossing", "core/check/quotas", "core/check/undeclared", "core/declaration", "core/finding",
		"core/history",
	},
	"app/events": {"core/check", "core/finding", "store"},
	"app/fault":  {"wire"},
	"app/importing": {
		"app/fault", "app/workspace", "core/byexample", "core/declaration", "core/declaration/layout", "core/inventory",
		"core/madeup", "core/route", "format/accesslog", "format/csv", "format/har", "format/openapi",
	},
	"app/observing": {
		"app/events", "app/fault", "app/planning", "app/room", "app/workspace", "core/access", "core/check",
		"core/declaration", "core/observe", "store", "wire",
	},
	"app/planning": {
		"app/fault", "app/room", "app/snapshot", "core/access", "core/check", "core/check/quotas",
		"core/declaration", "core/finding", "core/quota", "core/route",
	},
	"app/report": {
		"app/coverage", "app/events", "app/fault", "app/past", "app/planning", "app/snapshot", "app/workspace",
		"core/access", "core/check", "core/check/families", "core/declaration", "core/finding", "core/history",
		"format/curl", "format/har",
	},
	"app/room": {"core/check", "core/declaration", "core/quota", "core/route"},
	"app/shards": {
		"app/coverage", "app/fault", "app/planning", "app/snapshot", "app/workspace", "core/check",
		"core/check/quotas", "core/declaration", "core/quota", "core/route", "store",
	},
	"app/snapshot": {
		"app/workspace", "core/access", "core/check", "core/check/credential", "core/check/crossing",
		"core/check/detour", "core/check/families", "core/check/issued", "core/check/logins",
		"core/check/malformed", "core/check/pages", "core/check/quotas", "core/check/raised",
		"core/check/sessions", "core/check/undeclared", "core/declaration", "core/finding", "core/quota",
		"core/session", "core/token", "store",
	},
	"app/sweep": {
		"app/buried",
		"app/coverage", "app/events", "app/fault", "app/planning", "app/room", "app/snapshot", "app/workspace",
		"core/access", "core/check", "core/check/logins", "core/check/quotas", "core/declaration", "core/field",
		"core/mask", "core/quota", "core/route", "core/session", "core/token", "store", "wire",
	},
	"app/tokens": {
		"app/events", "app/fault", "app/workspace", "core/access", "core/declaration", "core/token",
		"format/curl", "format/tokenfile", "store",
	},
	"app/view": {
		"app/coverage", "app/events", "app/fault", "app/planning", "app/snapshot", "app/sweep", "app/workspace",
		"core/access", "core/check", "core/check/clocks", "core/check/crossing", "core/check/pages",
		"core/check/quotas", "core/check/raised", "core/check/sessions", "core/check/undeclared", "core/declaration",
		"core/field", "core/finding", "core/origin", "core/quota", "core/review", "core/route",
		"core/session", "format/har", "store",
	},
	"app/workspace": {
		"app/events", "app/fault", "core/access", "core/check/pages", "core/declaration", "core/declaration/assist",
		"core/declaration/layout", "core/finding", "core/review", "core/route", "core/token", "format/openapi",
		"store", "wire",
	},
	"cmd/millgate": {
		"app", "app/importing", "app/coverage", "app/events", "app/fault", "app/observing", "app/past", "app/planning",
		"app/report",
		"app/shards", "app/sweep", "app/tokens",
		"app/view", "app/workspace", "core/access", "core/declaration", "core/declaration/layout", "core/finding",
		"core/check", "core/history", "core/inventory", "core/observe",
		"core/review", "core/route", "core/token", "examples", "server", "standin", "store",
	},
	"core/access": {"core/declaration", "core/declaration/layout", "core/route"},
	"core/byexample": {
		"core/declaration", "core/declaration/layout", "core/field", "core/inventory", "core/madeup", "core/origin",
		"core/personal", "core/pointer", "core/route", "core/token",
	},
	"core/check": {
		"core/access", "core/declaration", "core/field", "core/finding", "core/mask", "core/pointer",
		"core/route", "core/session", "core/token",
	},
	"core/check/accounts": {"core/access", "core/check", "core/declaration", "core/finding"},
	"core/check/answers": {"core/access", "core/check", "core/declaration", "core/finding", "core/mask",
		"core/pointer"},
	"core/check/clocks": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/token",
	},
	"core/check/credential": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/session", "core/token",
	},
	"core/check/crossing": {"core/access", "core/check", "core/declaration", "core/finding", "core/route"},
	"core/check/detour":   {"core/access", "core/check", "core/declaration", "core/finding", "core/route"},
	"core/check/families": {
		"core/check", "core/check/accounts", "core/check/answers", "core/check/clocks", "core/check/credential",
		"core/check/crossing",
		"core/check/detour", "core/check/headers", "core/check/issued", "core/check/lists", "core/check/logins",
		"core/check/malformed",
		"core/check/order", "core/check/pages",
		"core/check/quotas", "core/check/raised", "core/check/requests", "core/check/sessions", "core/check/undeclared",
		"core/finding",
	},
	"core/check/headers": {"core/access", "core/check", "core/declaration", "core/field", "core/finding"},
	"core/check/issued": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/session", "core/token",
	},
	"core/check/lists":     {"core/access", "core/check", "core/declaration", "core/finding", "core/pointer"},
	"core/check/logins":    {"core/access", "core/check", "core/declaration", "core/finding"},
	"core/check/malformed": {"core/access", "core/check", "core/declaration", "core/finding"},
	"core/check/order":     {"core/access", "core/check", "core/declaration", "core/finding"},
	"core/check/pages": {
		"core/access", "core/check", "core/declaration", "core/field", "core/finding", "core/origin",
	},
	"core/check/quotas": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/quota", "core/token",
	},
	"core/check/raised":   {"core/access", "core/check", "core/declaration", "core/finding"},
	"core/check/requests": {"core/access", "core/check", "core/declaration", "core/field", "core/finding"},
	"core/check/sessions": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/pointer", "core/session",
	},
	"core/check/undeclared": {
		"core/access", "core/check", "core/declaration", "core/finding", "core/route", "core/weburl",
	},
	"core/declaration":        {"core/field", "core/mask", "core/pointer", "core/route", "core/weburl"},
	"core/declaration/assist": {"core/declaration", "core/declaration/layout"},
	"core/declaration/layout": {"core/declaration", "core/route"},
	"core/field":              {},
	"core/finding":            {"core/declaration"},
	"core/inventory":          {"core/declaration", "core/route"},
	"core/madeup":             {"core/declaration", "core/inventory", "core/personal", "core/route"},
	"core/observe": {
		"core/access", "core/check", "core/declaration", "core/declaration/layout", "core/route",
	},
	"core/mask":    {"core/field"},
	"core/origin":  {"core/declaration", "core/field", "core/weburl"},
	"core/pointer": {},
	"core/quota":   {"core/declaration", "core/field"},
	"core/review": {
		"core/access", "core/declaration", "core/declaration/layout", "core/finding", "core/quota", "core/route",
	},
	"core/route":       {},
	"core/personal":    {},
	"core/session":     {"core/declaration", "core/finding", "core/token"},
	"core/token":       {"core/access", "core/declaration", "core/finding", "core/personal", "core/pointer"},
	"core/weburl":      {},
	"e2e":              {},
	"examples":         {},
	"format/accesslog": {"core/inventory"},
	"format/csv":       {"core/declaration", "core/inventory"},
	"format/curl":      {"core/access", "core/check", "core/declaration", "core/field", "core/route"},
	"format/har":       {"core/byexample", "core/declaration", "core/field", "core/inventory", "core/origin"},
	"format/pasted":    {"core/byexample", "core/declaration", "core/field"},
	"format/openapi":   {"core/declaration"},
	"format/tokenfile": {},
	"server": {
		"app", "app/callers", "app/coverage", "app/events", "app/fault", "app/importing", "app/observing", "app/past",
		"app/report", "app/snapshot",
		"app/sweep", "app/tokens", "app/view", "app/workspace", "core/access", "core/check", "core/check/families",
		"core/check/pages", "core/declaration", "core/declaration/layout", "core/finding", "core/history",
		"core/observe", "core/origin", "core/quota", "core/review", "format/accesslog", "format/curl", "format/har",
		"server/contract",
	},
	"server/contract":   {},
	"standin":           {},
	"store":             {},
	"testkit/boathouse": {},
	"testkit/exchanges": {"core/field", "core/origin"},
	"testkit/memnet":    {},
	"testkit/play":      {"core/access", "core/check", "core/finding"},
	"testkit/written":   {},
	"wire": {
		"core/access", "core/check", "core/declaration", "core/field", "core/mask", "core/pointer", "core/route",
		"core/session", "core/token",
	},
}

// layers from the top, each of which imports only what stands below it. Packages of one layer
// do not import each other, but in app, core and server, whose arrows are above.
var layers = [][]string{{"cmd"}, {"server"}, {"app"}, {"wire", "store", "format"}, {"core"}}

// outside is what the core may import beside the standard library.
var outside = []string{"github.com/goccy/go-yaml", "github.com/go-jose/go-jose/v4", "github.com/dunglas/httpsfv",
	"github.com/nlnwa/whatwg-url"}

func layer(name string) string { return strings.SplitN(name, "/", 2)[0] }

// height counts from the top; -1 stands apart.
func height(name string) int {
	return slices.IndexFunc(layers, func(l []string) bool { return slices.Contains(l, layer(name)) })
}

func TestImportsRunDownward(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Standard", "./...").Output()
	require.NoError(t, err)
	d := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	left := maps.Clone(arrows)
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		if !strings.HasPrefix(p.ImportPath, "millgate/") {
			continue
		}
		seen++
		name := strings.TrimPrefix(p.ImportPath, "millgate/")
		allowed, known := arrows[name]
		assert.True(t, known, "%s is not in the graph", name)
		delete(left, name)
		var used []string
		for _, i := range p.Imports {
			if to, ours := strings.CutPrefix(i, "millgate/"); ours {
				used = append(used, to)
				assert.Contains(t, allowed, to, "%s imports %s", name, to)
				a, b := height(name), height(to)
				same := layer(name) == layer(to) && slices.Contains([]string{"app", "core", "server"}, layer(name))
				assert.True(t, a < 0 || b < 0 || a < b || same, "%s imports %s, which does not stand below it", name,
					to)
				continue
			}
			if layer(name) != "core" {
				continue
			}
			if strings.Contains(strings.SplitN(i, "/", 2)[0], ".") {
				ok := false
				for _, o := range outside {
					ok = ok || i == o || strings.HasPrefix(i, o+"/")
				}
				assert.True(t, ok, "%s imports %s", p.ImportPath, i)
			}
			for _, never := range []string{"net", "net/http", "os", "os/exec", "sync", "io/fs", "context", "math/rand",
				"math/rand/v2"} {
				assert.NotEqual(t, never, i, "%s imports %s: the core has no network, disk, environment or goroutine",
					p.ImportPath, i)
			}
		}
		for _, to := range allowed {
			assert.Contains(t, used, to, "the graph has an arrow from %s that is not used", name)
		}
	}
	assert.Empty(t, left, "the graph has packages that are not there")
	assert.Greater(t, seen, 12)
}

func TestTheCoreDoesNotReadTheClock(t *testing.T) {
	out, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Sleep|After)\(|go func`, "core", "--include=*.go",
		"--exclude=*_test.go").Output()
	var exit *exec.ExitError
	if err != nil {
		require.ErrorAs(t, err, &exit)
	}
	assert.Empty(t, string(out))
}

// No package of the use cases grows until everything in it can reach everything; the one on top
// wires them and does nothing else.
func TestUseCasesStaySmall(t *testing.T) {
	lines := map[string]int{}
	files, err := filepath.Glob("app/*/*.go")
	require.NoError(t, err)
	top, err := filepath.Glob("app/*.go")
	require.NoError(t, err)
	for _, f := range append(files, top...) {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		lines[filepath.Dir(f)] += strings.Count(string(b), "\n")
	}
	for name, n := range lines {
		assert.LessOrEqual(t, n, 2500, name)
	}
	assert.LessOrEqual(t, lines["app"], 300)
}

// Each rule of docs/maintaining.md has a file that names it in its first comment.
func TestRulesHaveTheirFile(t *testing.T) {
	text, err := os.ReadFile("docs/maintaining.md")
	require.NoError(t, err)
	_, table, ok := strings.Cut(string(text), "| rule | file |\n| --- | --- |\n")
	require.True(t, ok)
	table, _, _ = strings.Cut(table, "\n\n")
	rows := strings.Split(strings.TrimSpace(table), "\n")
	assert.Greater(t, len(rows), 12)
	for _, row := range rows {
		cells := strings.Split(strings.Trim(row, "| "), " | ")
		require.Len(t, cells, 2, row)
		f, err := parser.ParseFile(token.NewFileSet(), cells[1], nil, parser.ParseComments)
		if !assert.NoError(t, err) || !assert.NotEmpty(t, f.Comments, cells[1]) {
			continue
		}
		first := strings.Join(strings.Fields(f.Comments[0].Text()), " ")
		assert.Contains(t, first, "Rule: "+cells[0]+".", cells[1])
	}
}

// testNames are the tests and fuzz targets of the project.
func testNames(t *testing.T) map[string]bool {
	t.Helper()
	tests := map[string]bool{}
	named := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`)
	require.NoError(t, filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git"):
			return filepath.SkipDir
		case !strings.HasSuffix(path, "_test.go"):
			return nil
		}
		b, err := os.ReadFile(path)
		for _, m := range named.FindAllSubmatch(b, -1) {
			tests[string(m[1])] = true
		}
		return err
	}))
	return tests
}

// Whatever docs/maintaining.md names in a recipe is there: files, and the tests that hold it.
func TestRecipes(t *testing.T) {
	text, err := os.ReadFile("docs/maintaining.md")
	require.NoError(t, err)
	_, section, ok := strings.Cut(string(text), "\n## Adding things\n")
	require.True(t, ok)
	section, _, _ = strings.Cut(section, "\n## ")
	tests := testNames(t)
	recipes := strings.Split(section, "\n### ")[1:]
	assert.Greater(t, len(recipes), 10)
	for _, r := range recipes {
		title, _, _ := strings.Cut(r, "\n")
		held, dir := 0, ""
		for _, m := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(r, -1) {
			switch name := m[1]; {
			case regexp.MustCompile(`^(Test|Fuzz)[A-Z]\w+$`).MatchString(name):
				held++
				assert.True(t, tests[name], "%s: there is no test %s", title, name)
			case regexp.MustCompile(`^[\w./-]+\.(go|ts|sh|md|json|yaml)$`).MatchString(name),
				regexp.MustCompile(`^(core|app|web|format|testkit)/[\w/]*$`).MatchString(name):
				if !strings.Contains(name, "/") && dir != "" { // beside the one before
					if name = filepath.Join(dir, name); !assert.FileExists(t, name, title) {
						continue
					}
				}
				_, err := os.Stat(name)
				assert.NoError(t, err, title)
				dir = filepath.Dir(name)
			}
		}
		assert.True(t, held > 0 || strings.Contains(r, "scripts/generated.sh"), "%s is held by no test", title)
	}
}

// A proof is made where something is judged, and nowhere else: these packages may ask for
// one, and no other file makes one in another way.
func TestWhoProves(t *testing.T) {
	makers := regexp.MustCompile(`check\.(Shown|Speaks|TurnedAway|Changed)\(`)
	literal := regexp.MustCompile(`\bProof\{[^}]`)
	may := []string{"core/check/"} // the families
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if makers.Match(text) {
			inside := func(folder string) bool { return strings.HasPrefix(path, folder) }
			assert.True(t, slices.ContainsFunc(may, inside), "%s proves", path)
		}
		if path != filepath.Join("core", "check", "verdict.go") {
			assert.False(t, literal.Match(text), "%s makes a proof without what it rests on", path)
		}
		return nil
	})
	require.NoError(t, err)
}
