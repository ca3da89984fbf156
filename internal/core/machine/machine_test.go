package machine

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

// well are facts of a machine with which nothing is wrong.
func well() Facts {
	yes, little := true, time.Second
	return Facts{
		Memory:   Memory{Total: 8 << 30, Available: 5 << 30, Used: 200 << 20},
		Files:    Files{Open: 100, Limit: 65536},
		Random:   &yes,
		Places:   []Place{{What: "spool", Dir: "/var/spool/gull", Size: 100 << 30, Free: 60 << 30, Inodes: 0.1}},
		Clock:    Clock{Off: 3 * time.Millisecond, Kept: &yes},
		Database: Database{Version: 150004, Size: 1 << 30, Standbys: []Standby{{"db2", &little}}},
		Servers:  []Server{{At: "192.0.2.53:53", Took: 4 * time.Millisecond}},
		Names:    []Name{{Name: "mail.skerryline.example"}},
		Ports:    []Port{{Listener: "edge", At: "192.0.2.10:25"}},
		Programs: []Program{{"shore", "1.0.0"}, {"reef", "1.0.0"}},
		KeyFile:  &KeyFile{Path: "/var/lib/gull/key", Mode: 0o600},
	}
}

func TestEachThingThatIsWrongIsFoundAndSaid(t *testing.T) {
	if checks := Judge(well()); Worst(checks) != Well {
		t.Fatalf("of a machine that is well: %+v", checks[0])
	}
	no, far := false, 5*time.Minute
	for _, c := range []struct {
		what  string
		state State
		says  string
		wrong func(*Facts)
	}{
		{"memory", Bad, "98 % of its control group's", func(f *Facts) { f.Memory.Limit, f.Memory.Used = 1<<30, 1005<<20 }},
		{"memory", Look, "95 %", func(f *Facts) { f.Memory.Available = f.Memory.Total / 20 }},
		{"file descriptors", Bad, "980 of 1024", func(f *Facts) { f.Files = Files{980, 1024} }},
		{"file descriptors", Look, "10 of 1024", func(f *Facts) { f.Files = Files{10, 1024} }},
		{"random numbers", Bad, "none yet", func(f *Facts) { f.Random = &no }},
		{"spool (/var/spool/gull)", Look, "free of", func(f *Facts) { f.Places[0].Free = 8 << 30 }},
		{"spool (/var/spool/gull)", Bad, "read-only", func(f *Facts) { f.Places[0].Fault = "read-only file system" }},
		{"spool (/var/spool/gull)", Bad, "full in 4 days", func(f *Facts) {
			f.Places[0].Fills = &Forecast{PerDay: 15 << 30, FullIn: 96 * time.Hour, Full: true}
		}},
		{"spool (/var/spool/gull), inodes", Bad, "98 %", func(f *Facts) { f.Places[0].Inodes = 0.98 }},
		{"spool (/var/spool/gull), rights", Look, "others", func(f *Facts) { f.Places[0].Others = true }},
		{ClockAgainst, Bad, "60.0 s behind", func(f *Facts) { f.Clock.Off = -time.Minute }},
		{"whether the clock is kept", Look, "nothing sets it", func(f *Facts) { f.Clock.Kept = &no }},
		{"whether the clock is kept", Unknown, "does not say", func(f *Facts) { f.Clock.Kept = nil }},
		{"state", Bad, "no connection", func(f *Facts) { f.Database.Wrong = "no connection" }},
		{"version", Bad, "PostgreSQL 13.9", func(f *Facts) { f.Database.Version = 130009 }},
		{"open transactions", Look, "20m", func(f *Facts) {
			f.Database.Longest, f.Database.LongestN = 20*time.Minute, "psql"
		}},
		{"standby db2", Look, "300.0 s", func(f *Facts) { f.Database.Standbys[0].Behind = &far }},
		{"standby db2", Unknown, "may not see", func(f *Facts) { f.Database.Standbys[0].Behind = nil }},
		{"settings", Bad, "fsync", func(f *Facts) { f.Database.Advice = []Advice{{"fsync: off", "set it on", true}} }},
		{"name server 192.0.2.53:53", Bad, "no answer", func(f *Facts) { f.Servers[0].Fault = "no answer" }},
		{"name server 192.0.2.53:53", Look, "3000 ms", func(f *Facts) { f.Servers[0].Took = 3 * time.Second }},
		{"mail.skerryline.example", Bad, "no address", func(f *Facts) { f.Names[0].Fault = "no address" }},
		{"edge at 192.0.2.10:25", Bad, "refused", func(f *Facts) { f.Ports[0].Fault = "connection refused" }},
		{"versions", Look, "reef 1.1.0", func(f *Facts) { f.Programs[1].Version = "1.1.0" }},
		{"key file /var/lib/gull/key", Look, "0644", func(f *Facts) { f.KeyFile.Mode = 0o644 }},
	} {
		f := well()
		c.wrong(&f)
		first := Judge(f)[0]
		if first.What != c.what || first.State != c.state || !strings.Contains(first.Found, c.says) {
			t.Errorf("want %s %s with %q on top, got %+v", c.what, c.state, c.says, first)
		}
		if f.Database.Wrong != "" && slices.ContainsFunc(Judge(f),
			func(e Examined) bool { return e.What == ClockAgainst }) {
			t.Error("the clock is held against that of a database which does not answer")
		}
		if first.Fix == "" && c.state != Unknown {
			t.Errorf("%s: nothing is said to be done", c.what)
		}
	}
}

func TestTheForecastFollowsTheTrendAndNotTheHour(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	begin := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	line := func(hours int, perDay, start, size int64) (list []Sample) {
		for h := range hours {
			used := start + perDay*int64(h)/24 + random.Int64N(200<<20)
			if h%24 < 8 { // a night's backup lies there meanwhile
				used += 1 << 30
			}
			list = append(list, Sample{begin.Add(time.Duration(h) * time.Hour), used, size - used})
		}
		return list
	}
	if f := Foresee(line(24, 1<<30, 0, 1<<40)); f != nil {
		t.Errorf("of one day: %+v", f)
	}
	f := Foresee(line(14*24, 2<<30, 10<<30, 100<<30))
	if f == nil || !f.Full || f.PerDay < 18<<26 || f.PerDay > 36<<26 { // about 2 GiB: 32<<26
		t.Fatalf("%+v", f)
	}
	if days := f.FullIn.Hours() / 24; days < 28 || days > 36 { // 62 GiB are left
		t.Errorf("full in %.0f days", days)
	}
	if f := Foresee(line(14*24, -1<<30, 50<<30, 100<<30)); f == nil || f.PerDay >= 0 || f.Full {
		t.Errorf("what shrinks: %+v", f)
	}
	if f := Foresee(line(14*24, 1<<20, 1<<30, 1<<40)); f == nil || f.Full {
		t.Errorf("what is full in thousands of years is not foretold: %+v", f)
	}
}
