package main

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVersion(t *testing.T) {
	version = "1.2.3"
	defer func() { version = "" }()
	var out bytes.Buffer
	c := root()
	c.SetOut(&out)
	c.SetArgs([]string{"version"})
	require.NoError(t, c.Execute())
	assert.Regexp(t, `^millgate 1\.2\.3 \((commit [0-9a-f]{12}(, changed)?, )?go1\.\d+(\.\d+)?, \w+/\w+\)\n$`, out.String())
	version = ""
	assert.Contains(t, built(), "millgate unreleased (")
}
