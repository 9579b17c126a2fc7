package main

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// screen writes to a terminal, a pipe or a file. What is no text, above all the
// escape sequences of a target or a token, is written as \u and its number: nothing
// that comes from outside moves the cursor or renames the window. Our own colours
// pass, by a mark that nobody outside can know.
type screen struct {
	io.Writer
	terminal bool
}

func newScreen(f *os.File) *screen { return &screen{f, term.IsTerminal(int(f.Fd()))} }

// mark begins an escape sequence of ours.
var mark = func() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // crypto/rand never fails
	return "\x1b" + hex.EncodeToString(b)
}()

// Control sequences that are sent to a terminal (ECMA-48).
var (
	clearLine = mark + "K"
	sgr       = func(code string) string { return mark + code + "m" }
)

func (s *screen) Write(b []byte) (int, error) {
	if _, err := io.WriteString(s.Writer, visible(string(b))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// visible is a text without what a terminal would obey.
func visible(s string) string {
	var out strings.Builder
	for len(s) > 0 {
		if rest, ours := strings.CutPrefix(s, mark); ours {
			if i := strings.IndexAny(rest, "mK"); i >= 0 {
				if rest[i] == 'K' {
					out.WriteByte('\r')
				}
				out.WriteString("\x1b[" + rest[:i+1])
				s = rest[i+1:]
				continue
			}
		}
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&out, "\\u%04x", s[0])
		case obeyed(r):
			fmt.Fprintf(&out, "\\u%04x", r)
		default:
			out.WriteString(s[:n])
		}
		s = s[n:]
	}
	return out.String()
}

// obeyed says whether a terminal does something else with a character than show it:
// controls but the line feed and the tab, and what turns the direction of writing.
func obeyed(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x2028, r == 0x2029:
		return true
	}
	return false
}

// paint colours words on a terminal, and leaves them alone in a pipe.
type paint bool

func painter(w io.Writer) paint {
	s, ok := w.(*screen)
	return paint(ok && s.terminal && os.Getenv("NO_COLOR") == "")
}

func (p paint) with(code, s string) string {
	if !p {
		return s
	}
	return sgr(code) + s + sgr("0")
}

func (p paint) bad(s string) string   { return p.with("31", s) }
func (p paint) warn(s string) string  { return p.with("33", s) }
func (p paint) good(s string) string  { return p.with("32", s) }
func (p paint) faint(s string) string { return p.with("2", s) }
func (p paint) bold(s string) string  { return p.with("1", s) }
