package node

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"time"

	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/queue"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Bounds of the upkeep of the queue's tables.
const (
	gatherEvery = time.Second
	// sweepAfter is how many deliveries must have left before the queue's table
	// is swept, and sweepShare which part of what waits.
	sweepAfter = 5000
	sweepShare = 5
	flowKept   = 2 * time.Hour
	// failuresKept is how long minutes with failed attempts are kept.
	failuresKept = 24 * time.Hour
	// countEvery is how often what happened is counted.
	countEvery = time.Second
	// hostsEvery is how often the database's hosts are asked who takes writes.
	hostsEvery = 5 * time.Second
	// proofsKept is how long it is known where an account signed in.
	proofsKept = 90 * 24 * time.Hour
)

// upkeep keeps the database in order. Each of its rounds is run by one loop.
type upkeep struct {
	db       *store.DB
	queue    *queue.Queue
	counters *counters.Counters
	inForce  *inforce.State
	reader   *store.Reader             // nil without a standby to read from
	changed  func(mailboxes ...string) // tells who has them open
	log      *slog.Logger

	standby       string // what is wrong with the standby to read from, at the last look
	swept, rounds int64  // of sweep
	former        string // primaries of the database that still take writes, at the last look
}

// takeUp frees what earlier runs of this node held: the queue moves meanwhile.
func (u *upkeep) takeUp(ctx context.Context) error {
	n, err := store.Runs{DB: u.db}.ReleaseDead(ctx)
	if err == nil && n > 0 {
		u.log.Info("took up what an earlier run left", "deliveries", n)
		u.queue.Wake()
	}
	return err
}

// sweep keeps the queue's tables small.
func (u *upkeep) sweep(ctx context.Context) error {
	u.rounds++
	gone, queueToo := u.queue.Left(), false
	if left := gone - u.swept; left > sweepAfter && left > u.queue.Waiting()/sweepShare {
		u.swept, queueToo = gone, true
	}
	if u.rounds%10 != 0 && !queueToo {
		return nil
	}
	return store.Queue{DB: u.db}.Sweep(ctx, queueToo)
}

// leaveLanes lets memory forget lanes whose hosts were in trouble and in which no mail
// is left.
func (u *upkeep) leaveLanes(ctx context.Context) error {
	ids := u.queue.InTrouble()
	if len(ids) == 0 {
		return nil
	}
	empty, err := store.Lanes{DB: u.db}.Empty(ctx, ids)
	if err == nil {
		u.queue.Leave(empty)
	}
	return err
}

// storeFlow writes how much each lane moved.
func (u *upkeep) storeFlow(ctx context.Context) error {
	flow := u.queue.TakeFlow()
	if len(flow) == 0 {
		return nil
	}
	if err := (store.Lanes{DB: u.db}).AddFlow(ctx, flow); err != nil {
		u.queue.GiveFlow(flow)
		return err
	}
	return nil
}

// length tells the queue how much waits.
func (u *upkeep) length(ctx context.Context) error {
	n, err := store.Queue{DB: u.db}.QueueLength(ctx)
	if err == nil {
		u.queue.SetWaiting(n)
	}
	return err
}

func (u *upkeep) forgetFlow(ctx context.Context, now time.Time) error {
	return store.Lanes{DB: u.db}.ForgetFlow(ctx, now.Add(-flowKept),
		now.Add(-failuresKept))
}

// count lets what happened be counted, behind the mail.
func (u *upkeep) count(ctx context.Context) error {
	_, err := store.Counts{DB: u.db}.Count(ctx)
	if errors.Is(err, store.ErrData) {
		u.counters.Refuse("counts")
	}
	return err
}

