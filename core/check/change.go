package check

import (
	"reflect"

	"millgate/core/pointer"
)

// Change is what became of a record that was read before and after something.
type Change string

// The changes.
const (
	NotRead   Change = "" // it could not be read, or was not there to begin with
	Unchanged Change = "unchanged"
	Altered   Change = "changed"
	Gone      Change = "gone"
)

// RecordIn is what an answer shows of a record: its JSON or its text, nil for one that is
// not there. ok is false for an answer that says nothing about it.
func RecordIn(a Answer) (record any, ok bool) {
	// A guard that looks for the owner first answers 403 for what is gone.
	if a.Status == 403 || a.Status == 404 || a.Status == 410 {
		return nil, true
	}
	if a.Status != 200 {
		return nil, false
	}
	if v := a.JSON(); v != nil {
		return v, true
	}
	return string(a.Body), true
}

// Compare says what became of a record. What differs between the first two readings
// changes by itself, and counts for nothing.
func Compare(first, second, after any) Change {
	switch {
	case second == nil && after == nil:
		return NotRead
	case after == nil:
		return Gone
	}
	byItself, diff := map[pointer.JSON]bool{}, map[pointer.JSON]bool{}
	differences(first, second, "", byItself)
	differences(second, after, "", diff)
	for p := range diff {
		if !byItself[p] {
			return Altered
		}
	}
	return Unchanged
}

// differences collects the pointers at which two JSON values differ.
func differences(a, b any, at pointer.JSON, out map[pointer.JSON]bool) {
	x, ok1 := a.(map[string]any)
	y, ok2 := b.(map[string]any)
	if !ok1 || !ok2 {
		if !reflect.DeepEqual(a, b) {
			out[at] = true
		}
		return
	}
	for k := range x {
		differences(x[k], y[k], at.Member(k), out)
	}
	for k := range y {
		if _, ok := x[k]; !ok {
			out[at.Member(k)] = true
		}
	}
}
