package finding

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/declaration"
	"millgate/testkit/written"
)

// severityTable is the whole table as docs/severity.md holds it.
func severityTable() string {
	var b strings.Builder
	eases := []Ease{ByAFew, ByMany, ByAnyone, AsAll}
	b.WriteString("| kind | effect |")
	for _, s := range []declaration.Sensitivity{declaration.Low, declaration.Medium, declaration.High} {
		for _, ease := range eases {
			fmt.Fprintf(&b, " %s, %s |", s, ease)
		}
	}
	b.WriteString("\n| --- | --- |" + strings.Repeat(" --- |", 3*len(eases)) + "\n")
	for _, k := range Order[:9] {
		for _, e := range []declaration.Effect{declaration.Read, declaration.Create, declaration.Update,
			declaration.Delete, declaration.Command} {
			fmt.Fprintf(&b, "| %s %s | %s |", k, k.Name(), e)
			for _, s := range []declaration.Sensitivity{declaration.Low, declaration.Medium, declaration.High} {
				for _, ease := range eases {
					fmt.Fprintf(&b, " %s |", Rate(k, e, s, ease))
				}
			}
			b.WriteByte('\n')
		}
	}
	return b.String()
}

const severityIntro = `# Severity

The severity of a finding follows from four things: the kind of gap, what the
route does, how sensitive the declaration says it is, and who can use the gap.

- **few**: one or two signed-in callers of more who should be out
- **many**: three or more signed-in callers, or everyone who was sent and should be out
- **anyone**: nobody needs an account
- **all**: nobody needs an account, and it gives the rights of any caller, as a token does that
  anybody can make

Where a finding stands at several routes, the gravest of them counts. A record of somebody else
that is shown or changed is high at least.

Where a cause has a severity of its own in [findings](findings.md), that counts: what is wrong
with an issued token does not depend on a route.

This is the complete table. It is written by a test from the code, and the test
fails when the two differ (` + "`UPDATE_DOCS=1 go test ./core/finding`" + ` writes it anew).

`

func TestSeverityTableIsDocumented(t *testing.T) {
	const path = "../../docs/severity.md"
	written.File(t, path, severityIntro+severityTable())
}

func TestSeverityRisesWithEachPart(t *testing.T) {
	for _, k := range Order[:9] {
		low := Rate(k, declaration.Read, declaration.Low, ByAFew)
		high := Rate(k, declaration.Delete, declaration.High, ByAnyone)
		assert.True(t, high.AtLeast(low), k)
	}
	assert.Equal(t, Critical, Rate(Unprotected, declaration.Delete, declaration.High, ByAnyone))
	assert.Equal(t, Low, Rate(WrongRefusal, declaration.Read, declaration.Medium, ByAnyone))
	assert.False(t, Severity("").AtLeast(Low))
}
