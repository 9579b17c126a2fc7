// Package tokenfile finds tokens in a stream of text: one on each line, JSON
// lines, HAR 1.2 archives, access logs, mail, whatever. It holds a window of the
// text and one token at a time, so that its memory does not grow with the file.
//
// Where a line is one word, that word is a token, whatever it looks like. Elsewhere
// everything that has the form of a compact JWS is one (RFC 7515 section 3.1), also
// where it was changed on its way into the text:
//
//	eyJ…%2EeyJ…%2Ec2ln        percent-encoded (RFC 3986 section 2.1)
//	"eyJ…\u002eeyJ…"          escaped in JSON (RFC 8259 section 7)
//	tok_eyJ….eyJ….c2ln        behind a prefix
//	eyJ….ey⏎ J….c2ln          wrapped over lines, as mail and folded headers are
//	eyJ….eyJ….c2l+n/==        in the other base64 alphabet, or padded
//
// What is longer than a token is read to is found with its size alone.
package tokenfile

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

const (
	// window is how much of a line is looked at in one piece, in bytes.
	window = 256 << 10
	// Longest is how many bytes of a token are kept.
	Longest = 64 << 10
	// wrapped is the least length of a line that goes on in the next one, in bytes.
	wrapped = 40
)

// Found is a token with the line where it began, counting from 1.
type Found struct {
	Line int
	Text string // as it stood there, but for line ends and escapes of JSON; empty where it is too long
	Size int    // bytes
}

// Each calls what for every token in order. read tells how many bytes were
// read so far. It ends early when what says false. The error is the reader's.
func Each(r io.Reader, read func(int64), what func(Found) bool) error {
	f := &finder{what: what, line: 1, begun: true}
	b := bufio.NewReaderSize(r, window)
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
		if full { // an escape, or a beginning, may go on behind the window
			keep = min(len(text), escape)
			for k := 2; k > 0; k-- {
				if at := len(text) - keep - k; at >= 0 && text[at] == 'e' {
					keep += k
					break
				}
			}
		}
		f.chunk(text[:len(text)-keep], !full)
		rest = append([]byte(nil), text[len(text)-keep:]...)
		if f.stopped {
			return nil
		}
		if err != nil && !full {
			f.close()
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

// finder goes through a text piece by piece: a piece is a line, or a part of a long one.
type finder struct {
	what    func(Found) bool
	stopped bool
	line    int
	begun   bool // the next piece begins a line
	open    *candidate
}

// candidate is a text that may be a token, or go on to be one.
type candidate struct {
	Found
	text  []byte
	dots  int
	whole bool    // its line is one word
	parts []Found // the pieces that it is joined from, a line each
	told  int     // bytes of text that are in parts
	width int     // bytes of the line that it reached the end of; 0 while that goes on
}

// chunk goes through one piece; ends says whether its line does.
func (f *finder) chunk(text []byte, ends bool) {
	i := 0
	if f.open != nil {
		i = f.goOn(text)
	}
	word := bytes.TrimSpace(text)
	alone := f.open == nil && f.begun && ends && i == 0 && len(word) > 0 && isWord(word)
	for !f.stopped && f.open == nil && i < len(text) {
		at := next(text[i:])
		if at < 0 {
			break
		}
		from := i + at
		c := &candidate{Found: Found{Line: f.line}, whole: alone && from == bytes.Index(text, word)}
		i = from + c.take(text[from:])
		if from > 0 && inToken(text[from-1]) && !c.header() {
			continue // the end of another word
		}
		switch {
		case over(text[i:]):
			f.open, alone = c, alone && !c.whole && c.dots < 2
		case c.dots >= 2:
			f.end(c)
			alone = false
		}
	}
	if alone {
		f.open = nil // it only begins like one
		f.tell(Found{f.line, string(word), len(word)})
	}
	if ends {
		f.line++
		if f.open != nil && f.open.width == 0 {
			f.open.width = len(word)
			f.open.piece(f.line - 1)
			if !f.open.wants() {
				f.close()
			}
		}
	}
	f.begun = ends
}

// goOn takes what belongs to the open candidate from the begin of a piece, and says where the rest
// begins: 0 where nothing does.
func (f *finder) goOn(text []byte) int {
	c := f.open
	if c.width == 0 { // of the same line
		n := c.take(text)
		if !over(text[n:]) {
			f.close()
		}
		return n
	}
	from := len(text) - len(bytes.TrimLeft(text, " \t"))
	run := from
	for run < len(text) && (inToken(text[run]) || text[run] == '+' || text[run] == '/') {
		run++
	}
	if run == from || c.width < wrapped || begins(text[from:]) && c.text[len(c.text)-1] != '.' ||
		c.dots >= 2 && !c.ends(run-from) && (run-from != c.width || !c.takes(run-from)) {
		f.close()
		return 0
	}
	n := from + c.take(text[from:])
	if !over(text[n:]) {
		c.piece(f.line)
		f.close()
		return n
	}
	c.width = 0 // until the line ends
	return n
}

// close ends the open candidate.
func (f *finder) close() {
	c := f.open
	if f.open = nil; c != nil {
		f.end(c)
	}
}

// end tells of a candidate that goes on no more. One that has too few parts is no token, but the
// word that was alone on its line.
func (f *finder) end(c *candidate) {
	switch {
	case c.dots >= 2:
		if c.Size > Longest {
			f.tell(Found{c.Line, "", c.Size})
			return
		}
		text := c.text
		if !c.whole { // a stop behind it ends a sentence; what base64url has belongs to it
			text = bytes.TrimRight(text, ".")
		}
		f.tell(Found{c.Line, string(text), len(text)})
	case c.whole:
		for _, p := range c.parts {
			f.tell(p)
		}
	}
}

// over says whether nothing but what ends a line stands in a text: white space, or the sign of a
// soft line break (RFC 2045 section 6.7, and of shells).
func over(text []byte) bool { return len(bytes.TrimRight(text, " \t\r\n\\=")) == 0 }

func (f *finder) tell(found Found) {
	if !f.stopped && !f.what(found) {
		f.stopped = true
	}
}

// isWord says whether a line is one word, and none that begins something else.
func isWord(line []byte) bool {
	return len(line) == 0 || line[0] != '{' && line[0] != '[' && line[0] != '#' && !bytes.ContainsAny(line, " \t,;:\"")
}
