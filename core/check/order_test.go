package check

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
		assert.Equal(t, want, [2]string{Unlike(id, 0), Unlike(id, 1)}, id)
	}
}

func TestBeside(t *testing.T) {
	for path, want := range map[string]string{"/a/b": "/a/" + Nowhere, "/a/b/": "/a/" + Nowhere + "/",
		"/": "/" + Nowhere, "//a": "//" + Nowhere} {
		assert.Equal(t, want, Beside(path), path)
	}
}
