package wire

import (
	"sync"
	"sync/atomic"

	"millgate/core/check"
	"millgate/core/mask"
)

// Masker takes the secrets in use out of what is sent and answered (core/mask). It is
// safe for concurrent use.
type Masker struct {
	mu  sync.Mutex // of who learns
	set atomic.Pointer[mask.Set]
}

// NewMasker returns a Masker that knows nothing yet. With the key of a workspace equal
// secrets get equal marks.
func NewMasker(key []byte) *Masker {
	m := &Masker{}
	m.set.Store(mask.NewSet(key))
	return m
}

// Learn adds secrets of a kind.
func (m *Masker) Learn(kind mask.Kind, secrets ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.set.Store(m.set.Load().With(kind, secrets...))
}

// Text returns a text for people, without secrets.
func (m *Masker) Text(s string) string { return mask.Plain(m.set.Load().Begin().Text(s, false)) }

// begin begins to mask what belongs to one fact.
func (m *Masker) begin() *mask.Masking { return m.set.Load().Begin() }

// exchange masks a request and its answer.
func (m *Masker) exchange(r raw, never []string, t *mask.Masking) check.Exchange {
	x := r.Exchange
	x.URL, x.Error = t.URL(x.URL), t.Text(x.Error, false)
	x.Body = t.Body(x.Body, x.Headers.Get("Content-Type"), false)
	media := x.Answer.Get("Content-Type")
	x.Headers, x.Answer = t.Headers(x.Headers), t.Headers(x.Answer)
	content := string(r.content)
	x.Content = t.Body(content, media, len(content) >= BodyLimit+maskMargin)
	if len(x.Content) > BodyLimit {
		x.Content, x.Truncated = mask.Cut(x.Content, BodyLimit), true
	}
	if x.Texts = mask.Within(content, never); x.Truncated || mask.Has(x.Content) {
		x.Sought = never
	}
	return x
}
