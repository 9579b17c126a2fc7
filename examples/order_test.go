package examples_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/workspace"
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
)

// shuffled is a declaration whose identities stand in another order. Each begins two columns in.
func shuffled(t *testing.T, text string, r *rand.Rand) string {
	t.Helper()
	from := strings.Index(text, "\nidentities:\n") + len("\nidentities:\n")
	to := from + regexp.MustCompile(`(?m)^\S`).FindStringIndex(text[from:])[0]
	var list []string
	for line := range strings.Lines(text[from:to]) {
		if strings.HasPrefix(line, "   ") || strings.TrimSpace(line) == "" {
			list[len(list)-1] += line
			continue
		}
		list = append(list, line)
	}
	require.Greater(t, len(list), 2)
	r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return text[:from] + strings.Join(list, "") + text[to:]
}

// planned is everything that a plan says, in an order of its own.
func planned(t *testing.T, pl *check.Plan) (out []string) {
	t.Helper()
	for _, p := range pl.Probes {
		detail, err := json.Marshal(p.Detail)
		require.NoError(t, err)
		out = append(out, fmt.Sprint(p.Key(), " ", p.Control, " ", p.StandsFor, " ", p.Record, " ", p.Phase, " ",
			string(detail)))
	}
	for _, l := range pl.Left {
		out = append(out, fmt.Sprint(l))
	}
	slices.Sort(out)
	return out
}

// The order of the identities decides nothing: not who is sent, nor whose credential is broken, nor
// what is left out. One that opens little is broken, whoever stands first.
func TestTheOrderOfIdentitiesDecidesNothing(t *testing.T) {
	tried, raised := 0, 0
	for _, file := range known(t) {
		text, err := os.ReadFile(file) //nolint:gosec // of this project
		require.NoError(t, err)
		of := func(text string) []string {
			d, msgs := declaration.ParseFiles(file, []byte(text), workspace.FilesIn(filepath.Dir(file)))
			require.False(t, declaration.Failed(msgs), "%v", msgs)
			if len(d.Targets) == 0 || len(d.Identities) < 3 {
				return nil
			}
			return planned(t, check.NewPlan(d, d.Targets[0], families.All))
		}
		want := of(string(text))
		if want == nil {
			continue
		}
		tried++
		r := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // drawn alike each time
		for range 6 {
			assert.Equal(t, want, of(shuffled(t, string(text), r)), file)
		}
		for _, line := range want {
			if strings.HasPrefix(line, "credential|") && strings.Contains(line, `"Way":"raised role"`) {
				raised++
				assert.NotContains(t, line, `"Donor":"odell"`, "the director has no role to gain")
			}
		}
	}
	assert.Greater(t, tried, 1)
	assert.Positive(t, raised)
}
