package workspace

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/store"
)

// RevisionInfo is one revision without its text.
type RevisionInfo struct {
	ID      uint
	At      time.Time
	Message string
}

// Revisions lists the newest revisions, those before one when that is not 0.
func (ws *Workspace) Revisions(ctx context.Context, before uint, limit int) ([]RevisionInfo, error) {
	list, err := ws.store.Revisions(ctx, before, limit)
	out := make([]RevisionInfo, len(list))
	for i, r := range list {
		out[i] = RevisionInfo{r.ID, r.At, r.Message}
	}
	return out, err
}

// RevisionText returns the text of a revision.
func (ws *Workspace) RevisionText(ctx context.Context, id uint) (string, error) {
	r, _, err := ws.store.RevisionByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return "", fmt.Errorf("%w: there is no revision %d", fault.ErrNotFound, id)
	}
	return r.Text, err
}

// AtRevision is what the declaration said at a revision, with the files beside it as they were then.
func (ws *Workspace) AtRevision(ctx context.Context, id uint) (p Present, err error) {
	r, files, err := ws.store.RevisionByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return p, fmt.Errorf("%w: there is no revision %d", fault.ErrNotFound, id)
	}
	if err != nil {
		return p, err
	}
	p = ws.ReadSource(Source{r.Name, r.Text, files})
	p.Revision = r
	return p, nil
}

// Source is a text of the declaration with the files beside it that it was made from.
type Source struct {
	Name  string            `json:"name"`
	Text  string            `json:"text"`
	Files map[string]string `json:"files,omitempty"`
}

// Equal says whether two say the same.
func (s Source) Equal(o Source) bool {
	return s.Name == o.Name && s.Text == o.Text && maps.Equal(s.Files, o.Files)
}

// SourceOf is the text of a revision with its files.
func (ws *Workspace) SourceOf(ctx context.Context, id uint) (Source, error) {
	r, files, err := ws.store.RevisionByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return Source{}, fmt.Errorf("%w: there is no revision %d", fault.ErrNotFound, id)
	}
	return Source{r.Name, r.Text, files}, err
}

// ReadSource is what a text declares, without keeping it.
func (ws *Workspace) ReadSource(s Source) Present {
	p := Present{Text: s.Text, Name: s.Name}
	p.Doc, p.Messages = declaration.ParseFiles(s.Name, []byte(s.Text), ws.keptFiles(s.Files))
	return p
}

// KeepSource keeps a text as a revision, unless it is the last one, and gives its number. The file of the workspace
// stays as it is.
func (ws *Workspace) KeepSource(ctx context.Context, s Source, message string) (uint, error) {
	ws.editing.Lock()
	defer ws.editing.Unlock()
	last, err := ws.store.LastRevision(ctx)
	if err == nil {
		var is Source
		if is, err = ws.SourceOf(ctx, last.ID); err == nil && is.Equal(s) {
			return last.ID, nil
		}
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	rev := store.Revision{At: time.Now(), Message: message, Name: s.Name, Text: s.Text}
	if err := ws.store.AddRevision(ctx, &rev, s.Files, nil); err != nil {
		return 0, fmt.Errorf("%w: %w", fault.ErrNotStored, err)
	}
	return rev.ID, nil
}

// Comparison is what lies between two revisions.
type Comparison struct {
	From, To string // texts
	access.Diff
	Failed bool // one of them has errors
}

// CompareRevisions says what changed from one revision to another.
func (ws *Workspace) CompareRevisions(ctx context.Context, from, to uint) (Comparison, error) {
	var docs [2]*declaration.Document
	var c Comparison
	for i, text := range []*string{&c.From, &c.To} {
		r, err := ws.AtRevision(ctx, []uint{from, to}[i])
		if err != nil {
			return c, err
		}
		docs[i], *text = r.Doc, r.Text
		c.Failed = c.Failed || r.Failed()
	}
	if !c.Failed {
		c.Diff = access.Compare(docs[0], docs[1])
	}
	return c, nil
}
