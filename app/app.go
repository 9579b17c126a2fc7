// Package app holds the use cases: keeping a declaration, planning and running
// sweeps, reading the board. It is the only place where wire, store and core
// meet.
package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/core/review"
	"millgate/store"
	"millgate/wire"
)

// App is one workspace: a declaration, its sweeps, and what was observed. It
// is safe for concurrent use.
type App struct {
	Events *Hub
	// Ask asks a person a question that can be answered with yes; nil is nobody.
	Ask func(question string) bool
	// KeepGoing goes on when a target begins to fail.
	KeepGoing bool
	// Retention is what of earlier sweeps is kept once another one has ended.
	Retention Retention

	store  *store.Store
	unlock func() error
	dir    string // where the declaration and its files are
	name   string // the declaration's file name
	dial   wire.Dial
	// maskKey makes marks in the place of secrets: equal ones only in this workspace.
	maskKey []byte
	// families are what a sweep checks.
	families check.Families

	// editing is held by who changes what the declaration says: reads it, writes its file, keeps
	// a revision. Nobody who reads waits for it.
	editing sync.Mutex
	looks   singleflight.Group // of who wants to know the same

	mu       sync.Mutex // never held over the disk, planning or judging
	text     string
	doc      *declaration.Document
	messages []declaration.Message
	reviewed []review.Message
	revision store.Revision
	stamp    fileStamp
	typed    *declaration.Document // what is being typed said last
	typedAt  time.Time
	seen     map[string]*observed // by target
	running  *run
	starting string // the target of a sweep that is about to run; "" without
	closed   bool
	restarts map[[2]string]*restarting // checks between their two halves
	spent    spent                     // what drills used of other quotas
	ended    map[uint]ended            // sweeps of this process
}

// GCPercent is how much garbage there may be beside what lives, for the process that runs
// sweeps: people work beside it, and a sweep waits for its target most of the time.
const GCPercent = 50

// Open opens the workspace with the declaration at file; when file is empty it
// is DefaultFile in the data directory. dataDir holds the database, and is locked
// for this process; empty is one in memory. Where the disk cannot be written, the
// workspace can be looked at, and ReadOnly says why.
func Open(ctx context.Context, dataDir, file string) (*App, error) {
	unlock, err := store.Lock(dataDir, strings.Join(append([]string{"millgate"}, os.Args[1:]...), " "))
	if err != nil {
		return nil, err
	}
	st, err := store.Open(dataDir) //nolint:contextcheck // its tables are made whole
	if err != nil {
		return nil, errors.Join(err, unlock())
	}
	a := &App{Events: NewHub(), store: st, unlock: unlock, seen: map[string]*observed{},
		restarts: map[[2]string]*restarting{}, ended: map[uint]ended{}, families: families.All}
	if file == "" {
		file = filepath.Join(dataDir, DefaultFile)
	}
	a.dir, a.name = filepath.Dir(file), filepath.Base(file)
	if err := a.lookOnly(st.InterruptRunning(ctx)); err != nil {
		return nil, errors.Join(fmt.Errorf("reading the sweeps: %w", err), a.Close())
	}
	if a.maskKey, err = a.keyOfMarks(ctx); err != nil {
		return nil, errors.Join(err, a.Close())
	}
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, errors.Join(fmt.Errorf("the declaration %s cannot be read: %w", file, err), a.Close())
	}
	if err := a.lookOnly(a.adopt(ctx, a.dir, a.name, string(text))); err != nil {
		return nil, errors.Join(err, a.Close())
	}
	return a, nil
}

// ReadOnly says why nothing can be kept, "" when it can.
func (a *App) ReadOnly() string { return a.store.ReadOnly() }

// Close stops what runs and closes the database.
func (a *App) Close() error {
	a.mu.Lock()
	r := a.running
	a.closed = true
	for k, w := range a.restarts {
		w.end()
		delete(a.restarts, k)
	}
	a.mu.Unlock()
	if r != nil {
		r.stop()
		<-r.done
	}
	return errors.Join(a.store.Close(), a.unlock())
}

// OpenFile replaces the workspace's declaration by a file elsewhere, for
// example the demo's.
func (a *App) OpenFile(ctx context.Context, path string) error {
	if err := a.begin(filepath.Base(path), nil); err != nil { // no sweep begins meanwhile
		return err
	}
	defer func() {
		a.mu.Lock()
		a.starting = ""
		a.mu.Unlock()
	}()
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("the declaration %s cannot be read: %w", path, err)
	}
	a.editing.Lock()
	defer a.editing.Unlock()
	if err := a.adopt(ctx, filepath.Dir(path), filepath.Base(path), string(text)); err != nil {
		return err
	}
	a.Events.Send(Event{Type: "declaration"})
	return nil
}

// busy says whether a sweep runs or is about to.
func (a *App) busy() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.running != nil || a.starting != ""
}
