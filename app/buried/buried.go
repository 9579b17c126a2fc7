// Package buried keeps credentials whose session was ended, sealed, until they end by themselves, so
// that they can be tried again: by the sweep that ended them, and by those after it.
package buried

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

// Credential is one whose session was ended.
type Credential struct {
	Secret string    `json:"secret"`
	At     time.Time `json:"at"`
	Ends   time.Time `json:"ends"` // by itself
}

const (
	// name begins the names under which they are sealed.
	name = "ended:"
	// mostRecalled of a caller are tried again: more would tell no more.
	mostRecalled = 4
)

// Graves keeps those of a target. Without a data directory nothing can be sealed: then it keeps them as long as
// the sweep.
type Graves struct {
	Store  *store.Store
	Target string
	mu     sync.Mutex
	here   map[check.Caller][]Credential
}

// prefix begins the names of those of a caller.
func (g *Graves) prefix(who check.Caller) string {
	return name + strings.Join([]string{g.Target, who.Scheme, who.Identity}, ":") + ":"
}

// Bury keeps one until it ends.
func (g *Graves) Bury(ctx context.Context, who check.Caller, b Credential) {
	if text, err := json.Marshal(b); err == nil {
		sum := sha256.Sum256([]byte(b.Secret))
		if g.Store.Seal(ctx, g.prefix(who)+hex.EncodeToString(sum[:8]), string(text)) == nil {
			return
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.here == nil {
		g.here = map[check.Caller][]Credential{}
	}
	g.here[who] = append(g.here[who], b)
}

// Recall gives those of a caller that have not ended, the newest first, and forgets the others.
func (g *Graves) Recall(ctx context.Context, who check.Caller, now time.Time) (secrets []string) {
	g.mu.Lock()
	list := slices.Clone(g.here[who])
	g.mu.Unlock()
	prefix := g.prefix(who)
	names, err := g.Store.SealedNames(ctx, prefix)
	if err != nil {
		names = nil // then those of this sweep are tried alone
	}
	for _, n := range names {
		text, err := g.Store.Unseal(ctx, prefix+n)
		var b Credential
		if err != nil || json.Unmarshal([]byte(text), &b) != nil || !now.Before(b.Ends) {
			_ = g.Store.Forget(ctx, prefix+n) // another sweep may have
			continue
		}
		list = append(list, b)
	}
	slices.SortFunc(list, func(a, b Credential) int { return cmp.Compare(b.At.UnixNano(), a.At.UnixNano()) })
	for _, b := range list[:min(len(list), mostRecalled)] {
		if now.Before(b.Ends) {
			secrets = append(secrets, b.Secret)
		}
	}
	return secrets
}
