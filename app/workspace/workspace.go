// Package workspace keeps a declaration: its text in a file, what the text means, its revisions, the
// edits that people make in it before they keep it, and the secrets that it names.
//
// A Present is what the declaration says at a moment. It does not change: whoever has one reads it
// without a lock, while others edit. Edits work on a text that somebody holds and give a text back;
// only Keep writes, whole or not at all.
package workspace

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

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
	"millgate/store"
	"millgate/wire"
)

// Workspace is a declaration in its file, with its revisions and what it names beside it. It is
// safe for concurrent use.
type Workspace struct {
	// Dial connects to targets; nil is the network.
	Dial wire.Dial

	store  *store.Store
	events *events.Hub
	// maskKey makes marks in the place of secrets: equal ones only in this workspace.
	maskKey []byte

	// editing is held by who changes what the declaration says: reads it, writes its file, keeps
	// a revision. Nobody who reads waits for it.
	editing sync.Mutex

	mu       sync.Mutex // never held over the disk, planning or judging
	dir      string     // where the declaration and its files are
	name     string     // the declaration's file name
	text     string
	doc      *declaration.Document
	messages []declaration.Message
	reviewed []review.Message
	found    map[string][]finding.Finding // by target, that there are or may be
	revision store.Revision
	stamp    fileStamp
	typed    *declaration.Document // what is being typed said last
	typedAt  time.Time
}

func New(st *store.Store, events *events.Hub, file string) *Workspace {
	return &Workspace{store: st, events: events, dir: filepath.Dir(file), name: filepath.Base(file),
		found: map[string][]finding.Finding{}}
}

// Read reads the declaration the first time; its file may be missing.
func (ws *Workspace) Read(ctx context.Context, file string) (err error) {
	if ws.maskKey, err = ws.keyOfMarks(ctx); err != nil {
		return err
	}
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("the declaration %s cannot be read: %w", file, err)
	}
	return ws.LookOnly(ws.adopt(ctx, ws.dir, ws.name, string(text)))
}

// OpenFile replaces the declaration by a file elsewhere.
func (ws *Workspace) OpenFile(ctx context.Context, path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("the declaration %s cannot be read: %w", path, err)
	}
	ws.editing.Lock()
	defer ws.editing.Unlock()
	if err := ws.adopt(ctx, filepath.Dir(path), filepath.Base(path), string(text)); err != nil {
		return err
	}
	ws.events.Send(events.Event{Type: events.Declared})
	return nil
}

// DefaultFile is the declaration's name in a data directory that was not
// started with a file.
const DefaultFile = "declaration.gate.yaml"

// marksKey is the name of the sealed key of marks.
const marksKey = "mask:key"

// keyOfMarks is the workspace's key of marks, made the first time. Without a data
// directory, or on a disk that takes nothing, it is one of this process: then marks are
// equal within it alone.
func (ws *Workspace) keyOfMarks(ctx context.Context) ([]byte, error) {
	text, err := ws.store.Unseal(ctx, marksKey)
	if err == nil {
		return hex.DecodeString(text)
	}
	if !errors.Is(err, store.ErrNotFound) {
		slog.WarnContext(ctx, "equal secrets get other marks than before", "why", err)
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key) // crypto/rand never fails
	if errors.Is(err, store.ErrNotFound) {
		err = ws.store.Seal(ctx, marksKey, hex.EncodeToString(key))
		if err != nil && !errors.Is(err, store.ErrNoDirectory) && ws.LookOnly(err) != nil {
			return nil, fmt.Errorf("the key of marks cannot be kept: %w", err)
		}
	}
	return key, nil
}

// LookOnly takes away the error of a disk that takes no writes.
func (ws *Workspace) LookOnly(err error) error {
	if err == nil || !store.Unwritable(err) {
		return err
	}
	if ws.store.ReadOnly() == "" {
		ws.store.SetReadOnly(err)
	}
	return nil
}

