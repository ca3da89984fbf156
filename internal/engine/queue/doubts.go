package queue

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// doubtStore takes back what a commit may have left behind.
type doubtStore interface {
	Withdraw(ctx context.Context, ids []ident.ID) error
	DropWithdrawn(ctx context.Context, now time.Time) (int, error)
}

// doubts are messages of which it is not known whether they are in the database. Those
// whose clients were told no are withdrawn, whatever comes between.
type doubts struct {
	*base
	asked       chan struct{} // something is to be withdrawn
	withdrawing sync.Mutex    // held while something is

	mu      sync.Mutex
	unclear []unclear // that is to be withdrawn
	// open are messages of which it is being found out whether they were entered; true if
	// they came back from the database meanwhile.
	open map[ident.ID]bool
}

func newDoubts(b *base) *doubts {
	return &doubts{base: b, asked: make(chan struct{}, 1), open: map[ident.ID]bool{}}
}

// unclear are messages whose clients were told no, and of which it is not known whether
// they are in the database.
type unclear struct {
	ids []ident.ID
	err *store.Unclear
}

// any reports that something is still to be withdrawn: until then nothing is leased,
// or it could be among it.
func (d *doubts) any() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.unclear) > 0
}

// returned takes note that a message came back from the database: so it was entered. It
// reports whether the message is to be withdrawn all the same.
func (d *doubts) returned(id ident.ID) (withdrawn bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if slices.ContainsFunc(d.unclear, func(u unclear) bool { return slices.Contains(u.ids, id) }) {
		return true
	}
	if _, doubt := d.open[id]; doubt {
		d.open[id] = true
	}
	return false
}

// begin notes messages of which it is being found out whether they were entered.
func (d *doubts) begin(ids []ident.ID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range ids {
		d.open[id] = false
	}
}

// end forgets them.
func (d *doubts) end(ids []ident.ID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range ids {
		delete(d.open, id)
	}
}

// ask lets what is unclear be withdrawn as soon as the database answers.
func (d *doubts) ask() {
	select {
	case d.asked <- struct{}{}:
	default:
	}
}

// decide ends the doubt about messages: false if one of them came back from the database,
// so that they were entered; else they are to be withdrawn.
func (d *doubts) decide(u unclear) (withdrawn bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range u.ids {
		if d.open[id] {
			return false
		}
	}
	d.unclear = append(d.unclear, u)
	return true
}

// withdraw takes back what a failed commit may have left behind. Until it has succeeded,
// it is tried again.
func (d *doubts) withdraw(ctx context.Context, u unclear) error {
	asking, cancel := context.WithTimeout(ctx, withdrawLimit)
	defer cancel()
	if err := d.Store.Withdraw(asking, u.ids); err != nil {
		return fmt.Errorf("%d messages that were not taken cannot be withdrawn yet: %w", len(u.ids),
			err)
	}
	d.Log.Info("messages were withdrawn whose clients were told no", "messages", len(u.ids))
	if u.err != nil {
		u.err.Cancel(asking)
	}
	return nil
}

// withdrawLater withdraws what could not be withdrawn immediately, as soon as the database
// takes it.
func (d *doubts) withdrawLater(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-d.asked:
		}
		for said := false; ; said = true {
			err := d.withdrawAll(ctx)
			if err == nil {
				break
			}
			if !said {
				d.Log.Warn("trying again", "error", err)
			}
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(withdrawAgain):
			}
		}
	}
}

const withdrawAgain = 300 * time.Millisecond

// withdrawAll withdraws what could not be withdrawn before.
func (d *doubts) withdrawAll(ctx context.Context) error {
	d.withdrawing.Lock()
	defer d.withdrawing.Unlock()
	for {
		d.mu.Lock()
		if len(d.unclear) == 0 {
			d.mu.Unlock()
			return nil
		}
		u := d.unclear[0]
		d.mu.Unlock()
		if err := d.withdraw(ctx, u); err != nil {
			return err
		}
		d.mu.Lock()
		if d.unclear = d.unclear[1:]; len(d.unclear) == 0 {
			d.strike()
		}
		d.mu.Unlock()
		d.Wake()
	}
}
