package sweep

import (
	"fmt"
	"sync"
	"time"

	"millgate/store"
)

// Rule: What is unsafe is on disk before it is sent.

// How late what came of a safe probe is written at most.
const (
	journalRows = 500
	journalLate = 250 * time.Millisecond
)

// journal writes what came of a sweep's probes, in batches: a process that is killed loses
// the last of them, which are safe and are sent again. What is unsafe is not held back.
type journal struct {
	write func([]store.Probe) error

	writing sync.Mutex // one batch after the other: a later fact of a probe replaces its earlier one
	mu      sync.Mutex
	rows    []store.Probe
	usual   int   // rows of the batch before
	err     error // of a batch that could not be written
	due     *time.Timer
}

// add takes a row; at once has it on disk when add returns. The error may be that of rows
// before.
func (j *journal) add(row store.Probe, atOnce bool) error {
	j.mu.Lock()
	if j.rows == nil {
		j.rows = make([]store.Probe, 0, j.usual)
	}
	j.rows = append(j.rows, row)
	if j.due == nil {
		j.due = time.AfterFunc(journalLate, func() { _ = j.flush() }) // it stays for whoever comes next
	}
	full, err := len(j.rows) >= journalRows, j.err
	j.mu.Unlock()
	if err == nil && (atOnce || full) {
		err = j.flush()
	}
	return err
}

// flush writes what was held back. An error stays: what could not be written is lost.
func (j *journal) flush() error {
	j.writing.Lock()
	defer j.writing.Unlock()
	j.mu.Lock()
	rows, err := j.rows, j.err
	j.rows, j.usual = nil, len(rows)
	if j.due != nil {
		j.due.Stop()
		j.due = nil
	}
	j.mu.Unlock()
	if err != nil || len(rows) == 0 {
		return err
	}
	if err := j.write(rows); err != nil {
		err = fmt.Errorf("%w: %v", errJournal, err)
		j.mu.Lock()
		j.err = err
		j.mu.Unlock()
		return err
	}
	return nil
}
