// Package fault holds the errors that a person can do something about, so that whoever
// shows one can tell it from trouble of our own. It imports nothing of ours.
package fault

import (
	"errors"
	"fmt"
)

// The errors that more than one room reports.
var (
	// ErrNotFound reports that what was asked for does not exist.
	ErrNotFound = errors.New("not found")
	// ErrExists reports an address or name that somebody has already.
	ErrExists = errors.New("it exists already")
	// ErrInput reports what a person gave that cannot be used; the text names the field.
	ErrInput = errors.New("this cannot be used")
	// ErrStopping reports that the service is going down.
	ErrStopping = errors.New("the service is stopping")
)

// Input makes an ErrInput with a text that begins with the field's name.
func Input(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrInput, fmt.Errorf(format, args...))
}

// Refused is a request that cannot be carried out as it stands.
type Refused struct{ Field, Text string }

// Error is the text.
func (e *Refused) Error() string { return e.Text }

// Refuse makes a Refused.
func Refuse(field, format string, args ...any) error {
	return &Refused{field, fmt.Sprintf(format, args...)}
}
