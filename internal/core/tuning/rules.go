package tuning

import "fmt"

// safety finds what loses mail that was taken.
func (l *look) safety() {
	if l.is("fsync", "off") {
		l.setting(
			Loses,
			"fsync",
			"on",
			"nothing is safely on the disk: a power cut loses messages that got "+
				"their 250, and can break the database itself",
			false,
		)
	}
	if l.is("full_page_writes", "off") {
		l.setting(
			Loses,
			"full_page_writes",
			"on",
			"a power cut in the middle of a page breaks that page, and "+
				"what is on it is lost; only a file system that writes pages whole may do without",
			false,
		)
	}
	if l.is("synchronous_commit", "off") {
		l.setting(
			Loses,
			"synchronous_commit",
			"on",
			"a message gets its 250 before it is on the disk: a crash "+
				"loses the last moments",
			false,
		)
	}
	if l.is("synchronous_commit", "local") && l.Settings["synchronous_standby_names"] != "" {
		l.setting(
			Loses,
			"synchronous_commit",
			"on",
			"standbys are named that every commit waits for, and no "+
				"commit waits for them: a promotion loses messages that got their 250",
			false,
		)
	}
	if l.is("default_transaction_read_only", "on") {
		l.setting(Stops, "default_transaction_read_only", "off", "every write is refused", false)
	}
}

// tooOld is how many transactions may pass before old rows must have been frozen: PostgreSQL
// stops at two thousand million.
const tooOld = 1_000_000_000

// heldLog is how much of the log an idle slot may hold.
const heldLog = 4 * GB

// room finds what fills up.
func (l *look) room() {
	if l.is("autovacuum", "off") {
		l.setting(
			Stops,
			"autovacuum",
			"on",
			"the queue's tables keep every row that ever waited, and the "+
				"database stops when transaction numbers run out",
			false,
		)
	} else if l.XidAge > tooOld {
		l.found = append(l.found, Advice{
			Severity: Stops,
			What:     "transaction numbers",
			Now:      fmt.Sprintf("%d since the oldest", l.XidAge),
			Why: "the database stops taking writes at about two thousand million; vacuuming " +
				"does not keep up, " +
				"or something open for long holds it back",
			Do: "look for old transactions in pg_stat_activity and for prepared ones, then VACUUM (FREEZE)",
		})
	}
	if need := l.Nodes*l.PerNode + spareConnections; l.below("max_connections", int64(need)) &&
		l.Nodes > 0 {
		l.setting(
			Stops,
			"max_connections",
			fmt.Sprint(need),
			fmt.Sprintf("%d of our nodes open up to %d "+
				"connections each, and you want some for yourself: under load some are "+
				"refused", l.Nodes, l.PerNode),
			true,
		)
	}
	// A search that goes through all of history locks each of its tables and indexes.
	locks := l.number("max_locks_per_transaction") * l.number("max_connections")
	if need := int64(l.Relations) * searchesAtOnce; locks > 0 && locks < need {
		per := 64
		for int64(per)*l.number("max_connections") < need {
			per *= 2
		}
		l.setting(
			Stops,
			"max_locks_per_transaction",
			fmt.Sprint(per),
			fmt.Sprintf("history has %d tables and "+
				"indexes, which a search through all of it locks: %d such searches at once run out of locks, and mail "+
				"with them", l.Relations, locks/int64(max(1, l.Relations))+1),
			true,
		)
	}
	for _, s := range l.IdleSlots {
		if s.Held > heldLog {
			l.found = append(l.found, Advice{Severity: Stops, What: "replication slot " + s.Name,
				Now: "holds " + Size(s.Held) + " of the log",
				Why: "nobody reads it, and what it holds grows until the disk is full",
				Do: fmt.Sprintf("start the standby that reads it, or, if there is none any more, "+
					"SELECT pg_drop_replication_slot(%s)", quoted(s.Name))})
		}
	}
	if l.ArchiveFailing != "" {
		l.found = append(l.found, Advice{
			Severity: Stops,
			What:     "archiving of the log",
			Now:      "fails at " + l.ArchiveFailing,
			Why:      "the log is kept until it is archived, and fills the disk; a backup made meanwhile is of no use",
			Do:       "try archive_command by hand; PostgreSQL's own log says what it answers",
		})
	}
}

