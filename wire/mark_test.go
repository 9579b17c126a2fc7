package wire

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each request has a mark of its own, all of a client one trace; an answer that repeats them is the
// same as any other.
func TestEachRequestIsMarked(t *testing.T) {
	var marks, parents []string
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		marks, parents = append(marks, r.Header.Get("X-Log")), append(parents, r.Header.Get("Traceparent"))
		w.Header().Set("X-Request-Id", r.Header.Get("X-Log"))
		_, _ = fmt.Fprintf(w, `{"error":"none","trace":%q,"seen":%q}`, r.Header.Get("Traceparent"),
			r.Header.Get("X-Log"))
	})
	tg := target(s.URL)
	tg.Mark = "X-Log"
	c := client(t, tg)
	for range 3 {
		x, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
		require.NoError(t, err)
		assert.Equal(t, "X-Log: "+marks[len(marks)-1], x.Mark)
		assert.JSONEq(t, `{"error":"none","trace":"00-‹trace›-‹mark›-01","seen":"‹mark›"}`, x.Content)
		assert.Equal(t, "‹mark›", x.Answer.Get("X-Request-Id"))
	}
	trace := regexp.MustCompile(`^00-([0-9a-f]{32})-([0-9a-f]{16})-01$`)
	seen := map[string]bool{}
	for i, p := range parents {
		m := trace.FindStringSubmatch(p)
		require.NotNil(t, m, p)
		assert.Equal(t, marks[i], m[2])
		assert.Equal(t, trace.FindStringSubmatch(parents[0])[1], m[1], "one trace")
		assert.NotContains(t, m, strings.Repeat("0", 16))
		seen[m[2]] = true
	}
	assert.Len(t, seen, 3)

	tg.Mark = ""
	x, err := client(t, tg).Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
	require.NoError(t, err)
	assert.Equal(t, []string{"", "", ""}, []string{x.Mark, marks[3], parents[3]}, "nothing unless it is declared")
}

// What was lost can be found in the log all the same.
func TestALostRequestHasItsMark(t *testing.T) {
	marks := make(chan string, 1)
	s := server(t, func(_ http.ResponseWriter, r *http.Request) {
		marks <- r.Header.Get("X-Log")
		panic(http.ErrAbortHandler)
	})
	tg := target(s.URL)
	tg.Mark = "X-Log"
	x, err := client(t, tg).Send(context.Background(), Outgoing{Method: "POST", Path: "/"})
	require.NoError(t, err)
	assert.NotEmpty(t, x.Error)
	assert.Equal(t, "X-Log: "+<-marks, x.Mark)
}
