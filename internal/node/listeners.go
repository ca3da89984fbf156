package node

import (
	"errors"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
)

// listeners are all listeners of a node: those that take mail and those by which it is read.
type listeners struct{ *Engine }

// Apply opens what can be opened and returns an error for the rest.
func (l listeners) Apply(c *config.Compiled) error {
	return errors.Join(l.Receive.Apply(c), l.Access.Apply(c))
}

// SetPauses puts in force which listeners are stopped, or the node as a whole.
func (l listeners) SetPauses(names map[string]bool, node bool) {
	l.Receive.SetPauses(names, node)
	l.Access.SetPauses(names, node)
}

// SetStopped puts in force which accounts send nothing; they read on.
func (l listeners) SetStopped(
	accounts map[string]address.Address,
) {
	l.Receive.SetStopped(accounts)
}
