package har

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const archive = `{
"log": { "version": "1.2", "creator": {"name": "x"}, "pages": [{"a": [1, {"b": 2}]}], "entries": [
 {"request": {"method": "GET", "url": "https://api.example/v1/things/t-1?full=true", "headers": [{"name": "Authorization", "value": "Bearer secret"}]}, "response": {"status": 200}},
 {"request": {"method": "post", "url": "https://api.example:8443", "postData": {"mimeType": "application/json", "text": "{\"a\":1}"}}, "response": {"status": 201}},
 {"request": {"method": "POST", "url": "https://api.example/form", "postData": {"mimeType": "application/x-www-form-urlencoded", "params": [{"name": "a", "value": "b c"}]}}, "response": {"status": 400}},
 {"request": {"method": "GET", "url": "data:text/plain,x"}, "response": {"status": 200}},
 {"request": {"method": 7}},
 {"request": {"method": "GET", "url": "https://api.example/last"}, "response": {"status": 0}}
]}}`

func TestRead(t *testing.T) {
	got, problems, err := Read([]byte(archive))
	require.NoError(t, err)
	require.Len(t, got, 4)
	assert.Equal(t, "/v1/things/t-1", got[0].Path)
	assert.Equal(t, map[string]string{"full": "true"}, got[0].Query)
	assert.Equal(t, "https://api.example", got[0].Origin)
	assert.Equal(t, "POST", got[1].Method)
	assert.Equal(t, "/", got[1].Path)
	assert.Equal(t, "https://api.example:8443", got[1].Origin)
	assert.JSONEq(t, `{"a":1}`, string(got[1].Body))
	assert.Equal(t, "a=b+c", string(got[2].Body))
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0].Text, "entry 4: \"data:text/plain,x\" is not an http address")
	assert.Contains(t, problems[1].Text, "entry 5")
	assert.Less(t, problems[0].Line, problems[1].Line)
}

func TestBrokenArchives(t *testing.T) {
	got, problems, err := Read([]byte(archive[:strings.Index(archive,
		`{"request": {"method": "POST", "url": "https://api.example/form"`)+20]))
	require.NoError(t, err)
	assert.Len(t, got, 2, "what stands before the break is kept")
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Text, "breaks off in entry 3: the text ends too early")
	for text, says := range map[string]string{"": "no object", "[]": "no object", "{}": `has no "log"`,
		`{"log": {"entries": 7}}`: "not a list", "millgate: 1": "no object"} {
		_, _, err := Read([]byte(text))
		require.ErrorIs(t, err, ErrFormat, text)
		assert.ErrorContains(t, err, says)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(archive)
	f.Add(`{"log":{"entries":[{}]}}`)
	f.Fuzz(func(t *testing.T, s string) {
		got, _, _ := Read([]byte(s))
		for _, r := range got {
			if !strings.HasPrefix(r.Path, "/") || r.Method == "" {
				t.Fatalf("%+v", r)
			}
		}
	})
}

// An archive, a list of its entries and one entry give the same requests, with their cookies once and what they were
// answered.
func TestExamples(t *testing.T) {
	const entry = `{"request": {"method": "post", "url": "https://Quay.example?day=3", "headers": [
  {"name": ":authority", "value": "quay.example"}, {"name": "Cookie", "value": "sid=s-1"}],
  "cookies": [{"name": "sid", "value": "s-1"}, {"name": "theme", "value": "dark"}],
  "postData": {"mimeType": "application/json", "text": "{}"}},
  "response": {"status": 200, "headers": [{"name": "Set-Cookie", "value": "a=1"}], "content": {"text": "eyJhIjoxfQ==", "encoding": "base64"}}}`
	for _, text := range []string{entry, "[" + entry + "]", `{"log": {"entries": [` + entry + `]}}`} {
		list, err := Examples([]byte(text))
		require.NoError(t, err)
		require.Len(t, list, 1)
		r := list[0]
		assert.Equal(t, "POST https://quay.example/?day=3", r.Method+" "+r.URL.String())
		assert.Empty(t, r.Headers)
		assert.Equal(t, "[[sid s-1] [theme dark]]", fmt.Sprint(r.Cookies))
		assert.Equal(t, "{}", string(r.Body))
		assert.Equal(t, `200 [[Set-Cookie a=1]] {"a":1}`, fmt.Sprint(r.Answer.Status, " ", r.Answer.Headers, " ",
			string(r.Answer.Body)))
	}
	for text, says := range map[string]string{`{"request": {"method": "GET"}}`: "entry 1", `{"log": {}}`: "entries",
		"[1]": "not a HAR", `{"log": {"entries": [{"request": 3}]}}`: "line 1", "": "not a HAR"} {
		_, err := Examples([]byte(text))
		require.ErrorIs(t, err, ErrFormat, text)
		assert.ErrorContains(t, err, says)
	}
}

// Fields without their text are put together as they were sent, with their files.
func TestFieldsOfAForm(t *testing.T) {
	entry := func(post string) string {
		return `{"log":{"entries":[{"request":{"method":"POST","url":"https://a.example/x","postData":` + post +
			`},"response":{"status":201}}]}}`
	}
	got, _, err := Read([]byte(entry(`{"mimeType":"multipart/form-data; boundary=lost","params":[
		{"name":"a","value":"b"},{"name":"f","fileName":"x.txt","contentType":"text/plain"}]}`)))
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, "multipart/form-data; boundary=millgate-part", got[0].Type)
	assert.Equal(t, "--millgate-part\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\nb\r\n--millgate-part\r\n"+
		"Content-Disposition: form-data; name=\"f\"; filename=\"x.txt\"\r\nContent-Type: text/plain\r\n\r\n\r\n"+
		"--millgate-part--\r\n", string(got[0].Body))
	got, _, err = Read([]byte(entry(`{"mimeType":"application/x-www-form-urlencoded","params":[{"name":"a","value":"b c"}]}`)))
	require.NoError(t, err)
	assert.Equal(t, "a=b+c", string(got[0].Body))
}
