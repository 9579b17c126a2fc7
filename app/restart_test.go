package app

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
	"millgate/standin"
)

func TestRestartChecksInTheirOrder(t *testing.T) {
	s := listen(t, standin.Options{Control: true})
	a := opened(t, s, nil, "")
	_, err := a.Sweeps.CompareAfterRestart(t.Context(), "stand-in", "login")
	assert.ErrorContains(t, err, "first")
	_, err = a.Sweeps.FillForRestart(t.Context(), "stand-in", "partner")
	assert.ErrorContains(t, err, "wait in place of being refused")
	_, err = a.Sweeps.FillForRestart(t.Context(), "stand-in", "dome")
	assert.ErrorContains(t, err, "which a restart ends anyway")
	_, err = a.Sweeps.FillForRestart(t.Context(), "stand-in", "nothing")
	assert.ErrorIs(t, err, fault.ErrNotFound)
}

func TestTheClockOfTheStandIn(t *testing.T) {
	s := listen(t, standin.Options{Control: true})
	a := opened(t, s, nil, "")
	_, err := a.Sweeps.FillForRestart(t.Context(), "stand-in", "login")
	require.NoError(t, err)
	res, err := http.Post(s.Control+"/clock?advance=6m", "", nil)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	r, err := a.Sweeps.CompareAfterRestart(t.Context(), "stand-in", "login")
	require.NoError(t, err)
	assert.True(t, r.Forgets, "its window has ended by its own clock")
	res, err = http.Post(s.Control+"/clock?advance=x", "", nil)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, 400, res.StatusCode)
}
