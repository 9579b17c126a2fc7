package exchanges

import (
	"bufio"
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"
)

//go:embed chromium.jsonl
var chromium []byte

// Recorded is what a browser made of all cases.
type Recorded struct {
	Browser string          // product and version, as it says it itself
	Told    map[string]Told // by Key
}

// Key names a case among all.
func (x *Exchange) Key() string { return x.Ground + ": " + x.Name }

// line is one case of the file; the first one has the browser alone.
type line struct {
	Browser string `json:"browser,omitempty"`
	Case    string `json:"case,omitempty"`
	Told    string `json:"told,omitempty"`
}

// Chromium is what was recorded last. The error says which line cannot be read.
func Chromium() (Recorded, error) {
	out := Recorded{Told: map[string]Told{}}
	scan := bufio.NewScanner(bytes.NewReader(chromium))
	for n := 1; scan.Scan(); n++ {
		var l line
		if err := json.Unmarshal(scan.Bytes(), &l); err != nil {
			return out, fmt.Errorf("chromium.jsonl:%d: %w", n, err)
		}
		if l.Browser != "" {
			out.Browser = l.Browser
			continue
		}
		sent, had, _ := strings.Cut(l.Told, "\n\n")
		out.Told[l.Case] = Told{Sent: fields(sent), Had: fields(had)}
	}
	return out, scan.Err()
}

func fields(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(s, "\n")
}

// Write is the file of what a browser made of the cases.
func Write(browser string, list []*Exchange, told []Told) []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(line{Browser: browser}) // a buffer takes all
	for i, x := range list {
		_ = e.Encode(line{Case: x.Key(), Told: strings.Join(told[i].Sent, "\n") + "\n\n" + strings.Join(told[i].Had,
			"\n")})
	}
	return b.Bytes()
}
