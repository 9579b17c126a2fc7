package check

// Rule: What was shown is told by its values, whatever form it was shown in.

import (
	"html"
	"strings"
	"unicode"
	"unicode/utf8"

	"millgate/core/mask"
)

// Values of an answer that tell it from any other, as they stand in a text.
const (
	tellingText   = 8 // runes of a text without a digit: a shorter one may be a word of any page
	tellingNumber = 3 // runes of one with a digit
)

// Reveals are the values of another answer that this one shows, each by its name there and
// itself. Where both are JSON they stand under the same name. In any other form (a page, a
// table, a text) they stand as whole words, and count only where they tell that answer from
// others: no short word, and nothing that was sent to get this one.
func (a Answer) Reveals(of Answer) map[string]bool {
	out := map[string]bool{}
	theirs := of.Values()
	if len(theirs) == 0 {
		return out
	}
	if a.Parts() {
		shown := a.Values()
		for k := range theirs {
			if shown[k] {
				out[k] = true
			}
		}
		return out
	}
	text := html.UnescapeString(string(a.Body))
	for k := range theirs {
		_, v, _ := strings.Cut(k, "=")
		if telling(v) && !strings.Contains(a.Asked, v) && hasWord(text, v) {
			out[k] = true
		}
	}
	return out
}

// telling says whether a value is one that no other text has by chance.
func telling(v string) bool {
	n := utf8.RuneCountInString(v)
	return n >= tellingText || n >= tellingNumber && strings.ContainsFunc(v, unicode.IsDigit)
}

// hasWord says whether a word stands in a text, with no letter or digit beside it.
func hasWord(text, word string) bool {
	for from := 0; ; {
		i := strings.Index(text[from:], word)
		if i < 0 {
			return false
		}
		i += from
		before, _ := utf8.DecodeLastRuneInString(text[:i])
		after, _ := utf8.DecodeRuneInString(text[i+len(word):])
		if !wordRune(before) && !wordRune(after) {
			return true
		}
		from = i + 1
	}
}

func wordRune(r rune) bool { return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r)) }

// asked is what was sent to get an answer, as one text: it may be shown again by whoever got it.
func asked(x Exchange) string {
	return mask.Unnumbered(x.URL + "\n" + x.Body)
}
