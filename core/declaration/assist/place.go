package assist

import (
	"strings"
	"unicode/utf8"

	"millgate/core/declaration/layout"
)

// spot is where a cursor stands: the keys that lead there, "#" for an item of
// a list.
type spot struct {
	path  []string
	key   bool // a key can stand here
	value bool // a value can
	from  int  // offset of the word that the cursor is in or behind
	flow  bool
}

// level is a block or a bracket that stands open at a place.
type level struct {
	indent int    // of a block; of a bracket '{' or '['
	key    string // that leads into it: "#" for an item, "" where none is known yet
}

// finder goes through a text line by line, down to an offset.
type finder struct {
	text   string
	off    int
	blocks []level
	flows  []level
	spot
}

// locate finds the spot of an offset without needing a text that parses.
func locate(text string, off int) spot {
	f := finder{text: text, off: off}
	for i := 0; i <= off && i <= len(text); {
		end := len(text)
		if j := strings.IndexByte(text[i:], '\n'); j >= 0 {
			end = i + j
		}
		last := off <= end
		if k, comment := f.head(i, end, last); !comment {
			f.line(i, k, end)
		}
		if last {
			break
		}
		if len(f.flows) > 0 {
			f.from = next(text, end+1, off)
		}
		i = end + 1
	}
	for _, b := range f.blocks {
		f.path = append(f.path, b.key)
	}
	for _, l := range f.flows {
		if l.indent == '[' {
			f.path = append(f.path, "#")
		} else if l.key != "" {
			f.path = append(f.path, l.key)
		}
	}
	f.flow = len(f.flows) > 0
	f.from = min(f.from, off)
	return f.spot
}

// head reads the indentation, the dashes and the key of the line from i to end, and gives
// where its value begins; comment says that there is nothing else on it.
func (f *finder) head(i, end int, last bool) (k int, comment bool) {
	if k = i; len(f.flows) > 0 {
		return k, false // brackets go on in it
	}
	text, stop := f.text, min(end, f.off)
	for k < end && text[k] == ' ' {
		k++
	}
	ind := k - i
	if last && k > f.off {
		ind, k = f.off-i, f.off
	}
	if blank := k >= end || text[k] == '#'; !blank || last {
		for len(f.blocks) > 0 && f.blocks[len(f.blocks)-1].indent >= ind {
			f.blocks = f.blocks[:len(f.blocks)-1]
		}
	}
	f.from, f.key, f.value = k, true, false
	for k < stop && text[k] == '-' && (k+1 >= end || text[k+1] == ' ') {
		f.blocks = append(f.blocks, level{ind, "#"})
		k++
		for k < stop && text[k] == ' ' {
			k++
		}
		ind = k - i
		f.from, f.value = k, true
	}
	if k < end && text[k] == '#' {
		f.key, f.value = false, false
		return k, true
	}
	flowHere := k < end && (text[k] == '{' || text[k] == '[')
	if e := skipKey(text, k, end); !flowHere && e < end && text[e] == ':' {
		if e >= stop {
			return stop, false
		}
		f.blocks = append(f.blocks, level{ind, layout.Unquoted(strings.TrimSpace(text[k:e]))})
		k = e + 1
		for k < stop && text[k] == ' ' {
			k++
		}
		f.from, f.key, f.value = k, false, true
	}
	return k, false
}

// line reads the value on the line from i to end, of which k is the first byte, brackets
// included.
func (f *finder) line(i, k, end int) {
	text, stop := f.text, min(end, f.off)
	for k < stop {
		c := text[k]
		begins := k == f.from || len(f.flows) > 0
		switch {
		case (c == '"' || c == '\'') && begins:
			q := layout.SkipQuoted(text, k)
			if q > stop {
				f.from = k
				return
			}
			k = q
			continue
		case c == '#' && k > i && text[k-1] == ' ':
			f.key, f.value = false, false
			return
		case (c == '{' || c == '[') && begins:
			f.flows = append(f.flows, level{int(c), ""})
			f.key, f.value = c == '{', c == '['
			f.from = next(text, k+1, stop)
		case len(f.flows) > 0:
			f.inside(k, end)
		}
		k++
	}
}

// inside reads a byte between brackets that parts or ends what stands there.
func (f *finder) inside(k, end int) {
	text, stop := f.text, min(end, f.off)
	top := &f.flows[len(f.flows)-1]
	switch c := text[k]; {
	case c == '}' || c == ']':
		f.flows = f.flows[:len(f.flows)-1]
		f.key, f.value, f.from = false, false, k+1
	case c == ',':
		top.key = ""
		f.key, f.value = top.indent == '{', top.indent == '['
		f.from = next(text, k+1, stop)
	case c == ':' && top.indent == '{' && top.key == "" && (k+1 >= end || text[k+1] == ' '):
		top.key = layout.Unquoted(strings.TrimSpace(text[f.from:k]))
		f.key, f.value = false, true
		f.from = next(text, k+1, stop)
	}
}

func next(text string, k, stop int) int {
	for k < stop && (text[k] == ' ' || text[k] == '\n') {
		k++
	}
	return k
}

// skipKey is where the colon behind the key at i stands, at most end.
func skipKey(text string, i, end int) int {
	if i >= end {
		return end
	}
	return min(layout.SkipKey(text[:end], i), end)
}

// offset turns a place that counts characters from 1 into bytes.
func offset(text string, line, column int) int {
	i := layout.OffsetOfLine(text, line)
	for n := 1; n < column && i < len(text) && text[i] != '\n'; n++ {
		_, w := utf8.DecodeRuneInString(text[i:])
		i += w
	}
	return i
}

func columnOf(text string, off int) int {
	from := strings.LastIndexByte(text[:off], '\n') + 1
	return utf8.RuneCountInString(text[from:off]) + 1
}

// wordAt is the word around an offset, in a line.
func wordAt(text string, off int) (from, to int) {
	stop := func(c byte) bool { return strings.IndexByte(" \n,{}[]\"'#", c) >= 0 }
	from, to = off, off
	// A selector is a word with a blank in it.
	for from > 0 && !stop(text[from-1]) {
		from--
	}
	for to < len(text) && !stop(text[to]) {
		to++
	}
	for to > from && text[to-1] == ':' {
		to--
	}
	return from, to
}
