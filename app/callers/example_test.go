package callers

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// From a text with nothing in it, three requests that worked become one that is canonical, holds no secret, and by
// which their callers log in.
func TestAServiceByExample(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name := r.PostFormValue("user"); r.PostFormValue("password") == "hush of "+name && name != "" &&
			r.Header.Get("X-App-Key") == "for-all" {
			_, _ = w.Write([]byte(`{"session":{"token":"t-` + name + `-0123456789"}}`))
			return
		}
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer s.Close()
	c := opened(t, t.TempDir(), "")
	list := []Pasted{
		{Text: "POST /sign-in HTTP/1.1\nHost: " + strings.TrimPrefix(s.URL, "http://") + "\nX-App-Key: for-all\n" +
			"Content-Type: application/x-www-form-urlencoded\n\nuser=Ana&password=hush+of+Ana\n\nHTTP/1.1 200 OK\n\n" +
			`{"session":{"token":"t-Ana-1"}}`},
		{Text: "curl '" + s.URL + "/v1/berths/17?page=1' -H 'Authorization: Bearer t-Ana-1' -H 'X-App-Key: for-all'"},
		{Text: "curl ^\"" + s.URL + "/v1/berths^\" -H ^\"Authorization: Bearer t-bo-1^\" -H ^\"X-App-Key: for-all^\"",
			Whose: "bo"},
		{Text: `{"request": {"method": "POST", "url": "` + s.URL + `/sign-in", "headers": [{"name": "Content-Type",
			"value": "application/x-www-form-urlencoded"}], "postData": {"text": "user=bo&password=hush+of+bo"}}}`},
	}
	r, err := c.Example("", "", list)
	require.NoError(t, err)
	assert.Empty(t, r.Unread)
	var take []string
	for _, p := range r.Proposals {
		take = append(take, p.ID)
		assert.NotContains(t, p.Line(), "hush")
	}
	assert.Equal(t, []string{"target local", "header local X-App-Key", "scheme token", "route POST /sign-in",
		"route GET /v1/berths/{berth_id}", "route GET /v1/berths", "identity ana", "identity bo"}, take)
	out, title, err := c.TakeExample(t.Context(), "", "", list, take)
	require.NoError(t, err)
	assert.Contains(t, title, "identity bo")
	d, msgs := c.ws.Parse(out)
	require.False(t, declaration.Failed(msgs), "%v\n%s", msgs, out)
	canonical, err := layout.Format(out)
	require.NoError(t, err)
	assert.Equal(t, canonical, out)
	assert.NotContains(t, out, "hush")
	assert.Contains(t, out, `{ at: "/**", who: undecided }`)
	assert.Contains(t, out,
		"  - { at: \"GET /v1/berths/{berth_id}\", send: { path: { berth_id: \"17\" }, query: { page: \"1\" } } }\n")
	require.Len(t, d.Identities, 2)
	for _, name := range []string{"ana", "bo"} {
		x, err := c.Try(t.Context(), "local", out, name, "token")
		require.NoError(t, err)
		assert.Equal(t, Obtained, x.State, x.Why)
	}

	// Once it stands there, nothing of it is proposed again.
	r, err = c.Example("local", out, list)
	require.NoError(t, err)
	assert.Empty(t, r.Proposals)

	for _, x := range []struct {
		list []Pasted
		take []string
		says string
	}{
		{nil, nil, "paste a request that worked"},
		{[]Pasted{{Text: "curl https://h/x"}, {Text: "nonsense"}}, nil, "request 2"},
		{[]Pasted{{Text: "curl https://h/x"}}, []string{"scheme x"}, `no proposal "scheme x"`},
		{[]Pasted{{Text: strings.Repeat("curl https://h/x\n", mostExamples+1)}}, nil, "compare at most"},
	} {
		_, _, err := c.TakeExample(t.Context(), "", "", x.list, x.take)
		assert.ErrorContains(t, err, x.says)
	}
	_, _, err = opened(t, "", "").TakeExample(t.Context(), "", "", list, take)
	assert.ErrorContains(t, err, "--data DIR")
}
