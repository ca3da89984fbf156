package test

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// Traffic of all kinds goes through for as long as GULL_SOAK says: what the service holds (memory,
// descriptors, connections to the database, the queue's table) does not grow with what went through.
func TestNothingGrowsWithTheTraffic(t *testing.T) {
	takesLong(t)
	t.Parallel()
	long, err := time.ParseDuration(os.Getenv("GULL_SOAK"))
	if err != nil {
		long = 6 * time.Second
	}
	s := own(t, "soak", nil)
	db, err := pgx.Connect(t.Context(), s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(t.Context())
	se := startSenders(s, 2)
	type look struct{ memory, files, connections, queue int64 }
	var looks []look
	const parts = 12
	for part := range parts {
		for n, end := 0, time.Now().Add(long/parts); time.Now().Before(end); n++ {
			s.out(t, fmt.Sprintf("soak%d-%d@no-such-domain.example", part, n)) // bounces
			s.out(t, "tomas.vik@skerryline.example")                           // into a mailbox
			s.find(t, fmt.Sprintf("soak%d-%d@no-such-domain.example", part, n))
			time.Sleep(min(time.Second, long/parts/8))
		}
		var l look
		l.memory = rss(t, s)
		open, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", s.serve.Process.Pid))
		if err != nil {
			t.Fatal(err)
		}
		l.files = int64(len(open))
		if err := db.QueryRow(t.Context(), `SELECT (SELECT count(*) FROM pg_stat_activity
				WHERE datname = current_database()), pg_total_relation_size('delivery')`).Scan(&l.connections,
			&l.queue); err != nil {
			t.Fatal(err)
		}
		looks = append(looks, l)
	}
	se.end()
	se.account(t, fmt.Sprintf("traffic of all kinds for %s", long))
	first, last := looks[parts/3], looks[parts-1]
	fmt.Printf("[ memory %d MB after a third, %d MB at the end; descriptors %d, %d; connections %d, %d; "+
		"the queue's table %d kB, %d kB ]\n", first.memory>>20, last.memory>>20, first.files, last.files,
		first.connections, last.connections, first.queue>>10, last.queue>>10)
	for what, of := range map[string][2]int64{"memory": {first.memory, last.memory - 40<<20},
		"descriptors": {first.files, last.files - 20}, "connections": {first.connections, last.connections - 8},
		"the queue's table": {first.queue, last.queue - 8<<20}} {
		if of[1] > of[0]*5/4 {
			t.Errorf("%s grew: %+v", what, looks)
		}
	}
}
