package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBeside(t *testing.T) {
	for path, want := range map[string]string{"/a/b": "/a/" + Nowhere, "/a/b/": "/a/" + Nowhere + "/",
		"/": "/" + Nowhere, "//a": "//" + Nowhere} {
		assert.Equal(t, want, Beside(path), path)
	}
}
