package declaration

// Rule: What cannot be sent, or looks like something else, is said where it is read.

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/route"
)

// unseen are signs that are not seen and change what is: they end a text for some readers, or turn
// the direction of writing (Unicode Standard Annex 9, section 2).
func unseen(c rune) bool {
	return c == 0 || unicode.Is(unicode.Bidi_Control, c)
}

// looksOdd warns of a text with a sign that is not seen.
func (r *reader) looksOdd(n ast.Node, text string) {
	i := strings.IndexFunc(text, unseen)
	if i < 0 {
		return
	}
	c := []rune(text[i:])[0]
	p, _ := r.at(n)
	for _, m := range r.msgs { // a text may be read twice
		if m.Code == "unseen" && m.Place == p {
			return
		}
	}
	r.say(n, Warning, "unseen",
		fmt.Sprintf("the text holds the sign U+%04X, which is not seen and changes what is read", c),
		"remove it")
}

// port says what is wrong with the port of an address, "" where nothing is.
func port(u *url.URL) string {
	text := u.Port()
	if text == "" {
		return ""
	}
	if n, err := strconv.Atoi(text); err != nil || n < 1 || n > 65535 {
		return fmt.Sprintf("%s is no port: they go from 1 to 65535", text)
	}
	return ""
}

// years is from how long on a time is worth a look.
const years = 366 * 24 * time.Hour

// fields are header fields as they are sent: a name that is none and a value that is no line
// cannot be (RFC 9110, sections 5.1 and 5.5).
func (r *reader) fields(n ast.Node, what string) {
	for _, p := range r.entries(n, what, nil) {
		if !fieldName.MatchString(p.key) {
			r.say(p.kn, Warning, "header",
				fmt.Sprintf("%q is no name of a header field, so that the request cannot be sent",
					p.key), "write for example X-Site")
		}
		if s, ok := p.val.(*ast.StringNode); ok && strings.ContainsAny(s.Value, "\r\n\x00") {
			r.say(p.val, Warning, "header",
				fmt.Sprintf("the value of %s is no line, so that the request cannot be sent",
					p.key), "write it without line breaks")
		}
	}
}

// repeats warns of a parameter that stands twice in a template: both get one value.
func (r *reader) repeats(n ast.Node, s route.Selector) {
	seen := map[string]bool{}
	for _, name := range s.Parameters() {
		if seen[name] {
			r.say(n, Warning, "parameter", fmt.Sprintf("{%s} stands twice in %s; both get the same value", name, s),
				"give the second another name")
			return
		}
		seen[name] = true
	}
}
