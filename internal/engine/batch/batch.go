// Package batch lets one bad item of a group fail alone. Writers write many items in
// one transaction; when the database refuses the data (store.ErrData), the same again
// would be refused again, and so would be all that stands beside it.
package batch

import (
	"errors"

	"gullroute/internal/store"
)

// Write writes items together, and where their data is refused, in halves, down to
// the single item that is to blame, which goes to culprit. An error that is not of
// the data ends it; then left are the items that were not written, in order.
func Write[T any](items []T, write func([]T) error, culprit func(T, error)) (left []T, err error) {
	if len(items) == 0 {
		return nil, nil
	}
	err = write(items)
	switch {
	case err == nil:
		return nil, nil
	case !errors.Is(err, store.ErrData):
		return items, err
	case len(items) == 1:
		culprit(items[0], err)
		return nil, nil
	}
	half := len(items) / 2
	if left, err = Write(items[:half], write, culprit); err != nil {
		return items[half-len(left):], err
	}
	return Write(items[half:], write, culprit)
}
