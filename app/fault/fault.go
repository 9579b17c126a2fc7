// Package fault has the errors of the use cases that callers branch on. What goes wrong wraps one of
// them, with what, where and what to do.
package fault

import (
	"errors"

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