const (
	spareConnections = 10 // for people, backups and PostgreSQL itself
	searchesAtOnce   = 8  // over all of history
)

// speed finds what makes it slower than the machine is.
func (l *look) speed() {
	if l.Memory > 0 {
		// A quarter of the memory, up to what a queue and a day of mail use.
		if want := min(
			l.Memory/4,
			8*GB,
		) / (64 * MB) * (64 * MB); want > 0 &&
			l.below("shared_buffers", want/2) {
			l.setting(
				Slow,
				"shared_buffers",
				Size(want),
				"the queue, the indexes of today and the mail of the last "+
					"minutes fit into memory: a quarter of it, at most 8GB",
				true,
			)
		}
		if want := l.Memory / 2 / (64 * MB) * (64 * MB); want > 0 &&
			l.below("effective_cache_size", want/2) {
			l.setting(
				Slow,
				"effective_cache_size",
				Size(want),
				"searches through indexes are taken for dearer "+
					"than they are: say how much the system keeps of files",
				false,
			)
		}
		if want := min(
			l.Memory/32,
			GB,
		) / (16 * MB) * (16 * MB); want >= 64*MB &&
			l.below("maintenance_work_mem", want/2) {
			l.setting(
				Slow,
				"maintenance_work_mem",
				Size(want),
				"the words of a day are indexed when it is over: "+
					"with more memory in fewer rounds",
				false,
			)
		}
	}
	forced := l.ForcedCheckpoints > 10 && l.ForcedCheckpoints > l.TimedCheckpoints
	if l.below("max_wal_size", 4*GB) {
		why := "a busy hour writes more than that between two checkpoints, and each page is written to the log in " +
			"full again after each"
		if forced {
			why = fmt.Sprintf(
				"%d of %d checkpoints came because the log was full: each page is written to it in full "+
					"again after each",
				l.ForcedCheckpoints,
				l.ForcedCheckpoints+l.TimedCheckpoints,
			)
		}
		l.setting(Slow, "max_wal_size", "4GB", why, false)
	} else if forced {
		l.setting(
			Slow,
			"max_wal_size",
			Size(2*l.number("max_wal_size")),
			fmt.Sprintf("%d of %d checkpoints came "+
				"because the log was "+
				"full", l.ForcedCheckpoints, l.ForcedCheckpoints+l.TimedCheckpoints),
			false,
		)
	}
	if l.below("checkpoint_timeout", 15*60_000) {
		l.setting(
			Slow,
			"checkpoint_timeout",
			"15min",
			"after each checkpoint pages are written to the log in full; "+
				"starting after a crash takes longer in return, seconds to a minute",
			false,
		)
	}
	if l.below("wal_buffers", 16*MB) {
		l.setting(
			Slow,
			"wal_buffers",
			"16MB",
			"messages of many connections wait for each other's log",
			true,
		)
	}
	if l.Written > 100_000 && l.WrittenByBackends > l.Written/2 &&
		l.below("bgwriter_lru_maxpages", 1000) {
		l.setting(
			Slow,
			"bgwriter_lru_maxpages",
			"1000",
			fmt.Sprintf("%d of %d pages were written by those who had to "+
				"wait for it", l.WrittenByBackends, l.Written),
			false,
		)
	}
	if l.below("autovacuum_naptime", 1) || l.number("autovacuum_naptime") > 60_000 {
		l.setting(
			Slow,
			"autovacuum_naptime",
			"1min",
			"the tables whose rows come and go with the mail are tidied too "+
				"seldom",
			false,
		)
	}
}
