package node

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/control"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Rescue lets somebody administer again when nobody can sign in any more, by the database alone:
// he is made or made administrator, switched on, without a second factor, with a new password.
func Rescue(ctx context.Context, url, name string) (password string, err error) {
	db, err := store.Open(ctx, url)
	if err != nil {
		return "", err
	}
	defer db.Close()
	o := &control.Operators{
		Accounts:      store.Accounts{DB: db},
		SecondFactors: store.SecondFactors{DB: db},
		Audit:         store.Audit{DB: db},
	}
	role, on, fresh := mail.Administrator, false, ""
	_, password, err = o.Change(ctx, name, control.PersonChange{Role: &role, Off: &on, Password: &fresh,
		NoSecond: true})
	if errors.Is(err, fault.ErrNotFound) {
		password, err = o.Add(ctx, "gull operator rescue", mail.Person{Name: name, Role: role}, "")
	}
	if err != nil {
		return "", err
	}
	return password, o.Audit.Add(ctx, &audit.Deed{At: time.Now(), Who: "gull operator rescue",
		Action: "operator-rescue", Target: name, Status: 200, Why: "by the database"})
}

// FirstLink makes the link by which the first administrator is made, by the database alone; "" where
// somebody administers.
func FirstLink(ctx context.Context, url string) (string, error) {
	db, err := store.Open(ctx, url)
	if err != nil {
		return "", err
	}
	defer db.Close()
	o := &control.Operators{Accounts: store.Accounts{DB: db}}
	return o.FirstLink(ctx)
}

// First makes the first administrator with a password of his own, by the database alone; made is
// false where somebody administers.
func First(ctx context.Context, url, name, password string) (made bool, err error) {
	db, err := store.Open(ctx, url)
	if err != nil {
		return false, err
	}
	defer db.Close()
	o := &control.Operators{Accounts: store.Accounts{DB: db}}
	link, err := o.FirstLink(ctx)
	if err != nil || link == "" {
		return false, err
	}
	return true, o.First(ctx, link, name, password)
}
