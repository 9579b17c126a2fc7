package sweep

// Rule: What a logout ended is kept, sealed, until it ends by itself, and tried again.

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/store"
)

// buried is a credential whose session was ended.
type buried struct {
	Secret string    `json:"secret"`
	At     time.Time `json:"at"`
	Ends   time.Time `json:"ends"` // by itself
}

const (
	// buriedName begins the names under which they are sealed.
	buriedName = "ended:"
	// mostRecalled of a caller are tried again: more would tell no more.
	mostRecalled = 4
	// longestBuried is how long one is kept of which nothing says when it ends.
	longestBuried = 24 * time.Hour
)

// graveyard keeps them. Without a data directory nothing can be sealed: then it keeps them as long as
// the sweep.
type graveyard struct {
	store  *store.Store
	target string
	mu     sync.Mutex
	here   map[check.Caller][]buried
}

// prefix begins the names of those of a caller.
func (g *graveyard) prefix(who check.Caller) string {
	return buriedName + strings.Join([]string{g.target, who.Scheme, who.Identity}, ":") + ":"
}

// bury keeps one until it ends.
func (g *graveyard) bury(ctx context.Context, who check.Caller, b buried) {
	if text, err := json.Marshal(b); err == nil {
		sum := sha256.Sum256([]byte(b.Secret))
		if g.store.Seal(ctx, g.prefix(who)+hex.EncodeToString(sum[:8]), string(text)) == nil {
			return
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.here == nil {
		g.here = map[check.Caller][]buried{}
	}
	g.here[who] = append(g.here[who], b)
}

// recall gives those of a caller that have not ended, the newest first, and forgets the others.
func (g *graveyard) recall(ctx context.Context, who check.Caller, now time.Time) (secrets []string) {
	g.mu.Lock()
	list := slices.Clone(g.here[who])
	g.mu.Unlock()
	prefix := g.prefix(who)
	names, err := g.store.SealedNames(ctx, prefix)
	if err != nil {
		names = nil // then those of this sweep are tried alone
	}
	for _, n := range names {
		text, err := g.store.Unseal(ctx, prefix+n)
		var b buried
		if err != nil || json.Unmarshal([]byte(text), &b) != nil || !now.Before(b.Ends) {
			_ = g.store.Forget(ctx, prefix+n) // another sweep may have
			continue
		}
		list = append(list, b)
	}
	slices.SortFunc(list, func(a, b buried) int { return cmp.Compare(b.At.UnixNano(), a.At.UnixNano()) })
	for _, b := range list[:min(len(list), mostRecalled)] {
		if now.Before(b.Ends) {
			secrets = append(secrets, b.Secret)
		}
	}
	return secrets
}

// endOf is when a credential of a scheme that was ended now ends by itself at the latest.
func (r *run) endOf(who check.Caller, ends, now time.Time) time.Time {
	if !ends.IsZero() {
		return ends
	}
	life := longestBuried
	if s := r.doc.SchemeNamed(who.Scheme); s != nil {
		if l := r.doc.LifetimeNamed(s.Lifetime["access"].Name); l != nil && l.Max > 0 {
			on, _ := r.target.Lifetime(l)
			life = on.Max
		}
	}
	return now.Add(life)
}