// forget drops what is past its time.
func (u *upkeep) forget(ctx context.Context, now time.Time) error {
	keep := u.inForce.Config().Service
	old := now.Add(-keep.Retention)
	return errors.Join(
		u.db.KeepPartitions(ctx, now,
			store.Retention{Messages: keep.Retention, Transcripts: keep.TranscriptsKept}),
		store.Snags{DB: u.db}.ForgetSnags(ctx, old),
		store.TLSPolicies{DB: u.db}.DropPolicies(ctx, old),
		store.Certificates{DB: u.db}.Forget(ctx, old),
		store.Feedback{DB: u.db}.ForgetFeedback(ctx, now.Add(-keep.Feedback.Kept)),
		store.Counts{DB: u.db}.ForgetCounts(ctx, old, now.Add(-keep.CountsKept)),
		store.Limits{DB: u.db}.ForgetSent(ctx, now),
		store.Audit{DB: u.db}.Forget(ctx, now.Add(-keep.AuditKept)),
		store.Filed{DB: u.db}.ForgetGone(ctx, now),
		store.Machines{DB: u.db}.ForgetRooms(ctx),
		store.Lanes{DB: u.db}.ForgetLanes(ctx, old),
		store.Reputation{DB: u.db}.ForgetCame(ctx, now.Add(-keep.Reputation.GreylistWait),
			now.Add(-keep.Reputation.GreylistKeep)),
		store.Reputation{DB: u.db}.ForgetStandings(ctx),
		store.Held{DB: u.db}.ForgetDigests(ctx, now.Add(-14*24*time.Hour)),
		store.SignIns{DB: u.db}.ForgetProofs(ctx, now.Add(-proofsKept)),
	)
}

// lookAtStandby finds out whether searches and reports may be read from the standby, and
// says so when that changes.
func (u *upkeep) lookAtStandby(ctx context.Context) error {
	if u.reader == nil {
		return nil
	}
	wrong := ""
	if err := u.reader.Look(ctx); err != nil {
		wrong = err.Error()
	}
	switch {
	case wrong != "" && u.standby == "":
		u.log.Warn(
			"searches and reports are read from the primary: the standby can't be used",
			"error",
			wrong,
		)
	case wrong == "" && u.standby != "":
		u.log.Info("searches and reports are read from the standby again")
	}
	u.standby = wrong
	return nil
}

// watchHosts follows a promotion, and says which former primary still takes writes.
func (u *upkeep) watchHosts(ctx context.Context) error {
	moved, err := u.db.WatchHosts(ctx)
	if moved {
		u.log.Warn("another host of the database was promoted; all connections go there")
	}
	former := strings.Join(u.db.Former(), ", ")
	if former != "" && former != u.former {
		u.log.Error(
			"a former primary still takes writes; nothing of ours goes there, and what others "+
				"write there is lost: "+
				"stop it",
			"hosts",
			former,
		)
	}
	u.former = former
	return err
}

// Bounds of removing what people removed.
const (
	looseAtOnce = 500
	trashAtOnce = 1000
)

// dropLoose drops content that no mailbox refers to any more.
func (u *upkeep) dropLoose(ctx context.Context, now time.Time) error {
	for {
		n, err := store.Filed{DB: u.db}.DropLoose(ctx, now, looseAtOnce)
		if err != nil || n < looseAtOnce {
			return err
		}
	}
}

// emptyTrash removes what lay in trash folders long enough, and mailboxes that were removed
// long ago.
func (u *upkeep) emptyTrash(ctx context.Context, now time.Time) error {
	filed, service := store.Filed{DB: u.db}, u.inForce.Config().Service
	for {
		boxes, err := filed.EmptyTrash(ctx, now.Add(-service.TrashKept), trashAtOnce)
		if err != nil {
			return err
		}
		if len(boxes) == 0 {
			break
		}
		u.changed(boxes...)
	}
	for {
		box, err := filed.PurgeSetAside(ctx, now.Add(-service.MailboxesKept))
		if err != nil || box == "" {
			return err
		}
		u.log.Info("the mail of a mailbox that was removed is gone now", "mailbox", box)
	}
}
