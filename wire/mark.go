package wire

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"net/http"
	"strings"
)

// marking marks the requests of a client, so that each can be found in the service's own log: with a
// field of the declaration, and with a traceparent (W3C Trace Context, section 3.2) that has the same
// value as its parent id. All have one trace id. The zero marking marks nothing.
type marking struct {
	name  string
	trace string // 32 hexadecimal digits
}

func newMarking(name string) marking {
	if name == "" {
		return marking{}
	}
	return marking{name, digits(16)}
}

// digits are as many random bytes, in hexadecimal; never all zero, which means none.
func digits(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // crypto/rand never fails
	b[0] |= 1
	return hex.EncodeToString(b)
}

// put marks a request, and keeps with what; mark is "" where nothing is marked.
func (m marking) put(req *http.Request, r *raw) (mark string) {
	if m.name == "" {
		return ""
	}
	mark = digits(8)
	req.Header.Set(m.name, mark)
	req.Header.Set("Traceparent", "00-"+m.trace+"-"+mark+"-01")
	r.Mark = m.name + ": " + mark
	return mark
}

// What stands in an answer for what the request was marked with: answers that repeat it are the same
// all the same.
const (
	markThere  = "‹mark›"
	traceThere = "‹trace›"
)

// out takes the marks of a request out of its answer.
func (m marking) out(mark string, r *raw) {
	if mark == "" {
		return
	}
	r.content = bytes.ReplaceAll(r.content, []byte(mark), []byte(markThere))
	r.content = bytes.ReplaceAll(r.content, []byte(m.trace), []byte(traceThere))
	replace := strings.NewReplacer(mark, markThere, m.trace, traceThere)
	for i, h := range r.Answer {
		r.Answer[i][1] = replace.Replace(h[1])
	}
}
