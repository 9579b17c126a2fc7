package app

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/planning"
	"millgate/app/report"
	"millgate/standin"
)

// A canary for each secret is looked for in all that a sweep leaves behind.
func TestSecretsStayInside(t *testing.T) {
	if testing.Short() {
		t.Skip("whole sweeps of the stand-in, of which TestBoardOfTheDemo has one; make test has it")
	}
	data := t.TempDir()
	secrets := map[string]string{}
	for k := range standin.Secrets() {
		secrets[k] = "canary-" + strings.ToLower(k) + "-7c1e"
	}
	s := listen(t, standin.Options{Flaws: standin.Demo, Secrets: secrets})
	a := opened(t, s, nil, data)
	for k, v := range secrets {
		t.Setenv(k, v)
	}
	events, end := a.Events.Listen()
	swept(t, a)
	end()
	var told strings.Builder
	for e := range events {
		b, err := json.Marshal(e)
		require.NoError(t, err)
		told.Write(b)
	}
	require.Contains(t, told.String(), `"type":"verdict"`)
	b, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	seen := 0
	for _, row := range b.Rows {
		for _, c := range b.Columns {
			v, err := a.View.Crossing(t.Context(), "", row.Key, c.Key)
			require.NoError(t, err)
			j, err := json.Marshal(v)
			require.NoError(t, err)
			told.Write(j)
			seen += len(v.Probes)
		}
	}
	assert.Greater(t, seen, 500)
	files, err := filepath.Glob(filepath.Join(data, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		told.Write(raw)
	}
	for _, values := range []bool{false, true} {
		r, err := a.Reports.Of(t.Context(), 1, report.Options{Values: values, AtMost: 1000})
		require.NoError(t, err)
		require.NotEmpty(t, r.Findings[0].Evidence)
		for _, ending := range []string{".sarif", ".xml", ".html", ".md", ".csv", ".json", ".har"} {
			require.NoError(t, r.As(ending, &told), ending)
		}
	}
	witnesses := 0
	k, err := a.Past.Of(t.Context(), "")
	require.NoError(t, err)
	for _, l := range k.Lines {
		for _, form := range []report.Form{report.AsMarkdown, report.AsCurl, report.AsHAR, report.AsWitness} {
			c, err := a.Reports.Copy(t.Context(), "", l.Finding.ID, form)
			if form == report.AsWitness && err != nil {
				require.ErrorContains(t, err, "one status does not tell", l.Finding.ID)
				continue
			}
			if form == report.AsHAR && err != nil { // it is about what a login gave out
				require.ErrorContains(t, err, "has no exchanges")
				continue
			}
			require.NoError(t, err, "%s of %s", form, l.Finding.ID)
			told.WriteString(c.Text)
			if form == report.AsWitness {
				witnesses++
			}
		}
	}
	assert.Greater(t, witnesses, 8, "most findings have one")
	part := planning.Part{Shard: planning.Shard{Number: 1, Of: 2}}
	run, err := a.Sweeps.StartPart(t.Context(), "stand-in", "", part)
	require.NoError(t, err)
	a.Sweeps.Wait(run.ID)
	shard, err := a.Shards.Export(t.Context(), run.ID, part)
	require.NoError(t, err)
	require.Greater(t, len(shard.Facts), 500)
	require.NoError(t, shard.Write(&told))
	all := told.String()
	require.Contains(t, all, "Bearer ‹token:")
	for k, v := range secrets {
		if strings.HasSuffix(k, "_PASSWORD") || k == "NIGHTRUN_SECRET" || k == "LANTERNFISH_KEY" {
			assert.NotContains(t, all, v, k)
		}
	}
	assert.NotRegexp(t, `eyJ[A-Za-z0-9_-]{10,}\.`, all, "no token")
}
