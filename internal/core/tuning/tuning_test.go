package tuning

import (
	"strings"
	"testing"
)

func settings(changed ...string) map[string]string {
	m := map[string]string{
		"fsync": "on", "full_page_writes": "on", "synchronous_commit": "on", "synchronous_standby_names": "",
		"default_transaction_read_only": "off", "autovacuum": "on", "max_connections": "100",
		"max_locks_per_transaction": "64", "shared_buffers": "4294967296", "effective_cache_size": "8589934592",
		"maintenance_work_mem": "536870912", "max_wal_size": "8589934592", "checkpoint_timeout": "900000",
		"wal_buffers": "16777216", "bgwriter_lru_maxpages": "100", "autovacuum_naptime": "60000",
	}
	for i := 0; i < len(changed); i += 2 {
		m[changed[i]] = changed[i+1]
	}
	return m
}

func facts(changed ...string) Facts {
	return Facts{Settings: settings(changed...), Memory: 16 * GB, Nodes: 2, PerNode: 16, Relations: 700}
}

func TestAServerSetUpForMailHasNoFindings(t *testing.T) {
	if found := Look(facts()); len(found) != 0 {
		t.Errorf("%+v", found)
	}
	// What is not known is not judged.
	if found := Look(Facts{}); len(found) != 0 {
		t.Errorf("%+v", found)
	}
}

func TestFindingsSayWhatToSet(t *testing.T) {
	with := func(f Facts, change func(*Facts)) Facts { change(&f); return f }
	for _, c := range []struct {
		name     string
		facts    Facts
		severity Severity
		do       string
	}{
		{"fsync", facts("fsync", "off"), Loses, "ALTER SYSTEM SET fsync = 'on'"},
		{"full_page_writes", facts("full_page_writes", "off"), Loses, "= 'on'"},
		{"synchronous_commit", facts("synchronous_commit", "off"), Loses, "= 'on'"},
		{"synchronous_commit", facts("synchronous_commit", "local", "synchronous_standby_names", "*"), Loses, "= 'on'"},
		{"autovacuum", facts("autovacuum", "off"), Stops, "= 'on'"},
		{"max_connections", facts("max_connections", "40", "max_locks_per_transaction", "1024"), Stops, "= '42'"},
		{"max_locks_per_transaction", with(facts(), func(f *Facts) { f.Relations = 8700 }), Stops, "= '1024'"},
		{"transaction numbers", with(facts(), func(f *Facts) { f.XidAge = 1_500_000_000 }), Stops, "VACUUM"},
		{"replication slot old's", with(facts(), func(f *Facts) {
			f.IdleSlots = []Slot{{"old's", 5 * GB}, {"new", GB}}
		}), Stops, "pg_drop_replication_slot('old''s')"},
		{"archiving of the log", with(facts(), func(f *Facts) { f.ArchiveFailing = "00A" }), Stops, "archive_command"},
		{"shared_buffers", facts("shared_buffers", "134217728"), Slow, "= '4GB'"},
		{"effective_cache_size", facts("effective_cache_size", "1073741824"), Slow, "= '8GB'"},
		{"maintenance_work_mem", facts("maintenance_work_mem", "67108864"), Slow, "= '512MB'"},
		{"max_wal_size", facts("max_wal_size", "1073741824"), Slow, "= '4GB'"},
		{"max_wal_size", with(facts(), func(f *Facts) {
			f.ForcedCheckpoints, f.TimedCheckpoints = 50, 20
		}), Slow, "= '16GB'"},
		{"checkpoint_timeout", facts("checkpoint_timeout", "300000"), Slow, "= '15min'"},
		{"wal_buffers", facts("wal_buffers", "4194304"), Slow, "= '16MB'"},
		{"bgwriter_lru_maxpages", with(facts(), func(f *Facts) {
			f.Written, f.WrittenByBackends = 1e6, 8e5
		}), Slow, "= '1000'"},
	} {
		found := Look(c.facts)
		if len(found) != 1 || found[0].What != c.name || found[0].Severity != c.severity ||
			!strings.Contains(found[0].Do, c.do) || found[0].Why == "" || found[0].Now == "" {
			t.Errorf("%s: %+v", c.name, found)
		}
	}
}

// The one thing that loses mail stands before what is merely slow, however many there are.
func TestTheWorstStandsFirst(t *testing.T) {
	found := Look(facts("wal_buffers", "4194304", "max_wal_size", "1073741824", "autovacuum", "off", "fsync", "off"))
	if len(found) != 4 || found[0].What != "fsync" || found[1].What != "autovacuum" {
		t.Errorf("%+v", found)
	}
}

func TestSizesAndTimesAreWrittenAsPostgreSQLReadsThem(t *testing.T) {
	for n, want := range map[int64]string{8 * GB: "8GB", 1536 * MB: "1536MB", 4 * KB: "4kB", 5*GB + 3: "5120MB",
		12: "12B"} {
		if got := Size(n); got != want {
			t.Errorf("%d: %s, not %s", n, got, want)
		}
	}
	for n, want := range map[int64]string{900_000: "15min", 30_000: "30s", 250: "250ms"} {
		if got := Time(n); got != want {
			t.Errorf("%d: %s, not %s", n, got, want)
		}
	}
}
