// Package app holds the use cases: keeping a declaration, planning and running
// sweeps, reading the board. It is the only place where wire, store and core
// meet.
package app

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
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
	"millgate/format/openapi"
	"millgate/store"
	"millgate/wire"
)

// Errors that callers branch on.
var (
	ErrNotFound = errors.New("not found")
	ErrInvalid  = errors.New("the declaration has errors")
	ErrBusy     = errors.New("a sweep is running")
	ErrInput    = errors.New("the input cannot be used")
	// ErrNotStored is a sweep that cannot be recorded where it was wanted.
	ErrNotStored = errors.New("the sweep cannot be recorded")
	// ErrUnreachable is a target that does not take connections.
	ErrUnreachable = wire.ErrUnreachable
)

// DefaultFile is the declaration's name in a data directory that was not
// started with a file.
const DefaultFile = "declaration.gate.yaml"

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

// marksKey is the name of the sealed key of marks.
const marksKey = "mask:key"

// keyOfMarks is the workspace's key of marks, made the first time. Without a data
// directory, or on a disk that takes nothing, it is one of this process: then marks are
// equal within it alone.
func (a *App) keyOfMarks(ctx context.Context) ([]byte, error) {
	text, err := a.store.Unseal(ctx, marksKey)
	if err == nil {
		return hex.DecodeString(text)
	}
	if !errors.Is(err, store.ErrNotFound) {
		slog.WarnContext(ctx, "equal secrets get other marks than before", "why", err)
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key) // crypto/rand never fails
	if errors.Is(err, store.ErrNotFound) {
		err = a.store.Seal(ctx, marksKey, hex.EncodeToString(key))
		if err != nil && !errors.Is(err, store.ErrNoDirectory) && a.lookOnly(err) != nil {
			return nil, fmt.Errorf("the key of marks cannot be kept: %w", err)
		}
	}
	return key, nil
}

// lookOnly takes away the error of a disk that takes no writes.
func (a *App) lookOnly(err error) error {
	if err == nil || !store.Unwritable(err) {
		return err
	}
	if a.store.ReadOnly() == "" {
		a.store.SetReadOnly(err)
	}
	return nil
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

// adopt makes the text of a file what the declaration says, as a revision of its own
// when it differs from the last. The caller holds editing.
func (a *App) adopt(ctx context.Context, dir, name, text string) error {
	stamp := stampOf(filepath.Join(dir, name))
	doc, msgs := declaration.ParseFiles(name, []byte(text), FilesIn(dir))
	rev, err := a.store.LastRevision(ctx)
	switch {
	case err == nil && rev.Text == text && rev.Name == name:
	case err != nil && !errors.Is(err, store.ErrNotFound):
	case text == "":
		err = nil
	default:
		rev = store.Revision{At: time.Now(), Message: "Read from the file", Name: name, Text: text}
		err = a.store.AddRevision(ctx, &rev, filesOf(doc, dir), nil)
	}
	a.says(doc, msgs, rev, dir, name, text, stamp)
	return err
}

// says makes something what the declaration says.
func (a *App) says(doc *declaration.Document, msgs []declaration.Message, rev store.Revision, dir, name, text string,
	stamp fileStamp) {
	reviewed := review.Review(doc, msgs, time.Now())
	a.mu.Lock()
	defer a.mu.Unlock()
	if dir != a.dir || name != a.name {
		a.seen = map[string]*observed{}
	}
	a.dir, a.name, a.text, a.stamp = dir, name, text, stamp
	a.doc, a.messages, a.reviewed = doc, msgs, reviewed
	if rev.Text == text {
		a.revision = rev
	}
}

// where is the declaration's folder, and its name there.
func (a *App) where() (dir, name string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.dir, a.name
}

// fileStamp tells whether a file was written since it was read.
type fileStamp struct {
	at   time.Time
	size int64
}

func stampOf(path string) fileStamp {
	i, err := os.Stat(path)
	if err != nil {
		return fileStamp{}
	}
	return fileStamp{i.ModTime(), i.Size()}
}

// Sync takes in what somebody else wrote into the declaration's file, so that
// an editor and the interface can be used side by side.
func (a *App) Sync(ctx context.Context) error {
	if !a.editing.TryLock() {
		return nil // whoever changes it now takes that in
	}
	defer a.editing.Unlock()
	return a.sync(ctx)
}

// sync is Sync for who holds editing.
func (a *App) sync(ctx context.Context) error {
	a.mu.Lock()
	dir, name, text, stamp := a.dir, a.name, a.text, a.stamp
	a.mu.Unlock()
	path := filepath.Join(dir, name)
	now := stampOf(path)
	if now == stamp || now == (fileStamp{}) {
		return nil
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("the declaration %s cannot be read: %w", path, err)
	}
	if string(b) == text {
		a.mu.Lock()
		a.stamp = now
		a.mu.Unlock()
		return nil
	}
	if err := a.adopt(ctx, dir, name, string(b)); err != nil {
		return err
	}
	a.Events.Send(Event{Type: "declaration"})
	return nil
}

// parse reads a text with the files beside the declaration.
func (a *App) parse(text string) (*declaration.Document, []declaration.Message) {
	dir, name := a.where()
	return declaration.ParseFiles(name, []byte(text), FilesIn(dir))
}

// FilesIn reads what a declaration in a directory names, and nothing outside
// it.
func FilesIn(dir string) declaration.Files {
	return declaration.Files{Routes: Importer(dir), Text: func(ref string) ([]byte,
		error) {
		return readBeside(dir, ref)
	}}
}

// readBeside reads a file in a directory, wherever its name tries to lead.
func readBeside(dir, ref string) ([]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder cannot be opened: %w", err)
	}
	defer root.Close() //nolint:errcheck // nothing was written
	b, err := root.ReadFile(filepath.Clean(ref))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no such file beside the declaration")
	}
	if err != nil {
		return nil, fmt.Errorf("it cannot be read: %v", err)
	}
	return b, nil
}

