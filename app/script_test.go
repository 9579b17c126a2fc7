package app

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
)

// A command line is that of what a probe is about, although its record is made and read
// before.
func TestTheFirstCall(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "allowed"), "")
	d, _ := a.Workspace.Document()
	tg := d.TargetNamed("stand-in")
	pl := check.NewPlan(d, tg, a.Targets.Families)
	for key, want := range map[string]string{
		"crossing|DELETE /t/{id}|nobody||absent||":            "DELETE /t/t9",
		"crossing|DELETE /t/{id}|ann|access|sound|own|":       "DELETE /t/t9",
		"around|DELETE /t/{id}|nobody||absent||letter case":   "DELETE /T/t9",
		"undeclared|PUT /t/{id}|nobody||absent||other-method": "PUT /t/t9",
		"crossing|GET /a|ann|access|sound||":                  "GET /a",
	} {
		p := pl.Find(key)
		require.NotNil(t, p, key)
		call := a.View.FirstCall(d, tg, p, nil)
		require.NotNil(t, call, key)
		assert.Equal(t, check.TheRequest, call.Name)
		q := call.Request.OnID("t9")
		assert.Equal(t, want, q.Method+" "+q.Path, key)
	}
}
