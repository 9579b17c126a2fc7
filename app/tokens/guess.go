package tokens

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"millgate/app/fault"
	"millgate/core/token"
)

// errFound ends a search.
var errFound = errors.New("found")

// GuessSecret looks for a token's HMAC secret in a word list, one word on a
// line, on all cores. progress tells how many words were tried.
func GuessSecret(ctx context.Context, text string, list io.Reader, progress func(int64)) (string, bool, error) {
	t := token.Decode(text)
	if !token.Guessable(t) {
		return "", false, fmt.Errorf("%w: it is not signed with a secret, so there is nothing to guess", fault.ErrInput)
	}
	b, err := io.ReadAll(io.LimitReader(list, 512<<20))
	if err != nil {
		return "", false, fmt.Errorf("reading the words: %w", err)
	}
	g, ctx := errgroup.WithContext(ctx)
	var telling sync.Mutex // so that progress is told in its order, one after the other
	var tried int64
	var word atomic.Pointer[string]
	var next atomic.Int64
	const piece = 64 << 10
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for {
				from := int(next.Add(piece)) - piece
				if from >= len(b) {
					return nil
				}
				if ctx.Err() != nil {
					return ctx.Err()
				}
				words := wordsOf(b, from, from+piece)
				if w, ok := token.Guess(t, words); ok {
					word.Store(&w)
					return errFound
				}
				telling.Lock()
				if tried += int64(len(words)); progress != nil {
					progress(tried)
				}
				telling.Unlock()
			}
		})
	}
	if err := g.Wait(); err != nil && !errors.Is(err, errFound) && word.Load() == nil {
		return "", false, err
	}
	if w := word.Load(); w != nil {
		return *w, true, nil
	}
	return "", false, nil
}

// wordsOf are those whose line begins in b[from:to].
func wordsOf(b []byte, from, to int) []string {
	if from > 0 {
		i := bytes.IndexByte(b[from-1:], '\n')
		if i < 0 {
			return nil
		}
		from += i
	}
	if to > len(b) {
		to = len(b)
	} else if i := bytes.IndexByte(b[to-1:], '\n'); i >= 0 {
		to += i
	} else {
		to = len(b)
	}
	if from >= to {
		return nil
	}
	var out []string
	for _, l := range strings.Split(string(b[from:to]), "\n") {
		if l = strings.TrimRight(l, "\r"); l != "" {
			out = append(out, l)
		}
	}
	return out
}
