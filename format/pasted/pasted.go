// Package pasted reads requests as people copy them: a curl command for a POSIX shell or for the command line of
// Windows, a call of fetch, and a request as it goes over the wire (RFC 9112).
//
// Nothing of what is pasted is run: a command is parsed, and of a script only literal values are read. What is not
// understood is kept in words beside the request, so that nothing is left out in silence.
package pasted

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"millgate/core/byexample"
)

// ErrNothing is wrapped where there is no request in a text.
var ErrNothing = errors.New("there is no request in it")

// MaxSize is how much is read at once, in bytes.
const MaxSize = 4 << 20

// Read reads all requests of a text, which are all of one form.
func Read(text string) (out []*byexample.Request, err error) {
	text = strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n")
	head := strings.TrimSpace(text)
	switch {
	case len(text) > MaxSize:
		return nil, fmt.Errorf("%w: it is longer than %d MB; bring it in as a recording", ErrNothing, MaxSize>>20)
	case head == "":
		return nil, ErrNothing
	case isRaw(head):
		out, err = raw(text)
	case isCurl(head):
		if windows(text) {
			out, err = curls(cmdWords(text))
		} else {
			out, err = shell(text)
		}
	case strings.Contains(head, "fetch("):
		out, err = fetches(text)
	default:
		first, _, _ := strings.Cut(head, "\n")
		return nil, fmt.Errorf("%w: it begins with %q; paste a curl command, a call of fetch, an entry of a HAR, or a "+
			"request that begins with its method", ErrNothing, cut(first))
	}
	if err == nil && len(out) == 0 {
		err = ErrNothing
	}
	return out, err
}

// address reads where a request goes; without a scheme it is http, as everywhere that takes such a text.
func address(text string) (*url.URL, error) {
	full := text
	if !strings.Contains(text, "://") {
		full = "http://" + text
	}
	u, err := byexample.Address(full)
	if err != nil {
		return nil, fmt.Errorf("%w: %q is no http address", ErrNothing, cut(text))
	}
	return u, nil
}

func cut(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}
