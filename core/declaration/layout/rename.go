package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"millgate/core/declaration"
)

var plain = regexp.MustCompile(`^[-_.@0-9A-Za-z]+$`)

// Rename gives a role, an identity or a scheme another name, wherever the text names it. What names it in another
// file is not changed from here: the error says where.
func Rename(text string, d *declaration.Document, kind, from, to string) (string, error) {
	if !plain.MatchString(to) {
		return "", fmt.Errorf("%q is no name; letters, digits and - _ . @ make one", to)
	}
	uses := d.Uses(kind, from)
	if len(uses) == 0 {
		return "", fmt.Errorf("there is no %s %q", kind, from)
	}
	if len(d.Uses(kind, to)) > 0 {
		return "", fmt.Errorf("there is a %s %q already", kind, to)
	}
	starts := []int{0}
	for i, c := range text {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	var places []int
	for _, u := range uses {
		if u.File != d.Name {
			return "", fmt.Errorf("%s names it too, in line %d; change it there first", u.File, u.Line)
		}
		at := -1
		if u.Line >= 1 && u.Line <= len(starts) {
			at = nameAt(text, starts[u.Line-1], u.Column, from)
		}
		if at < 0 {
			return "", fmt.Errorf("line %d names it in a way that is not changed from here; change it in the editor",
				u.Line)
		}
		if !slices.Contains(places, at) {
			places = append(places, at)
		}
	}
	slices.Sort(places)
	for _, at := range slices.Backward(places) {
		text = text[:at] + to + text[at+len(from):]
	}
	return text, nil
}

// nameAt is where a name stands that is used at a column of a line, counted from 1: behind a quote and the word that
// says what it is. -1 where it does not.
func nameAt(text string, line, column int, name string) int {
	at := line
	for range column - 1 {
		_, n := utf8.DecodeRuneInString(text[at:])
		at += n
	}
	rest := text[at:]
	for _, before := range []string{"", `"`, "'", "identity:", `"identity:`, "'identity:"} {
		after, ok := strings.CutPrefix(rest, before+name)
		if ok && (after == "" || !plain.MatchString(after[:1])) {
			return at + len(before)
		}
	}
	return -1
}

// CopyItem adds an item to a section that is a mapping, with what another one of it says.
func CopyItem(text, section, from, to string) (string, error) {
	l := source{text}
	sec, ok := l.top().find(section)
	if !ok {
		return "", fmt.Errorf("there is no %s", section)
	}
	b, ok := l.inside(sec)
	if !ok {
		return "", fmt.Errorf("%s is written in a way that is not changed from here", section)
	}
	p, ok := b.find(from)
	if !ok {
		return "", fmt.Errorf("%s has no %s", section, from)
	}
	value := text[p.val:p.valEnd]
	if strings.TrimSpace(value) == "" {
		var lines []string
		for _, line := range strings.Split(strings.TrimRight(text[p.start:p.end], "\n"), "\n")[1:] {
			lines = append(lines, strings.TrimPrefix(line, strings.Repeat(" ", p.indent+2)))
		}
		value = "\n" + strings.Join(lines, "\n")
	}
	return Apply(text, Edit{Section: section, Item: to, Text: value})
}