// adopt makes the text of a file what the declaration says, as a revision of its own
// when it differs from the last. The caller holds editing.
func (ws *Workspace) adopt(ctx context.Context, dir, name, text string) error {
	stamp := stampOf(filepath.Join(dir, name))
	doc, msgs := declaration.ParseFiles(name, []byte(text), FilesIn(dir))
	rev, err := ws.store.LastRevision(ctx)
	switch {
	case err == nil && rev.Text == text && rev.Name == name:
	case err != nil && !errors.Is(err, store.ErrNotFound):
	case text == "":
		err = nil
	default:
		rev = store.Revision{At: time.Now(), Message: "Read from the file", Name: name, Text: text}
		err = ws.store.AddRevision(ctx, &rev, filesOf(doc, dir), nil)
	}
	ws.says(doc, msgs, rev, dir, name, text, stamp)
	return err
}

// says makes something what the declaration says.
func (ws *Workspace) says(doc *declaration.Document, msgs []declaration.Message, rev store.Revision, dir, name,
	text string,
	stamp fileStamp) {
	reviewed := ws.review(doc, msgs)
	ws.mu.Lock()
	defer ws.mu.Unlock()
	ws.dir, ws.name, ws.text, ws.stamp = dir, name, text, stamp
	ws.doc, ws.messages, ws.reviewed = doc, msgs, reviewed
	if rev.Text == text {
		ws.revision = rev
	}
}

// review reviews a document beside what sweeps of its targets found.
func (ws *Workspace) review(doc *declaration.Document, msgs []declaration.Message) []review.Message {
	return review.Beside(doc, msgs, time.Now(), ws.foundBy(doc))
}

// foundBy are the findings of a document's targets, nil where none of them was swept.
func (ws *Workspace) foundBy(doc *declaration.Document) (found []finding.Finding) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for _, t := range doc.Targets {
		if list, ok := ws.found[t.Name]; ok {
			found = append(found, list...)
			if found == nil { // a sweep found nothing
				found = []finding.Finding{}
			}
		}
	}
	return found
}

// Found takes in what findings there are of a target, or may be still, so that the review holds waivers
// against them.
func (ws *Workspace) Found(target string, list []finding.Finding) {
	ws.mu.Lock()
	ws.found[target] = list
	doc, msgs, has := ws.doc, ws.messages, ws.doc != nil && len(ws.doc.Waivers) > 0
	ws.mu.Unlock()
	if !has {
		return
	}
	reviewed := ws.review(doc, msgs)
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if ws.doc == doc {
		ws.reviewed = reviewed
	}
}

// Where is the declaration's folder, and its name there.
func (ws *Workspace) Where() (dir, name string) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return ws.dir, ws.name
}

// Sync takes in what somebody else wrote into the declaration's file, so that
// an editor and the interface can be used side by side.
func (ws *Workspace) Sync(ctx context.Context) error {
	if !ws.editing.TryLock() {
		return nil // whoever changes it now takes that in
	}
	defer ws.editing.Unlock()
	return ws.sync(ctx)
}

// sync is Sync for who holds editing.
func (ws *Workspace) sync(ctx context.Context) error {
	ws.mu.Lock()
	dir, name, text, stamp := ws.dir, ws.name, ws.text, ws.stamp
	ws.mu.Unlock()
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
		ws.mu.Lock()
		ws.stamp = now
		ws.mu.Unlock()
		return nil
	}
	if err := ws.adopt(ctx, dir, name, string(b)); err != nil {
		return err
	}
	ws.events.Send(events.Event{Type: events.Declared})
	return nil
}

// Parse reads a text with the files beside the declaration.
func (ws *Workspace) Parse(text string) (*declaration.Document, []declaration.Message) {
	dir, name := ws.Where()
	return declaration.ParseFiles(name, []byte(text), FilesIn(dir))
}

// Document is the current declaration, for reading only, with its messages.
func (ws *Workspace) Document() (*declaration.Document, []declaration.Message) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return ws.doc, ws.messages
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
func (ws *Workspace) Declaration() Declaration {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return Declaration{Name: ws.name, Text: ws.text, Title: ws.doc.Title, Revision: ws.revision.ID,
		KeptAt:   ws.revision.At,
		Messages: ws.reviewed}
}