// Importer reads OpenAPI files from a directory, and nothing outside it.
func Importer(dir string) declaration.Importer {
	return func(ref string) ([]declaration.Imported, []error) {
		b, err := readBeside(dir, ref)
		if err != nil {
			return nil, []error{err}
		}
		return openapi.Read(b, besides(dir, ref))
	}
}

// besides reads files by their path relative to another in a directory.
func besides(dir, of string) openapi.Load {
	return func(ref string) ([]byte, error) {
		return readBeside(dir, filepath.Join(filepath.Dir(filepath.FromSlash(of)), filepath.FromSlash(ref)))
	}
}

// keptFiles reads what a revision was kept with; what it was not kept with is
// read from the folder.
func (a *App) keptFiles(kept map[string]string) declaration.Files {
	dir, _ := a.where()
	read := func(ref string) ([]byte, error) {
		if t, ok := kept[ref]; ok {
			return []byte(t), nil
		}
		return readBeside(dir, ref)
	}
	return declaration.Files{Text: read, Routes: func(ref string) ([]declaration.Imported, []error) {
		b, err := read(ref)
		if err != nil {
			return nil, []error{err}
		}
		return openapi.Read(b, besides(dir, ref))
	}}
}

// filesOf are the texts in a folder that a document was made from beside its own.
func filesOf(d *declaration.Document, dir string) map[string]string {
	out := map[string]string{}
	put := func(name string) {
		if name == "" || out[name] != "" {
			return
		}
		if b, err := readBeside(dir, name); err == nil {
			out[name] = string(b)
		}
	}
	for _, r := range d.Routes {
		put(r.From)
	}
	for _, n := range d.Includes {
		put(n)
	}
	return out
}

// Document is the current declaration, for reading only, with its messages.
func (a *App) Document() (*declaration.Document, []declaration.Message) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.doc, a.messages
}

// Declaration is the current text and where it stands.
type Declaration struct {
	Name     string
	Text     string
	Title    string
	Revision uint
	KeptAt   time.Time
	Messages []review.Message
}

// Declaration returns the current text.
func (a *App) Declaration() Declaration {
	a.mu.Lock()
	defer a.mu.Unlock()
	return Declaration{Name: a.name, Text: a.text, Title: a.doc.Title, Revision: a.revision.ID, KeptAt: a.revision.At,
		Messages: a.reviewed}
}

