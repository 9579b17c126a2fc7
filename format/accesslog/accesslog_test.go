package accesslog

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	for _, c := range []struct {
		name, line, want string
		m                Mapping
	}{
		{"common", `192.0.2.7 - ann [25/Nov/2026:04:00:00 +0000] "GET /v1/things?a=b HTTP/1.1" 200 512`,
			"GET /v1/things 200", Mapping{}},
		{"combined", `192.0.2.7 - - [25/Nov/2026:04:00:00 +0000] "DELETE /v1/things/7 HTTP/2.0" 204 0 "https://app.example/" "Mozilla/5.0 (\"x\") GET /no 500"`, "DELETE /v1/things/7 204", Mapping{}},
		{"without a version", `h - - [d] "GET /old" 301 -`, "GET /old 301", Mapping{}},
		{"a proxy's whole address", `h - - [d] "GET http://api.example/x HTTP/1.1" 200 1`, "GET /x 200 api.example",
			Mapping{}},
		{"JSON with usual names", `{"method":"get","path":"/a?x=1","status":200,"host":"API.example"}`,
			"GET /a 200 api.example", Mapping{}},
		{"JSON, nested", `{"http":{"request":{"method":"PUT"},"response":{"status_code":403}},"url":{"path":"/b"}}`,
			"PUT /b 403", Mapping{}},
		{"JSON with a request line", `{"request":"POST /c HTTP/1.1","status":"201"}`, "POST /c 201", Mapping{}},
		{"JSON with a mapping", `{"m":"PATCH","where":{"p":"/d"},"s":500}`, "PATCH /d 500",
			Mapping{Method: "m", Path: "where.p", Status: "s"}},
		{"JSON without a status", `{"method":"GET","url":"https://api.example/e"}`, "GET /e 0 api.example", Mapping{}},
	} {
		got, problems := Read([]byte("\n# a comment\n"+c.line+"\n"), c.m)
		require.Empty(t, problems, c.name)
		require.Len(t, got, 1, c.name)
		s := got[0].Method + " " + got[0].Path + " " +
			strings.TrimSpace(strings.Join([]string{itoa(got[0].Status), got[0].ToHost}, " "))
		assert.Equal(t, c.want, s, c.name)
		assert.Equal(t, 3, got[0].Line, c.name)
	}
}

func itoa(n int) string {
	if n == 0 {
		return "0"
	}
	return string([]byte{byte('0' + n/100), byte('0' + n/10%10), byte('0' + n%10)})
}

func TestLinesThatCannotBeRead(t *testing.T) {
	got, problems := Read([]byte("nonsense\n{\"a\":\n{\"path\":\"/a\"}\n{\"method\":\"GET\"}\nh - - [d] \"GET * "+
		"HTTP/1.1\" 200 1\nh - - [d] \"GET /ok HTTP/1.1\" 200 1\n"), Mapping{})
	assert.Len(t, got, 1)
	var says []string
	for i, p := range problems {
		assert.Equal(t, i+1, p.Line)
		says = append(says, p.Text)
	}
	assert.Equal(t, 5, len(problems))
	assert.Contains(t, says[0], "METHOD /path")
	assert.Contains(t, says[1], "not JSON")
	assert.Contains(t, says[2], "no field has the method")
	assert.Contains(t, says[3], "no field has the path")
	assert.Contains(t, says[4], `"*" is not a path`)
	_, problems = Read([]byte(strings.Repeat("x", maxLine+1)), Mapping{})
	assert.Contains(t, problems[0].Text, "longer than a megabyte")
}

func FuzzRead(f *testing.F) {
	f.Add(`192.0.2.7 - ann [25/Nov/2026:04:00:00 +0000] "GET /v1/things?a=b HTTP/1.1" 200 512`)
	f.Add(`{"method":"get","path":"/a?x=1","status":200,"host":"API.example"}`)
	f.Fuzz(func(t *testing.T, s string) {
		got, _ := Read([]byte(s), Mapping{})
		for _, r := range got {
			if !strings.HasPrefix(r.Path, "/") || r.Method == "" {
				t.Fatalf("%+v", r)
			}
		}
	})
}
