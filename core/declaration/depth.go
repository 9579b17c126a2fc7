package declaration

import (
	"fmt"
	"strings"
)

// mostNested is how deep collections may stand in each other. The parser keeps what
// encloses each, so that text which only nests would take all memory.
const mostNested = 100

// nested finds the line on which collections stand in each other too deeply, 0 where
// none does. It reads the text as YAML 1.2 writes collections: brackets and braces
// where a value may begin (section 7.4), indentation, and several indicators on one
// line (sections 8.2.1 and 8.2.2). What is quoted, or a comment, nests nothing.
func nested(text string) (line int) {
	flow := 0
	var indents []int
	for n, l := range strings.Split(text, "\n") {
		trimmed := strings.TrimLeft(l, " ")
		if trimmed == "" || trimmed[0] == '#' {
			continue
		}
		at := len(l) - len(trimmed)
		if flow == 0 {
			for len(indents) > 0 && indents[len(indents)-1] >= at {
				indents = indents[:len(indents)-1]
			}
			indents = append(indents, at)
			for len(trimmed) > 1 && strings.IndexByte("-?", trimmed[0]) >= 0 && trimmed[1] == ' ' {
				rest := strings.TrimLeft(trimmed[1:], " ")
				at += len(trimmed) - len(rest)
				trimmed = rest
				indents = append(indents, at)
			}
		}
		quote, value := byte(0), true // inside quotes; a value may begin here
		for i := 0; i < len(trimmed); i++ {
			switch c := trimmed[i]; {
			case quote == '"' && c == '\\':
				i++
			case quote != 0:
				if c == quote {
					quote = 0
				}
			case (c == '"' || c == '\'') && value:
				quote, value = c, false
			case c == '#' && (i == 0 || trimmed[i-1] == ' '):
				i = len(trimmed)
			case (c == '[' || c == '{') && value:
				flow++
			case (c == ']' || c == '}') && flow > 0:
				flow--
				value = false
			case c == ' ':
			default:
				value = c == ',' && flow > 0 || (c == ':' || c == '-' || c == '?') &&
					(i+1 == len(trimmed) || trimmed[i+1] == ' ')
			}
			if flow+len(indents) > mostNested {
				return n + 1
			}
		}
		if len(indents) > mostNested {
			return n + 1
		}
	}
	return 0
}

// mostEntries is how many entries one mapping may have: what the parser takes grows with the
// square of them.
const mostEntries = 10_000

// wide finds the line on which a block mapping (section 8.2.2) has more entries than that, 0 where
// none does. Entries of one mapping begin in one column.
func wide(text string) (line int) {
	type mapping struct{ column, entries int }
	var open []mapping
	for n, l := range strings.Split(text, "\n") {
		trimmed := strings.TrimLeft(l, " ")
		if trimmed == "" || trimmed[0] == '#' {
			continue
		}
		at := len(l) - len(trimmed)
		for len(open) > 0 && open[len(open)-1].column > at {
			open = open[:len(open)-1]
		}
		if trimmed[0] == '-' || !strings.Contains(trimmed, ":") { // an item ends the mapping of the one before
			continue
		}
		if len(open) == 0 || open[len(open)-1].column < at {
			open = append(open, mapping{column: at})
		}
		if open[len(open)-1].entries++; open[len(open)-1].entries > mostEntries {
			return n + 1
		}
	}
	return 0
}

// tooLarge says of a text that it nests too deeply or has a mapping that is too wide, at its
// place; nil where it does not.
func tooLarge(name string, text []byte) *Message {
	m := &Message{Place: Place{File: name, Column: 1}, EndColumn: 2, Level: Error, Code: "syntax"}
	if m.Line = nested(string(text)); m.Line > 0 {
		m.Text = fmt.Sprintf("collections stand in each other more than %d deep here", mostNested)
		m.Hint = "write it flatter"
		return m
	}
	if m.Line = wide(string(text)); m.Line > 0 {
		m.Text = fmt.Sprintf("a mapping has more than %d entries here", mostEntries)
		m.Hint = "split the file: include reads others beside it"
		return m
	}
	return nil
}
