package sweep

import (
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"

	"millgate/core/check"
)

// What is equal is there once, and nothing becomes another than it was.
func TestWhatIsAlikeIsThereOnce(t *testing.T) {
	var a alike
	exchange := func(date, content string) check.Exchange {
		return check.Exchange{Method: "GET", Status: 401, Content: content, Headers: [][2]string{{"Accept", "*/*"}},
			Answer: [][2]string{{"Content-Type", "application/json"}, {"Date", date}}}
	}
	one, two, three := exchange("now", `{"error":"no"}`), exchange("now", strings.Clone(`{"error":"no"}`)),
		exchange("later", `{"error":"other"}`)
	for _, x := range []*check.Exchange{&one, &two, &three} {
		before := *x
		a.share(x)
		assert.Equal(t, before, *x)
	}
	assert.Same(t, &one.Answer[0], &two.Answer[0])
	assert.Same(t, unsafe.StringData(one.Content), unsafe.StringData(two.Content))
	assert.Same(t, unsafe.StringData(one.Answer[0][1]), unsafe.StringData(three.Answer[0][1]), "but for a date")
	long := exchange("", strings.Repeat("x", alikeText+1))
	a.share(&long)
	assert.NotContains(t, a.texts, long.Content, "what is long is hardly alike")
	for i := range 2 * alikeMost {
		x := exchange(strings.Repeat("d", i%50)+string(rune('a'+i%26)), strings.Repeat("y", i%4000))
		a.share(&x)
	}
	assert.LessOrEqual(t, len(a.texts), alikeMost)
	assert.LessOrEqual(t, len(a.fields), alikeMost)
}
