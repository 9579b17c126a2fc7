package token

import (
	_ "embed"
	"net/url"
	"strconv"
	"strings"
	"unicode"

	"millgate/core/declaration"
)

// words.txt are secrets that turn up in examples, tutorials and word lists.
//
//go:embed words.txt
var words string

// Words is the list that ships, one word after the other.
func Words() []string { return strings.Fields(words) }

// mostNames is how many names of a declaration are tried, each with all its endings.
const mostNames = 200

// endings are what people put behind a name to make a secret of it.
var endings = func() []string {
	out := []string{"", "1", "12", "123", "1234", "12345", "!", "?", "s"}
	for _, w := range []string{"secret", "key", "jwt", "token", "api", "dev", "test", "prod", "hs256"} {
		for _, joint := range []string{"", "-", "_", "."} {
			out = append(out, joint+w)
		}
	}
	for year := 2015; year <= 2035; year++ {
		out = append(out, strconv.Itoa(year))
	}
	return out
}()

// OwnWords are secrets that follow from a declaration: its title, issuers, audiences, hosts and
// names, with what is usually put behind such a word. values fill the {names} of issuers.
func OwnWords(d *declaration.Document, values map[string]string) (out []string) {
	if d == nil {
		return nil
	}
	seen := map[string]bool{}
	names := 0
	word := func(w string) {
		for _, w := range []string{w, strings.ToLower(w)} {
			if w == "" || seen[w] || names == mostNames {
				continue
			}
			seen[w] = true
			names++
			for _, e := range endings {
				out = append(out, w+e)
			}
		}
	}
	name := func(text string) {
		text = FillValues(text, values)
		word(text)
		if u, err := url.Parse(text); err == nil && u.Host != "" {
			word(u.Host)
			word(u.Hostname())
		}
		for _, w := range strings.FieldsFunc(text, func(r rune) bool {
			return !unicode.IsLetter(r) &&
				!unicode.IsDigit(r)
		}) {
			if len(w) > 2 {
				word(w)
			}
		}
	}
	name(d.Title)
	for _, s := range d.Schemes {
		name(s.Issuer)
		name(s.Audience)
		name(s.Name)
	}
	for _, t := range d.Targets {
		name(t.Base)
		for _, h := range t.Hosts {
			name(h)
		}
		name(t.Name)
	}
	for _, r := range d.Roles {
		name(r.Name)
	}
	for _, id := range d.Identities {
		name(id.Name)
	}
	return out
}

// Guess looks for the HMAC secret of a token among words. It does a bounded
// piece of work, so that a caller can share a long list out, show progress
// and stop.
func Guess(t *Token, words []string) (string, bool) {
	a, ok := algorithms[t.Algorithm()]
	if !ok || a.kind != 'H' || len(t.Signature) == 0 {
		return "", false
	}
	for _, w := range words {
		if a.mac([]byte(w), t.covered(), t.Signature) {
			return w, true
		}
	}
	return "", false
}

// GuessUsual looks for it among the words that ship and those that follow from a declaration.
func GuessUsual(t *Token, d *declaration.Document, values map[string]string) (string, bool) {
	if !Guessable(t) {
		return "", false // the words are not even made
	}
	return Guess(t, usualWords(d, values))
}

func usualWords(d *declaration.Document, values map[string]string) []string {
	return append(Words(), OwnWords(d, values)...)
}

// Guessable says whether guessing means anything: the token has an HMAC
// signature.
func Guessable(t *Token) bool {
	a, ok := algorithms[t.Algorithm()]
	return ok && a.kind == 'H' && len(t.Signature) > 0
}

// Guessed is the judgement about a secret that was found.
func Guessed(word string) Judgement { return judgement("secret-guessed", Signature, "", word) }
