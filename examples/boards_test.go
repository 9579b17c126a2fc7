package examples_test

// Rule: What a file with `millgate: 1` means never changes.

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration"
)

// known are the declarations of this project.
func known(t *testing.T) []string {
	t.Helper()
	files, err := filepath.Glob("*/*.gate.yaml")
	require.NoError(t, err)
	more, err := filepath.Glob("../core/declaration/testdata/*.gate.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, more)
	return append(files, more...)
}

// older is the declaration that shipped while there was the first version alone, with the
// inventory of the one that ships.
const older = "testdata/one/fernhollow-1.gate.yaml"

// The settled entries and the expectation of each crossing of the declarations that
// are known are in testdata/boards, one line a route, so that a change of the language shows
// what it does to files that people have. MILLGATE_GOLDEN=write writes them.
func TestBoardsStay(t *testing.T) {
	for _, file := range append(known(t), older) {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".gate.yaml"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			beside := filepath.Dir(file)
			if file == older {
				require.Regexp(t, `(?m)^millgate: 1$`, string(text))
				beside = "fernhollow"
			}
			d, msgs := declaration.ParseFiles(file, text, workspace.FilesIn(beside))
			for _, m := range msgs {
				require.NotEqual(t, declaration.Error, m.Level, m)
			}
			golden := filepath.Join("testdata", "boards", filepath.Base(strings.TrimSuffix(file, ".gate.yaml"))+".txt")
			if os.Getenv("MILLGATE_GOLDEN") == "write" {
				require.NoError(t, os.MkdirAll(filepath.Dir(golden), 0o755))
				require.NoError(t, os.WriteFile(golden, []byte(boardOf(d)), 0o600))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), boardOf(d))
		})
	}
}

// code is what the golden files call who is admitted.
func code(w declaration.Who) int {
	if w.On.Kind == declaration.OnOwn {
		return 3
	}
	return map[declaration.WhoKind]int{declaration.WhoNobody: 0, declaration.WhoAnyone: 1, declaration.WhoSignedIn: 2,
		declaration.WhoRole: 4, declaration.WhoIdentity: 5, declaration.WhoUndecided: 6}[w.Kind]
}

// grouped are the records that an alternative is about, where they are not one's own.
func grouped(on declaration.On) string {
	if on.Kind == declaration.OnGroup || on.Kind == declaration.OnWithin {
		return " on " + on.Name
	}
	return ""
}

// boardOf writes down what a declaration means.
func boardOf(d *declaration.Document) string {
	var b strings.Builder
	for i, r := range d.Routes {
		fmt.Fprintf(&b, "%s %s %s\n", r.Key(), r.Effect, r.Sensitivity)
		if e := d.Entry(i); e != nil {
			var who, given []string
			for _, w := range e.Who {
				who = append(who, fmt.Sprintf("%d%s%s", code(w), w.Name, grouped(w.On)))
			}
			for _, k := range slices.Sorted(maps.Keys(e.Given)) {
				given = append(given, fmt.Sprintf("%s=%v", k, e.Given[k]))
			}
			accepted := declaration.Names(d.Accepted(e), func(s *declaration.Scheme) string { return s.Name })
			fmt.Fprintf(&b, "  access :%d who %v given %v scope %v by %v broken %q hide %t owner of %q\n", e.Line, who,
				given, e.Scope, accepted, e.Broken, e.Hide, e.OwnerOf.Name)
		}
		if o := d.OriginsAt[i]; o >= 0 {
			fmt.Fprintf(&b, "  origins :%d", d.Origins[o].Line)
			for _, p := range d.Origins[o].Allow {
				fmt.Fprintf(&b, " %s %v %v %v %t %s;", p.Origin, p.Methods, p.Headers, p.Expose, p.Credentials,
					p.MaxAge)
			}
			b.WriteByte('\n')
		}
		for _, q := range d.QuotasAt[i] {
			fmt.Fprintf(&b, "  quota %s\n", d.Quotas[q].Name)
		}
		crossings(&b, d, i)
	}
	for _, s := range d.Schemes {
		fmt.Fprintf(&b, "scheme %s %s %s algorithms %v\n", s.Name, s.Kind, s.Token, s.Algorithms)
	}
	return b.String()
}

// crossings are the callers of a route, those with one expectation in one line.
func crossings(b *strings.Builder, d *declaration.Document, i int) {
	var order []string
	names := map[string][]string{}
	for _, id := range append([]*declaration.Identity{nil}, d.Identities...) {
		states, name := []access.State{access.Sound, access.Broken}, "nobody"
		if id == nil {
			states = []access.State{access.Absent}
		} else {
			name = id.Name
		}
		for _, state := range states {
			for _, of := range []access.Relation{access.NoRecord, access.Own, access.Foreign} {
				x := access.Evaluate(d, i, access.Caller{Identity: id, State: state, Record: of})
				says := fmt.Sprintf("%s (rung %d %s, depends %t)", x.Outcome, x.Decider, x.Subject, x.Depends)
				if _, ok := names[says]; !ok {
					order = append(order, says)
				}
				names[says] = append(names[says], strings.Trim(fmt.Sprintf("%s/%s/%s", name, state, of), "/"))
			}
		}
	}
	for _, says := range order {
		fmt.Fprintf(b, "  %s: %s\n", says, strings.Join(names[says], " "))
	}
}
