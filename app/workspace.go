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
	"time"

	"millgate/core/declaration"
	"millgate/core/review"
	"millgate/store"
)

// DefaultFile is the declaration's name in a data directory that was not
// started with a file.
const DefaultFile = "declaration.gate.yaml"

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

// present is what the declaration says at a moment, for reading only.
type present struct {
	doc      *declaration.Document
	messages []declaration.Message
	reviewed []review.Message
	revision store.Revision
	text     string
	name     string
	running  *run // nil where no sweep runs
}

// present is what the declaration says now.
func (a *App) present() present {
	a.mu.Lock()
	defer a.mu.Unlock()
	return present{a.doc, a.messages, a.reviewed, a.revision, a.text, a.name, a.running}
}

// failed says whether the declaration has errors, so that nothing can be planned by it.
func (p present) failed() bool { return declaration.Failed(p.messages) }

// pick is a target of the declaration, or else its first; nil without any.
func (p present) pick(target string) *declaration.Target {
	if t := p.doc.TargetNamed(target); t != nil {
		return t
	}
	if len(p.doc.Targets) > 0 {
		return p.doc.Targets[0]
	}
	return nil
}

// current is the declaration with a target to sweep.
func (p present) current(target string) (*declaration.Document, *declaration.Target, error) {
	if p.failed() {
		return nil, nil, fmt.Errorf("%w: mend it in the Declaration place first", ErrInvalid)
	}
	t := p.doc.TargetNamed(target)
	if t == nil {
		names := make([]string, len(p.doc.Targets))
		for i, t := range p.doc.Targets {
			names[i] = t.Name
		}
		hint := "declare one under `targets`"
		if near := declaration.Nearest(target, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, nil, fmt.Errorf("%w: there is no target %q; %s", ErrNotFound, target, hint)
	}
	return p.doc, t, nil
}
