// Package tokenfile finds tokens in a stream of text: one on each line, JSON
// lines, HAR 1.2 archives, access logs, whatever. It holds one line at a time,
// and of a long one a window, so that its memory does not grow with the file.
package tokenfile

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

// window is how much of a line is looked at in one piece, in bytes. A token
// that is longer is found cut.
const window = 256 << 10

// Found is a token with the line where it stood, counting from 1.
type Found struct {
	Line int
	Text string
}

// Each calls what for every token in order. Where a file has one word on a
// line, each word is a token, whatever it looks like; elsewhere everything
// that has the form of a compact JWS is one. read tells how many bytes were
// read so far. It ends early when what says false.
func Each(r io.Reader, read func(int64), what func(Found) bool) error {
	b := bufio.NewReaderSize(r, window)
	line, begun := 1, true // begun: at the begin of a line
	var total int64
	var rest []byte
	for {
		chunk, err := b.ReadSlice('\n')
		total += int64(len(chunk))
		if read != nil {
			read(total)
		}
		text := chunk
		if len(rest) > 0 {
			text = append(rest, chunk...)
		}
		full := errors.Is(err, bufio.ErrBufferFull)
		keep := 0
		if full { // a token may go on behind the window
			keep = tail(text)
		}
		ok := tokens(text[:len(text)-keep], begun && !full && len(rest) == 0,
			func(s []byte) bool { return what(Found{line, string(s)}) })
		rest = append([]byte(nil), text[len(text)-keep:]...)
		begun = !full
		if !ok {
			return nil
		}
		if !full {
			line++
		}
		if err != nil && !full {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

// tail is how many bytes at the end of a window may be the begin of a token.
func tail(b []byte) int {
	n := 0
	for n < len(b) && n < 64<<10 && inToken(b[len(b)-1-n]) {
		n++
	}
	return n
}

func inToken(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.'
}

// tokens finds those of one line.
func tokens(line []byte, whole bool, what func([]byte) bool) bool {
	trimmed := bytes.TrimSpace(line)
	if len(trimmed) == 0 {
		return true
	}
	if whole && trimmed[0] != '{' && trimmed[0] != '[' && trimmed[0] != '#' && !bytes.ContainsAny(trimmed, " \t,;:\"") {
		return what(trimmed)
	}
	for i := 0; i < len(line); {
		at := bytes.Index(line[i:], []byte("eyJ")) // {" in base64url
		if at < 0 {
			return true
		}
		from := i + at
		to := from
		dots := 0
		for to < len(line) && inToken(line[to]) {
			if line[to] == '.' {
				dots++
			}
			to++
		}
		i = to
		if i == from {
			i++
		}
		if dots >= 2 && (from == 0 || !inToken(line[from-1])) {
			// A stop behind it ends a sentence; what base64url has belongs to it.
			if !what(bytes.TrimRight(line[from:to], ".")) {
				return false
			}
		}
	}
	return true
}