// Keep writes a new text to the file and makes it a revision. base is the
// revision that the text was made from: when another was kept since, nothing
// is written and ErrInput says so.
func (ws *Workspace) Keep(ctx context.Context, text, message string, base uint) (Declaration, error) {
	ws.editing.Lock()
	defer ws.editing.Unlock()
	if err := ws.sync(ctx); err != nil {
		return Declaration{}, err
	}
	if now := ws.Present().Revision.ID; base != now {
		return Declaration{}, fmt.Errorf("%w: revision %d was kept meanwhile; your text is still in the editor, "+
			"compare it with the new one and keep it again", fault.ErrInput, now)
	}
	dir, name := ws.Where()
	doc, msgs := declaration.ParseFiles(name, []byte(text), FilesIn(dir))
	if declaration.Failed(msgs) {
		return Declaration{}, fmt.Errorf("%w: mend the marked lines first", fault.ErrInvalid)
	}
	path := filepath.Join(dir, name)
	next, err := replacing(path, text)
	if err != nil {
		return Declaration{}, err
	}
	defer next.drop()
	if next.was != (fileStamp{}) { // it is replaced as it was when it was read last; one that is gone may come back
		ws.mu.Lock()
		next.was = ws.stamp
		ws.mu.Unlock()
	}
	if message = strings.TrimSpace(message); message == "" {
		message = "Changed in the editor"
	}
	rev := store.Revision{At: time.Now(), Message: message, Name: name, Text: text}
	before := ws.Present().Text
	if err := ws.store.AddRevision(ctx, &rev, filesOf(doc, dir), next.take); err != nil {
		if next.beside == "" { // the file was written, and the revision is lost
			err = errors.Join(err, ReplaceFile(path, before))
			ws.mu.Lock()
			ws.stamp = stampOf(path) // it is not read as somebody else's
			ws.mu.Unlock()
		}
		return Declaration{}, fmt.Errorf("the text cannot be kept: %w", err)
	}
	ws.says(doc, msgs, rev, dir, name, text, stampOf(path))
	ws.events.Send(events.Event{Type: events.Declared})
	return ws.Declaration(), nil
}

// Present is what the declaration says at a moment, for reading only.
type Present struct {
	Doc      *declaration.Document
	Messages []declaration.Message
	Reviewed []review.Message
	Revision store.Revision
	Text     string
	dir      string
	Name     string
}

// Present is what the declaration says now.
func (ws *Workspace) Present() Present {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return Present{ws.doc, ws.messages, ws.reviewed, ws.revision, ws.text, ws.dir, ws.name}
}

// File is where the declaration stands.
func (p Present) File() string { return filepath.Join(p.dir, p.Name) }

// Failed says whether the declaration has errors, so that nothing can be planned by it.
func (p Present) Failed() bool { return declaration.Failed(p.Messages) }

// Pick is a target of the declaration, or else its first; nil without any.
func (p Present) Pick(target string) *declaration.Target {
	if t := p.Doc.TargetNamed(target); t != nil {
		return t
	}
	if len(p.Doc.Targets) > 0 {
		return p.Doc.Targets[0]
	}
	return nil
}

// Current is the declaration with a target to sweep.
func (p Present) Current(target string) (*declaration.Document, *declaration.Target, error) {
	if p.Failed() {
		return nil, nil, fmt.Errorf("%w: mend it in the Declaration place first", fault.ErrInvalid)
	}
	t := p.Doc.TargetNamed(target)
	if t == nil {
		names := declaration.Names(p.Doc.Targets, func(t *declaration.Target) string { return t.Name })
		hint := declaration.HintAt(target, names, "declare one under `targets`")
		return nil, nil, fmt.Errorf("%w: there is no target %q; %s", fault.ErrNotFound, target, hint)
	}
	return p.Doc, t, nil
}
