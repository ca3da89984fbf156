package control

import (
	"context"
	"errors"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/signin"
	"gullroute/internal/store"
)

// AppPasswords are the passwords of a mailbox for one program each.
func (s *Directory) AppPasswords(
	ctx context.Context,
	box *directory.Mailbox,
) ([]mail.AppPassword, error) {
	return store.AppPasswords{DB: s.Store.DB}.AppPasswords(ctx, box.Address.Key())
}

// AddAppPassword makes one, which is shown this once. The error is fault.ErrExists if the name
// is taken.
func (s *Directory) AddAppPassword(
	ctx context.Context,
	who string,
	box *directory.Mailbox,
	name string,
) (string,
	error) {
	password := signin.NewAppPassword()
	err := store.AppPasswords{DB: s.Store.DB}.AddAppPassword(ctx, box.Address.Key(), name, who,
		signin.AppHash(password))
	if errors.Is(err, store.ErrNamed) {
		err = fault.ErrExists
	}
	return password, err
}

// RevokeAppPassword takes one away: its sessions end at once, on every node.
func (s *Directory) RevokeAppPassword(
	ctx context.Context,
	box *directory.Mailbox,
	name string,
) error {
	return store.AppPasswords{DB: s.Store.DB}.RevokeAppPassword(ctx, box.Address.Key(), name)
}
