package app

import (
	"fmt"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
)

// Change is one crossing whose expectation differs between two texts.
type Change struct {
	Route, Caller, From, To string
	Opens                   bool
}

// Effect is what a pending text would do.
type Effect struct {
	Messages      []declaration.Message
	Changes       []Change
	Opens, Closes int
	Other         int // changed, neither opened nor closed
	Added, Gone   int // routes
}

// Check parses a text without keeping it and says what it would change.
func (a *App) Check(text string) Effect {
	a.mu.Lock()
	old := a.doc
	doc, msgs := a.parse(text)
	a.mu.Unlock()
	e := Effect{Messages: msgs}
	if declaration.Failed(msgs) {
		return e
	}
	e.compare(old, doc)
	return e
}

func (e *Effect) compare(old, doc *declaration.Document) {
	ob, nb := access.NewBoard(old), access.NewBoard(doc)
	oldRow, oldCol := map[string]int{}, map[string]int{"": 0}
	for i, r := range old.Routes {
		oldRow[r.Key()] = i
	}
	for c, id := range old.Identities {
		oldCol[id.Name] = c + 1
	}
	cols := []string{""}
	for _, id := range doc.Identities {
		cols = append(cols, id.Name)
	}
	word := func(c access.Cell) string {
		if c.Depends() {
			return "admit for an own record"
		}
		return c.Outcome().String()
	}
	for i, r := range doc.Routes {
		k, there := oldRow[r.Key()]
		if !there {
			e.Added++
		}
		for c, name := range cols {
			to := nb.At(i, c)
			from := access.Cell(access.Closed)
			oc, known := oldCol[name]
			if there && known {
				from = ob.At(k, oc)
			}
			if from == to || (!there || !known) && to.Outcome() != access.Admit {
				continue
			}
			ch := Change{Route: r.Key(), Caller: name, From: word(from), To: word(to)}
			wasOpen, isOpen := from.Outcome() == access.Admit, to.Outcome() == access.Admit
			switch {
			case isOpen && (!wasOpen || from.Depends() && !to.Depends()):
				ch.Opens = true
				e.Opens++
			case wasOpen:
				e.Closes++
			default:
				e.Other++
			}
			e.Changes = append(e.Changes, ch)
		}
	}
	newRow := map[string]bool{}
	for _, r := range doc.Routes {
		newRow[r.Key()] = true
	}
	for k := range oldRow {
		if !newRow[k] {
			e.Gone++
		}
	}
}

// PutTarget writes a target into the text and keeps it.
func (a *App) PutTarget(t declaration.Target) (Declaration, error) {
	cur := a.Declaration()
	if strings.TrimSpace(cur.Text) == "" {
		cur.Text = "millgate: 1\ntitle: My service\n"
	}
	text, err := declaration.PutTarget(cur.Text, t)
	if err != nil {
		return cur, fmt.Errorf("%w: %w", ErrInput, err)
	}
	doc, msgs := a.parse(text)
	for _, m := range msgs {
		if n := doc.TargetNamed(t.Name); m.Level == declaration.Error && n != nil && m.Line >= n.Line && m.Line <= n.Line+8 {
			return cur, fmt.Errorf("%w: %s; %s", ErrInput, m.Text, m.Hint)
		}
	}
	return a.Keep(text, "Set target "+t.Name, cur.Revision)
}
