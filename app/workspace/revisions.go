package workspace

import (
	"context"
	"errors"
	"fmt"
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
	for i, id := range []uint{from, to} {
		r, files, err := ws.store.RevisionByID(ctx, id)
		if err != nil {
			return c, fmt.Errorf("%w: there is no revision %d", fault.ErrNotFound, id)
		}
		var msgs []declaration.Message
		docs[i], msgs = declaration.ParseFiles(r.Name, []byte(r.Text), ws.keptFiles(files))
		c.Failed = c.Failed || declaration.Failed(msgs)
		if i == 0 {
			c.From = r.Text
		} else {
			c.To = r.Text
		}
	}
	if !c.Failed {
		c.Diff = access.Compare(docs[0], docs[1])
	}
	return c, nil
}
