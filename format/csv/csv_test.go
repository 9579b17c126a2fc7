package csv

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	got, problems, err := Read([]byte("Method;Path;What;Effect;Sensitivity;Tag;Host\nget;/a/{id};One;;HIGH;things;\nPOST;/b;\"a; b\";Command;;;id\n;PUT /c;;;;;\n"))
	require.NoError(t, err)
	require.Empty(t, problems)
	require.Len(t, got, 3)
	assert.Equal(t, "GET /a/{id}", got[0].Key)
	assert.Equal(t, "high", got[0].Sensitivity)
	assert.Equal(t, "things", got[0].Group)
	assert.Equal(t, 2, got[0].Line)
	assert.Equal(t, "POST id:/b", got[1].Key)
	assert.Equal(t, "a; b", got[1].Summary)
	assert.Equal(t, "command", got[1].Effect)
	assert.Equal(t, "PUT /c", got[2].Key)
}

func TestRowsThatCannotBeRead(t *testing.T) {
	got, problems, err := Read([]byte("method,path,effect\nGET,,\n,/a,\nGET,/b,raed\nGET,/c,read\n"))
	require.NoError(t, err)
	assert.Len(t, got, 1)
	require.Len(t, problems, 3)
	assert.Equal(t, Problem{2, "it has no path"}, problems[0])
	assert.Equal(t, Problem{3, "it has no method"}, problems[1])
	assert.Equal(t, 4, problems[2].Line)
	assert.Contains(t, problems[2].Text, `"raed" is no effect: did you mean read?`)
	for _, s := range []string{"", "a,b\n1,2\n"} {
		_, _, err := Read([]byte(s))
		assert.ErrorIs(t, err, ErrFormat)
	}
}
