package store

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// tally is a number that the database tells.
func tally(t *testing.T, s *Store, sql string, args ...any) (n int) {
	t.Helper()
	if err := s.pool.QueryRow(ctx, sql, args...).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestARunThatIsOverMakesNoLeases(t *testing.T) {
	s, run := open(t)
	enterAll(t, s, run, entry("a@x.example", false, "a@saltmarsh.example"))
	s.deadAfter = 200 * time.Millisecond
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
		if _, err := s.ReleaseDead(ctx); err != nil {
			t.Fatal(err)
		}
		if tally(t, s, `SELECT count(*) FROM node WHERE id = $1 AND gone`, run) == 1 {
			break
		}
	}
	s.deadAfter = deadAfter
	if err := s.Enter(ctx, run,
		[]*Entry{entry("b@x.example", true, "b@saltmarsh.example")}); !errors.Is(err, ErrOver) {
		t.Errorf("entered with a lease: %v", err)
	}
	if _, err := s.LeaseDue(ctx, Lease{Node: run, Now: time.Now(), PerLane: 10, Total: 10}); !errors.Is(err,
		ErrOver) {
		t.Errorf("leased: %v", err)
	}
	if n := tally(t, s, `SELECT count(*) FROM delivery WHERE lease IS NOT NULL`); n != 0 {
		t.Errorf("%d are leased to nobody", n)
	}
	if p, err := s.Heartbeat(ctx, run, mail.NodeFacts{}); err != nil || !p.Over || p.Replaced {
		t.Errorf("%+v %v", p, err)
	}
	again, err := s.RegisterNode(ctx, "shore") // as a living service does that hears of it
	if err != nil || len(lease(t, s, again)) != 1 {
		t.Errorf("the next run takes nothing: %v", err)
	}
	if p, err := s.Heartbeat(ctx, run, mail.NodeFacts{}); err != nil || !p.Replaced {
		t.Errorf("two services under one name, and the first does not hear of it: %+v %v", p, err)
	}
	if _, err := s.pool.Exec(ctx, `DELETE FROM node WHERE id = $1`,
		again); err != nil { // a failover lost its row
		t.Fatal(err)
	}
	if p, err := s.Heartbeat(ctx, again, mail.NodeFacts{}); err != nil || !p.Over || p.Replaced {
		t.Errorf("a run whose row is gone: %+v %v", p, err)
	}
	if n, err := s.ReleaseLost(ctx); err != nil || n != 1 {
		t.Errorf("%d leases of a lost run were freed, %v", n, err)
	}
}

func TestALeaseUnderWayDoesNotOutliveItsRun(t *testing.T) {
	s, run := open(t)
	enterAll(t, s, run, entry("a@x.example", false, "a@saltmarsh.example"))
	tx, err := s.pool.Begin(ctx) // of a process that was stopped in the middle
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, s.alive(run)); err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, `UPDATE delivery SET lease = $1`, run); err != nil {
		t.Fatal(err)
	}
	if _, err := s.pool.Exec(ctx, `UPDATE node SET gone = true WHERE id = $1`, run); err != nil {
		t.Fatal(err)
	}
	for range 50 {
		if _, err := s.ReleaseDead(ctx); err != nil {
			t.Fatal(err)
		}
		if tally(t, s, `SELECT count(*) FROM node WHERE id = $1 AND released`, run) == 1 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := tx.Commit(ctx); err == nil {
		t.Error("a lease was committed for a run that is over")
	}
	next, _ := s.RegisterNode(ctx, "reef")
	if len(lease(t, s, next)) != 1 {
		t.Error("what was being leased is stranded")
	}
}

func TestWhatIsWithdrawnIsNotDeliveredWhenItComesToLight(t *testing.T) {
	s, run := open(t)
	e := entry("a@x.example", false, "a@saltmarsh.example")
	if err := s.nameLanes(ctx, []*Entry{e}); err != nil {
		t.Fatal(err)
	}
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		t.Fatal(err)
	}
	tx, err := conn.Begin(ctx) // a commit that waits for a standby looks like this from outside
	if err != nil {
		t.Fatal(err)
	}
	if err := copyIn(ctx, conn.Conn().PgConn(), "", entryTables(run, []*Entry{e})); err != nil {
		t.Fatal(err)
	}
	u := &Unclear{pid: conn.Conn().PgConn().PID()}
	fate := func(want Fate) {
		t.Helper()
		if got, err := s.FateOf(ctx, u, e.Message.ID); err != nil || got != want {
			t.Errorf("its fate is %d, %v; want %d", got, err, want)
		}
	}
	fate(FateOpen)
	if err := s.Withdraw(ctx, []ident.ID{e.Message.ID}); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	conn.Release()
	fate(FateEntered)
	if due := lease(t, s, run); len(due) != 0 {
		t.Error("a message is delivered whose client was told no")
	}
	if n, err := s.DropWithdrawn(ctx, time.Now()); err != nil || n != 1 {
		t.Errorf("%d were deleted, %v", n, err)
	}
	if n := tally(
		t,
		s,
		`SELECT (SELECT count(*) FROM message) + (SELECT count(*) FROM delivery) + (SELECT count(*) FROM content)`,
	); n != 0 {
		t.Errorf("%d rows of it are left", n)
	}
	fate(FateNot)
}

