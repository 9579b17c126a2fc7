package server

import (
	"fmt"
	"strconv"

	"millgate/app/fault"
)

// usual is how long a page is that nobody says more of, longest the most that it can be.
const (
	usual   = 200
	longest = 1000
)

// limitOfPage is how long a page may be.
func limitOfPage(limit *int) int {
	if limit == nil {
		return usual
	}
	return min(max(*limit, 1), longest)
}

// numberAfter reads a cursor that is a number.
func numberAfter(after *string) (int, error) {
	if after == nil || *after == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(*after)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%w: %q is no `next` of a page", fault.ErrInput, *after)
	}
	return n, nil
}

// pageAfter is the part of a list that follows a cursor, no longer than a limit, with the next.
func pageAfter[T any](list []T, after *string, limit int) (part []T, next *string, err error) {
	from, err := numberAfter(after)
	if err != nil {
		return nil, nil, err
	}
	from = min(from, len(list))
	to := min(from+limit, len(list))
	if to < len(list) {
		next = optional(strconv.Itoa(to))
	}
	return list[from:to], next, nil
}

// newestFirst is a page of what has numbers, from a list that reads those before one.
func newestFirst[T any](after *string, limit *int, list func(before uint, limit int) ([]T, error),
	number func(T) uint) (part []T, next *string, err error) {
	before, err := numberAfter(after)
	if err != nil {
		return nil, nil, err
	}
	most := limitOfPage(limit)
	if part, err = list(uint(before), most); err == nil && len(part) == most { //nolint:gosec // it is not negative
		next = optional(strconv.Itoa(int(number(part[most-1])))) //nolint:gosec // of a row
	}
	return part, next, err
}
