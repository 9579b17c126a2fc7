package token

import (
	_ "embed"
	"strings"
)

// words.txt are secrets that turn up in examples, tutorials and word lists.
//
//go:embed words.txt
var words string

// Words is the list that ships, one word after the other.
func Words() []string { return strings.Fields(words) }

// Guess looks for the HMAC secret of a token among words. It does a bounded
// piece of work, so that a caller can share a long list out, show progress
// and stop.
func Guess(t *Token, words []string) (string, bool) {
	a, ok := algorithms[t.Algorithm()]
	if !ok || a.kind != 'H' || len(t.Signature) == 0 {
		return "", false
	}
	for _, w := range words {
		if a.mac([]byte(w), t.Signed, t.Signature) {
			return w, true
		}
	}
	return "", false
}

// Guessable says whether guessing means anything: the token has an HMAC
// signature.
func Guessable(t *Token) bool {
	a, ok := algorithms[t.Algorithm()]
	return ok && a.kind == 'H' && len(t.Signature) > 0
}

// Guessed is the judgement about a secret that was found.
func Guessed(word string) Judgement { return judgement("secret-guessed", Signature, "", word) }
