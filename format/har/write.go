package har

import (
	"encoding/json"
	"io"
	"maps"
	"net/url"
	"slices"
	"time"

	fields "millgate/core/field"
)

// Entry is an exchange to write.
type Entry struct {
	Began   time.Time
	Took    time.Duration
	Method  string
	URL     string
	Headers fields.List
	Body    string
	Status  int // 0 where nothing answered
	Answer  fields.List
	Content string
	Error   string // why nothing answered
	Comment string
}

// Write writes exchanges as an archive (HAR 1.2). Sizes that are not known are -1, as the format has it.
func Write(w io.Writer, creator, version string, list []Entry) error {
	entries := make([]map[string]any, len(list))
	for i, e := range list {
		entries[i] = e.entry()
	}
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(map[string]any{"log": map[string]any{"version": "1.2",
		"creator": map[string]string{"name": creator, "version": version}, "entries": entries}})
}

func (e Entry) entry() map[string]any {
	ms := float64(e.Took.Microseconds()) / 1000
	request := map[string]any{"method": e.Method, "url": e.URL, "httpVersion": "HTTP/1.1", "cookies": []any{},
		"headers": named(e.Headers), "queryString": queryOf(e.URL), "headersSize": -1, "bodySize": len(e.Body)}
	if e.Body != "" {
		request["postData"] = map[string]any{"mimeType": e.Headers.Get("Content-Type"), "params": []any{},
			"text": e.Body}
	}
	response := map[string]any{"status": e.Status, "statusText": e.Error, "httpVersion": "HTTP/1.1", "cookies": []any{},
		"headers": named(e.Answer), "redirectURL": e.Answer.Get("Location"), "headersSize": -1, "bodySize": -1,
		"content": map[string]any{"size": len(e.Content), "mimeType": e.Answer.Get("Content-Type"),
			"text": e.Content}}
	out := map[string]any{"startedDateTime": e.Began.UTC().Format(time.RFC3339Nano), "time": ms, "request": request,
		"response": response, "cache": map[string]any{}, "timings": map[string]any{"send": 0, "wait": ms, "receive": 0}}
	if e.Comment != "" {
		out["comment"] = e.Comment
	}
	return out
}

func named(list fields.List) []pair {
	out := make([]pair, len(list))
	for i, h := range list {
		out[i] = pair{h[0], h[1]}
	}
	return out
}

func queryOf(address string) []pair {
	out := []pair{}
	u, err := url.Parse(address)
	if err != nil {
		return out
	}
	q := u.Query()
	for _, k := range slices.Sorted(maps.Keys(q)) {
		for _, v := range q[k] {
			out = append(out, pair{k, v})
		}
	}
	return out
}
