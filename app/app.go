// Package app wires the use cases, a package each: keeping a declaration (workspace), what is known of
// targets (snapshot), running sweeps (sweep, with room), looking (view), tokens, and importing. They
// are the only place where wire, store and core meet.
package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"millgate/app/callers"
	"millgate/app/events"
	"millgate/app/importing"
	"millgate/app/observing"
	"millgate/app/past"
	"millgate/app/report"
	"millgate/app/shards"
	"millgate/app/snapshot"
	"millgate/app/sweep"
	"millgate/app/tokens"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/store"
)

// App is one workspace, wired: a declaration, its sweeps, and what was observed. It is safe
// for concurrent use.
type App struct {
	Events    *events.Hub
	Workspace *workspace.Workspace
	Targets   *snapshot.Targets
	Sweeps    *sweep.Sweeps
	View      *view.View
	Tokens    *tokens.Tokens
	Imports   *importing.Imports
	Past      *past.Past
	Reports   *report.Reports
	Shards    *shards.Shards
	Observing *observing.Observing
	Callers   *callers.Callers

	store  *store.Store
	unlock func() error
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
	if file == "" {
		file = filepath.Join(dataDir, workspace.DefaultFile)
	}
	a := &App{Events: events.NewHub(), store: st, unlock: unlock}
	a.Workspace = workspace.New(st, a.Events, file)
	a.Targets = snapshot.NewTargets(st)
	a.Sweeps = sweep.New(st, a.Events, a.Workspace, a.Targets)
	a.View = view.New(st, a.Workspace, a.Targets, a.Sweeps)
	a.Tokens = tokens.New(st, a.Workspace)
	a.Imports = importing.New(a.Workspace)
	a.Past = past.New(a.Workspace, a.Targets, a.Sweeps)
	a.Reports = report.New(a.Workspace, a.Targets, a.Past, a.Sweeps, a.View)
	a.Callers = callers.New(st, a.Workspace)
	a.Observing = observing.New(st, a.Events, a.Workspace, a.Sweeps)
	a.Shards = shards.New(st, a.Workspace, a.Targets.Families)
	if err := a.Workspace.LookOnly(st.InterruptRunning(ctx)); err != nil {
		return nil, errors.Join(fmt.Errorf("reading the sweeps: %w", err), a.Close())
	}
	if err := a.Workspace.Read(ctx, file); err != nil {
		return nil, errors.Join(err, a.Close())
	}
	return a, nil
}

// ReadOnly says why nothing can be kept, "" when it can.
func (a *App) ReadOnly() string { return a.store.ReadOnly() }

// Close stops what runs and closes the database.
func (a *App) Close() error {
	a.Observing.Close()
	a.Sweeps.Close()
	return errors.Join(a.store.Close(), a.unlock())
}

// OpenFile replaces the workspace's declaration by a file elsewhere, for
// example the demo's.
func (a *App) OpenFile(ctx context.Context, path string) error {
	release, err := a.Sweeps.Hold(filepath.Base(path)) // no sweep begins meanwhile
	if err != nil {
		return err
	}
	defer release()
	return a.Workspace.OpenFile(ctx, path)
}

// PruneData takes exchanges away that the retention of a workspace does not keep. What the
// latest whole sweep of a target and all after it saw stays, and every sweep's findings.
func PruneData(ctx context.Context, dataDir string, keep sweep.Retention) (sweep.Pruned, error) {
	a, err := Open(ctx, dataDir, "")
	if err != nil {
		return sweep.Pruned{}, err
	}
	a.Sweeps.Retention = keep
	out, err := a.Sweeps.Prune(ctx)
	if err == nil && out.Exchanges > 0 {
		err = a.store.Shrink(ctx)
	}
	if cerr := a.Close(); err == nil {
		err = cerr
	}
	return out, err
}
