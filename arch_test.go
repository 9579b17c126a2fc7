package millgate_test

import (
	"encoding/json"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// may says which packages of the project each layer may import. Imports run
// downward only.
var may = map[string][]string{
	"cmd":      {"server", "app", "core", "standin", "examples"},
	"server":   {"app", "core", "format", "wire", "server"},
	"app":      {"wire", "store", "format", "core"},
	"wire":     {"core"},
	"store":    {"core"},
	"format":   {"core"},
	"core":     {"core"},
	"standin":  {},
	"testkit":  {"core"},
	"examples": {},
	"e2e":      {},
	"api":      {},
}

// outside is what the core may import beside the standard library.
var outside = []string{"github.com/goccy/go-yaml", "github.com/go-jose/go-jose/v4", "github.com/dunglas/httpsfv"}

func layer(path string) string {
	return strings.SplitN(strings.TrimPrefix(path, "millgate/"), "/", 2)[0]
}

func TestImportsRunDownward(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Standard", "./...").Output()
	require.NoError(t, err)
	d := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
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
		from := layer(p.ImportPath)
		allowed, known := may[from]
		require.True(t, known, "the layer of %s is not in the table", p.ImportPath)
		for _, i := range p.Imports {
			if strings.HasPrefix(i, "millgate/") {
				assert.Contains(t, allowed, layer(i), "%s imports %s", p.ImportPath, i)
				continue
			}
			if from != "core" {
				continue
			}
			if strings.Contains(strings.SplitN(i, "/", 2)[0], ".") {
				ok := false
				for _, o := range outside {
					ok = ok || i == o || strings.HasPrefix(i, o+"/")
				}
				assert.True(t, ok, "%s imports %s", p.ImportPath, i)
			}
			for _, never := range []string{"net", "net/http", "os", "os/exec", "sync", "io/fs", "context", "math/rand", "math/rand/v2"} {
				assert.NotEqual(t, never, i, "%s imports %s: the core has no network, disk, environment or goroutine", p.ImportPath, i)
			}
		}
	}
	assert.Greater(t, seen, 12)
}

func TestTheCoreDoesNotReadTheClock(t *testing.T) {
	out, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Sleep|After)\(|go func`, "core", "--include=*.go", "--exclude=*_test.go").Output()
	var exit *exec.ExitError
	if err != nil {
		require.ErrorAs(t, err, &exit)
	}
	assert.Empty(t, string(out))
}
