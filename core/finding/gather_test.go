package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/declaration"
)

// What the inventory does not have is as grave as what was sent to it: something that changes.
func TestSeverityOfWhatIsNotDeclared(t *testing.T) {
	d := &declaration.Document{}
	for unsafe, want := range map[bool]Severity{false: Rate(Undeclared, declaration.Read, declaration.Medium, ByMany),
		true: Rate(Undeclared, declaration.Update, declaration.Medium, ByMany)} {
		b := bundle{row: &Row{Kind: Undeclared}, scope: Scope{Of: AtNoRoute}, seen: []Seen{{Route: "PUT /x",
			Unsafe: unsafe}}}
		is, why := b.severity(d, ByMany)
		assert.Equal(t, want, is)
		assert.Contains(t, why, "undeclared is 4, effect ")
	}
	assert.NotEqual(t, Rate(Undeclared, declaration.Read, declaration.Medium, ByMany),
		Rate(Undeclared, declaration.Update, declaration.Medium, ByMany))
}
