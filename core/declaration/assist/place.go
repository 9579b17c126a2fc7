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

type level struct {
	indent int
	key    string
}

// locate finds the spot of an offset without needing a text that parses.
func locate(text string, off int) spot {
	var blocks []level
	var flows []level // indent is '{' or '['
	s := spot{}
	i := 0
	for i <= off && i <= len(text) {
		end := len(text)
		if j := strings.IndexByte(text[i:], '\n'); j >= 0 {
			end = i + j
		}
		last := off <= end
		stop := min(end, off)
		k := i
		if len(flows) == 0 {
			for k < end && text[k] == ' ' {
				k++
			}
			ind := k - i
			if last && k > off {
				ind, k = off-i, off
			}
			blank := k >= end || text[k] == '#'
			if !blank || last {
				for len(blocks) > 0 && blocks[len(blocks)-1].indent >= ind {
					blocks = blocks[:len(blocks)-1]
				}
			}
			s.from, s.key, s.value = k, true, false
			for k < stop && text[k] == '-' && (k+1 >= end || text[k+1] == ' ') {
				blocks = append(blocks, level{ind, "#"})
				k++
				for k < stop && text[k] == ' ' {
					k++
				}
				ind = k - i
				s.from, s.value = k, true
			}
			if k < end && text[k] == '#' {
				s.key, s.value = false, false
				if last {
					break
				}
				i = end + 1
				continue
			}
			flowHere := k < end && (text[k] == '{' || text[k] == '[')
			if e := skipKey(text, k, end); !flowHere && e < end && text[e] == ':' {
				blocks = append(blocks, level{ind, layout.Unquoted(strings.TrimSpace(text[k:e]))})
				if e < stop {
					k = e + 1
					for k < stop && text[k] == ' ' {
						k++
					}
					s.from, s.key, s.value = k, false, true
				} else {
					blocks = blocks[:len(blocks)-1]
					k = stop
				}
			}
		}
		// The value on this line, brackets included.
		for k < stop {
			c := text[k]
			switch {
			case c == '"' || c == '\'':
				if k == s.from || len(flows) > 0 {
					q := layout.SkipQuoted(text, k)
					if q > stop {
						s.from = k
						k = stop
						continue
					}
					k = q
					continue
				}
			case c == '#' && k > i && text[k-1] == ' ':
				s.key, s.value = false, false
				k = stop
				continue
			case c == '{' || c == '[':
				if k == s.from || len(flows) > 0 {
					flows = append(flows, level{int(c), ""})
					s.key, s.value = c == '{', c == '['
					s.from = next(text, k+1, stop)
				}
			case (c == '}' || c == ']') && len(flows) > 0:
				flows = flows[:len(flows)-1]
				s.key, s.value, s.from = false, false, k+1
			case c == ',' && len(flows) > 0:
				top := &flows[len(flows)-1]
				top.key = ""
				s.key, s.value = top.indent == '{', top.indent == '['
				s.from = next(text, k+1, stop)
			case c == ':' && len(flows) > 0 && flows[len(flows)-1].indent == '{' && flows[len(flows)-1].key == "" &&
				(k+1 >= end || text[k+1] == ' '):
				flows[len(flows)-1].key = layout.Unquoted(strings.TrimSpace(text[s.from:k]))
				s.key, s.value = false, true
				s.from = next(text, k+1, stop)
			}
			k++
		}
		if last {
			break
		}
		if len(flows) > 0 {
			s.from = next(text, end+1, off)
		}
		i = end + 1
	}
	for _, b := range blocks {
		s.path = append(s.path, b.key)
	}
	for _, f := range flows {
		if f.indent == '[' {
			s.path = append(s.path, "#")
		} else if f.key != "" {
			s.path = append(s.path, f.key)
		}
	}
	s.flow = len(flows) > 0
	s.from = min(s.from, off)
	return s
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