func TestAMessageIsEnteredWithAllOfItsContent(t *testing.T) {
	s, run := open(t)
	e := entry("a@x.example", true, "a@saltmarsh.example")
	content := bytes.Repeat([]byte("x"), PieceSize+100)
	e.Content, e.Message.Size = nil, int64(len(content))
	if err := s.StoreContent(ctx, e.Message.ID, bytes.NewReader(content)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.pool.Exec(ctx,
		`DELETE FROM content WHERE seq = 1`); err != nil { // another host was promoted in between
		t.Fatal(err)
	}
	if err := s.Enter(ctx, run, []*Entry{e}); !errors.Is(err, ErrIncomplete) {
		t.Errorf("entered without all of its content: %v", err)
	}
	if n := tally(t, s, `SELECT (SELECT count(*) FROM message) + (SELECT count(*) FROM delivery)`); n != 0 {
		t.Errorf("%d rows of it are there", n)
	}
}

func TestAnOutcomeOfAnotherRunIsLeftAlone(t *testing.T) {
	s, run := open(t)
	enterAll(t, s, run, entry("ines@skerryline.example", false, "a@saltmarsh.example"))
	ours := lease(t, s, run)
	if err := s.ReleaseNode(ctx, run); err != nil {
		t.Fatal(err)
	}
	next, _ := s.RegisterNode(ctx, "reef")
	theirs := lease(t, s, next)
	late := outcome(ours[0], "deferred")
	notice := entry("", false, "ines@skerryline.example")
	late.Generated = []*Entry{notice}
	foreign, err := s.Finish(ctx, next, []*Outcome{late})
	if err != nil || len(foreign) != 1 {
		t.Errorf("%d messages are not there, %v", len(foreign), err)
	}
	if n := tally(t, s, `SELECT count(*) FROM delivery WHERE lease = $1`, next); n != 1 {
		t.Error("the outcome of a run that is over took the lease of another")
	}
	end := outcome(theirs[0], "bounced")
	end.Generated = []*Entry{entry("", false, "ines@skerryline.example")}
	for range 2 { // the second time as after a lost answer
		if foreign, err = s.Finish(ctx, next, []*Outcome{end}); err != nil || len(foreign) != 0 {
			t.Errorf("%d of its own messages are said to be another's, %v", len(foreign), err)
		}
	}
	if n := tally(t, s, `SELECT count(*) FROM message`); n != 2 {
		t.Errorf("there are %d messages, want the original and one notice", n)
	}
}

func TestSeveralHostsMustSayWhichTakesWrites(t *testing.T) {
	s, _ := open(t)
	url := s.pool.Config().ConnString()
	at := hostPort(s.pool.Config().ConnConfig.Host, s.pool.Config().ConnConfig.Port)
	several := strings.Replace(url, at, "127.0.0.1:1,"+at, 1)
	if _, err := Open(ctx, several); err == nil || !strings.Contains(err.Error(),
		"target_session_attrs=read-write") {
		t.Errorf("several hosts without it: %v", err)
	}
	more := "?"
	if strings.Contains(several, "?") {
		more = "&"
	}
	two, err := Open(ctx, several+more+"target_session_attrs=read-write")
	if err != nil {
		t.Fatal(err)
	}
	defer two.Close()
	known := two.hosts.known
	if known.System == 0 || known.Timeline < 1 || two.hosts.good != at {
		t.Errorf("%+v at %s", known, two.hosts.good)
	}
	if err := two.Ping(ctx); err != nil {
		t.Fatal(err)
	}
	two.hosts.known.Timeline++ // another was promoted; a connection to this one waits in the pool
	if err := two.Ping(ctx); !errors.Is(err, ErrFormer) && !strings.Contains(err.Error(), ErrFormer.Error()) {
		t.Errorf("a former primary is used: %v", err)
	}
	if got := two.Former(); len(got) != 1 || got[0] != at {
		t.Errorf("former primaries: %v", got)
	}
	two.hosts.known = Generation{System: 1, Timeline: 1}
	two.Renew()
	if err := two.Ping(ctx); err == nil || !strings.Contains(err.Error(), ErrOtherCluster.Error()) {
		t.Errorf("another cluster is used: %v", err)
	}
}
