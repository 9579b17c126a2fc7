package order

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestUnlike(t *testing.T) {
	for id, want := range map[string][2]string{
		"f-501":  {"f-945", "f-056"},
		"abcXyz": {"jklGhi", "klmHij"},
		"7":      {"1", "2"},
		"--":     {"--", "--"},
		"3f2504e0-4f89-41d3-9a0c-0305e82c3301": {"3f2504e0-4f89-41d3-9a0c-0305e82c7745",
			"3f2504e0-4f89-41d3-9a0c-0305e82c8856"},
	} {
		assert.Equal(t, want, [2]string{unlike(id, 0), unlike(id, 1)}, id)
	}
}