// Keep writes a new text to the file and makes it a revision. base is the
// revision that the text was made from: when another was kept since, nothing
// is written and ErrInput says so.
func (a *App) Keep(ctx context.Context, text, message string, base uint) (Declaration, error) {
	a.editing.Lock()
	defer a.editing.Unlock()
	if err := a.sync(ctx); err != nil {
		return Declaration{}, err
	}
	if now := a.present().revision.ID; base != now {
		return Declaration{}, fmt.Errorf("%w: revision %d was kept meanwhile; your text is still in the editor, "+
			"compare it with the new one and keep it again", ErrInput, now)
	}
	dir, name := a.where()
	doc, msgs := declaration.ParseFiles(name, []byte(text), FilesIn(dir))
	if declaration.Failed(msgs) {
		return Declaration{}, fmt.Errorf("%w: mend the marked lines first", ErrInvalid)
	}
	path := filepath.Join(dir, name)
	next, err := replacing(path, text)
	if err != nil {
		return Declaration{}, err
	}
	defer next.drop()
	if next.was != (fileStamp{}) { // it is replaced as it was when it was read last; one that is gone may come back
		a.mu.Lock()
		next.was = a.stamp
		a.mu.Unlock()
	}
	if message = strings.TrimSpace(message); message == "" {
		message = "Changed in the editor"
	}
	rev := store.Revision{At: time.Now(), Message: message, Name: name, Text: text}
	before := a.present().text
	if err := a.store.AddRevision(ctx, &rev, filesOf(doc, dir), next.take); err != nil {
		if next.beside == "" { // the file was written, and the revision is lost
			err = errors.Join(err, ReplaceFile(path, before))
			a.mu.Lock()
			a.stamp = stampOf(path) // it is not read as somebody else's
			a.mu.Unlock()
		}
		return Declaration{}, fmt.Errorf("the text cannot be kept: %w", err)
	}
	a.says(doc, msgs, rev, dir, name, text, stampOf(path))
	a.Events.Send(Event{Type: "declaration"})
	return a.Declaration(), nil
}

// RevisionInfo is one revision without its text.
type RevisionInfo struct {
	ID      uint
	At      time.Time
	Message string
}

// Revisions lists the newest revisions.
func (a *App) Revisions(ctx context.Context) ([]RevisionInfo, error) {
	list, err := a.store.Revisions(ctx, 100)
	out := make([]RevisionInfo, len(list))
	for i, r := range list {
		out[i] = RevisionInfo{r.ID, r.At, r.Message}
	}
	return out, err
}

// RevisionText returns the text of a revision.
func (a *App) RevisionText(ctx context.Context, id uint) (string, error) {
	r, _, err := a.store.RevisionByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return "", fmt.Errorf("%w: there is no revision %d", ErrNotFound, id)
	}
	return r.Text, err
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

// secrets look up env:NAME and kept:NAME for who presents them.
func (a *App) secrets(ctx context.Context) wire.Secrets {
	return func(v declaration.Value) (string, error) { return a.secret(ctx, v) }
}

// secret looks up env:NAME and kept:NAME.
func (a *App) secret(ctx context.Context, v declaration.Value) (string, error) {
	switch {
	case v.Env != "":
		s, ok := os.LookupEnv(v.Env)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set where Mill Gate runs", v.Env)
		}
		return s, nil
	case v.Kept != "":
		s, err := a.store.Unseal(ctx, v.Kept)
		if errors.Is(err, store.ErrNotFound) {
			return "", fmt.Errorf("nothing is kept under %s; run  millgate keep %s", v.Kept, v.Kept)
		}
		return s, err
	}
	return v.Literal, nil
}

// KeepSecret seals a secret under a name in a data directory, also while another
// process works with it.
func KeepSecret(ctx context.Context, dataDir, name, value string) error {
	st, err := store.Open(dataDir) //nolint:contextcheck // its tables are made whole
	if err != nil {
		return err
	}
	if st.ReadOnly() != "" {
		return errors.Join(fmt.Errorf("nothing was kept: %s", st.ReadOnly()), st.Close())
	}
	return errors.Join(st.Seal(ctx, name, value), st.Close())
}
