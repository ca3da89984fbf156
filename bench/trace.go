package main

import (
	"crypto/rand"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Sizes of a long history.
const (
	fewTraced  = 10_000
	manyTraced = 1_000_000
	perMessage = 5 // events
	tracedDays = 30
)

// past puts finished messages of a month into the tables, with events, sessions and
// words, in place of those that were there.
func (h *harbour) past(n int) error {
	until := h.began.Truncate(time.Hour)
	from := until.AddDate(0, 0, -tracedDays)
	st, err := openAll(h.b.ctx, h.b.database)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.MakePartitions(
		h.b.ctx,
		from.AddDate(0, 0, -1),
		until.AddDate(0, 0, 1),
	); err != nil {
		return err
	}
	base := int64(ident.Floor(from))
	step := (int64(ident.Floor(until)) - base) / int64(n)
	at := fmt.Sprintf("(timestamptz '%s' + make_interval(secs => i * %f))",
		from.UTC().Format(time.RFC3339), until.Sub(from).Seconds()/float64(n))
	sender, recipient := `'s' || (i % 997) || '@d' || (i % 211) || '.example'`,
		`'r' || (i % 10007) || '@e' || (i % 499) || '.example'`
	for _, sql := range []string{
		`TRUNCATE message, delivery_done, event, session, find_text`,
		`INSERT INTO lane VALUES (77, 'out', 'e.example') ON CONFLICT DO NOTHING`,
		`INSERT INTO message SELECT %[1]d + i * %[2]d, %[3]s, %[4]s, %[4]s,
			'Ticket ' || md5(i::text), '<m' || i || '@d.example>', 600, 'inside',
				'127.' || (i %% 200) || '.' || (i %% 199) || '.' || (i %% 251), 'machine', '',
					%[1]d + i * %[2]d, 1, 'ESMTP', 0, false, false, '', '', 0, 'out'
						FROM generate_series(0, %[6]d - 1) i`,
		`INSERT INTO delivery_done SELECT %[1]d + i * %[2]d, 1, %[5]s, %[5]s, '', '', 0, CASE
			WHEN i %% 50 = 0 THEN 'bounced' ELSE 'delivered' END, 77, 'all', 'because', 1, 2, %[3]s,
				%[3]s, %[3]s, %[3]s, '{"stage":"content","code":250,"host":"mx.example"}', CASE
					WHEN i %% 50 = 0 THEN 'no-such-user' ELSE '' END FROM generate_series(0,
						%[6]d - 1) i`,
		`INSERT INTO event SELECT %[1]d + i * %[2]d, 1, %[3]s + make_interval(secs => k),
			'deferred', 'bench', 'recipient: 451 4.7.1 later',
				'{"cause": "greylisted", "attempt": 1}' FROM generate_series(0, %[6]d - 1) i,
					generate_series(1, ` + fmt.Sprint(perMessage) + `) k`,
		`INSERT INTO session SELECT %[1]d + i * %[2]d + 1, 'bench', 'out', 'SMTP', 'out',
			'127.30.' || (i %% 3) || '.' || (i %% 251), 25, 'mx' || (i %% 499) || '.example', '',
				'', %[3]s, %[3]s, 1, 1, 0, 500, 900, 'passed', 'we said goodbye',
					ARRAY[%[1]d + i * %[2]d], false FROM generate_series(0, %[6]d - 1) i`,
		`INSERT INTO find_text SELECT id, lower(concat_ws(E'\n', sender, header_from, subject,
			message_id, (SELECT recipient FROM delivery_done d WHERE d.message_id = m.id)))
				FROM message m`,
		`VACUUM ANALYZE message`, `VACUUM ANALYZE delivery_done`, `VACUUM ANALYZE event`,
		`VACUUM ANALYZE session`, `VACUUM ANALYZE find_text`,
	} {
		if strings.Contains(sql, "%[") {
			sql = fmt.Sprintf(sql, base, step, at, sender, recipient, n)
			sql = strings.ReplaceAll(sql, "%%", "%")
		}
		if _, err := h.db.Exec(h.b.ctx, sql); err != nil {
			return fmt.Errorf("%.60s: %w", sql, err)
		}
	}
	return store.Words{DB: st.DB}.IndexClosed(h.b.ctx, h.began)
}

// searches are one for each kind of filter, rare and common.
func searches(n int, until time.Time) map[string]string {
	id := ident.ID(
		int64(
			ident.Floor(until.AddDate(0, 0, -tracedDays)),
		) + int64(n/2)*((int64(ident.Floor(until))-int64(ident.Floor(until.AddDate(0, 0,
			-tracedDays))))/int64(n)),
	)
	return map[string]string{
		"an address":            "from:s77@d77.example",
		"a recipient":           "to:r77@e77.example",
		"a part of an address":  "s77@d7",
		"a domain":              "@d77.example",
		"a subject":             "subject:ticket",
		"a rare subject":        "\"c4ca4238a0b92382\"",
		"our id":                id.String(),
		"a Message-ID":          fmt.Sprintf("id:m%d@d.example", n/3),
		"a client":              "client:127.77.77.77",
		"a network":             "127.77.0.0/16",
		"a host":                "host:mx77.example",
		"a state":               "bounced",
		"a cause":               "no-such-user",
		"a time":                "last 3 days",
		"a state and a domain":  "bounced @d50.example",
		"nothing that is there": "nobody.at.all",
	}
}

// timed is the middle time of several calls, in milliseconds.
func timed(f func() error) (float64, error) {
	var list []float64
	for range 9 {
		began := time.Now()
		if err := f(); err != nil {
			return 0, err
		}
		list = append(list, float64(time.Since(began).Microseconds())/1000)
	}
	return middle(list), nil
}

// trace measures searches, a message's way and reports in a short and a long
// history.
func (b *bench) trace() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	until := h.began.Truncate(time.Hour)
	times := map[string][2]float64{}
	var way [2]float64
	for i, n := range []int{fewTraced, manyTraced} {
		if err := h.past(n); err != nil {
			return nil, err
		}
		for name, q := range searches(n, until) {
			ms, err := timed(func() error {
				_, err := h.client.Search(b.ctx, url.Values{"q": {q}, "limit": {"50"}})
				return err
			})
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			pair := times[name]
			pair[i] = ms
			times[name] = pair
		}
		id := searches(n, until)["our id"]
		if way[i], err = timed(
			func() error { _, err := h.client.Trace(b.ctx, id, nil); return err },
		); err != nil {
			return nil, err
		}
	}
	var out []result
	for name, t := range times {
		out = append(out, result{
			Bench:   "search by " + name,
			Against: "10,000 messages against 1,000,000 (5 million events)",
			Value:   t[1],
			Base:    t[0],
			Unit:    "ms",
			Ratio:   t[1] / t[0],
			Reach:   "<= 3",
			Reached: t[1]/t[0] <= 3,
		})
	}
	out = append(out, result{
		Bench:   "the way of one message",
		Against: "the same two sizes",
		Value:   way[1],
		Base:    way[0],
		Unit:    "ms",
		Ratio:   way[1] / way[0],
		Reach:   "<= 1.5",
		Reached: way[1]/way[0] <= 1.5,
	})
	more, err := h.reports()
	if err != nil {
		return nil, err
	}
	forget, err := h.forgetting()
	return append(append(out, more...), forget), err
}

// reports puts counts of ninety days in, and asks for one day and for all.
func (h *harbour) reports() ([]result, error) {
	until := h.began.Truncate(24 * time.Hour)
	for _, sql := range []string{
		`TRUNCATE count_sum`,
		`INSERT INTO count_sum SELECT 'hour', h, d.dim, CASE WHEN d.many > 1
			THEN d.dim || ((extract(epoch FROM h) / 3600)::bigint * 7 + v) % d.many ELSE '' END, k,
				5, 5000, 900, 400
			FROM generate_series(timestamptz '%[1]s' - interval '90 days', timestamptz '%[1]s',
				interval '1 hour') h, (VALUES ('total', 1, 1), ('sender', 2000, 60), ('recipient',
					5000, 120), ('sender_domain', 300, 40), ('recipient_domain', 300, 40), ('host',
						300, 40), ('client', 500, 40), ('route', 10, 8), ('listener', 4, 4),
							('cause', 30, 10), ('direction', 3, 3), ('delay', 90, 30)) d(dim, many,
								each),
			unnest(ARRAY['received', 'delivered', 'bounced']) k, LATERAL generate_series(1,
				d.each) v ON CONFLICT DO NOTHING`,
		`INSERT INTO count_sum SELECT 'day', date_trunc('day', at, 'UTC'), dim, value, kind, sum(n),
			sum(bytes), sum(delay), max(delay_max) FROM count_sum WHERE tier = 'hour' GROUP BY 2, 3,
				4, 5`,
		`INSERT INTO count_sum SELECT 'week', date_trunc('week', at, 'UTC'), dim, value, kind,
			sum(n), sum(bytes), sum(delay), max(delay_max) FROM count_sum
				WHERE tier = 'hour' GROUP BY 2, 3, 4, 5`,
		`INSERT INTO count_sum SELECT '4 weeks', date_bin('28 days', at, '0001-01-01 00:00:00+00'), dim,
			value, kind, sum(n), sum(bytes), sum(delay), max(delay_max) FROM count_sum
				WHERE tier = 'week' GROUP BY 2, 3, 4, 5`,
		`VACUUM ANALYZE count_sum`,
	} {
		if strings.Contains(sql, "%[1]s") {
			sql = strings.ReplaceAll(sql, "%[1]s", until.UTC().Format(time.RFC3339))
		}
		if _, err := h.db.Exec(h.b.ctx, sql); err != nil {
			return nil, err
		}
	}
	ask := func(days int) (float64, error) {
		q := url.Values{
			"since": {until.AddDate(0, 0, -days).UTC().Format(time.RFC3339)},
			"until": {until.UTC().Format(time.RFC3339)},
		}
		return timed(func() error { _, err := h.client.Report(h.b.ctx, q); return err })
	}
	one, err := ask(1)
	if err != nil {
		return nil, err
	}
	ninety, err := ask(90)
	return []result{
		{
			Bench:   "a report of 90 days",
			Against: "of one day",
			Value:   ninety,
			Base:    one,
			Unit:    "ms",
			Ratio:   ninety / one,
			Reach:   "<= 4",
			Reached: ninety/one <= 4,
		},
	}, err
}

// forgetting drops a day of the million messages.
func (h *harbour) forgetting() (result, error) {
	st, err := openAll(h.b.ctx, h.b.database)
	if err != nil {
		return result{}, err
	}
	defer st.Close()
	keep := time.Duration(tracedDays-2) * 24 * time.Hour
	began := time.Now()
	err = st.KeepPartitions(h.b.ctx, h.began, store.Retention{Messages: keep, Transcripts: keep})
	took := time.Since(began).Seconds()
	return result{
		Bench:   "forgetting days",
		Against: "one second",
		Value:   took * 1000,
		Base:    1000,
		Unit:    "ms",
		Ratio:   took,
		Reach:   "<= 1",
		Reached: took <= 1,
	}, err
}

// transcripts measures accept with the transcripts kept against without.
func (b *bench) transcripts() ([]result, error) {
	var with, without []float64
	for range b.rounds {
		for _, m := range []struct {
			level string
			into  *[]float64
		}{{"none", &without}, {"all", &with}} {
			rate, err := b.acceptAt(m.level)
			if err != nil {
				return nil, err
			}
			*m.into = append(*m.into, rate)
		}
	}
	v, base, ratios := median(with, without)
	return []result{
		{
			Bench:   "accept with transcripts",
			Against: "without",
			Value:   v,
			Base:    base,
			Unit:    "messages/s",
			Ratio:   v / base,
			Ratios:  ratios,
			Reach:   ">= 0.85",
			Reached: v/base >= 0.85,
		},
	}, nil
}

func (b *bench) acceptAt(level string) (float64, error) {
	h, err := b.newHarbourWith(func(c string) string {
		return strings.Replace(
			strings.Replace(c, "kind: inside,", "kind: inside, transcript: "+level+",", 1),
			"next_hop: mx",
			"next_hop: mx, transcript: "+level,
			1,
		)
	})
	if err != nil {
		return 0, err
	}
	defer h.close()
	return load{
		address:     h.inside,
		connections: connections,
		messages:    messages / 2,
		content:     messageOf(4096),
		from:        "tickets@skerryline.example",
		to:          "x%d@saltmarsh.example",
	}.run()
}

// archiveSize is that of the archive that is opened, uncompressed.
const archiveSize = 1 << 30

// archive measures the opening of an archive of a gigabyte.
func (b *bench) archive() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	file := filepath.Join(h.dir, "archive.jsonl.zst")
	if err := writeArchive(file, h.began); err != nil {
		return nil, err
	}
	before := h.resident()
	most := before
	stop := make(chan struct{})
	go func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
				most = max(most, h.resident())
			}
		}
	}()
	open := func() (float64, error) {
		cmd := exec.Command("bin/gull", "log", "open", file, "--url", "http://"+h.http, "--token",
			benchToken)
		began := time.Now()
		text, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, text)
		}
		return time.Since(began).Seconds(), err
	}
	first, err := open()
	if err != nil {
		return nil, err
	}
	second, err := open()
	close(stop)
	if err != nil {
		return nil, err
	}
	rate := archiveSize / 1e6 / first
	return []result{
		{
			Bench:   "opening an archive of 1 GB",
			Against: "100 MB/s",
			Value:   rate,
			Base:    100,
			Unit:    "MB/s",
			Ratio:   rate / 100,
			Reach:   ">= 1",
			Reached: rate >= 100,
		},
		{
			Bench:   "memory of the service while opening",
			Against: "200 MB",
			Value:   most,
			Base:    200,
			Unit:    "MB",
			Ratio:   most / 200,
			Reach:   "< 1",
			Reached: most < 200,
		},
		{
			Bench:   "opening it again",
			Against: "the first time",
			Value:   second * 1000,
			Base:    first * 1000,
			Unit:    "ms",
			Ratio:   second / first,
			Reach:   "<= 0.05",
			Reached: second/first <= 0.05,
		},
	}, nil
}

func writeArchive(file string, now time.Time) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := zstd.NewWriter(f, zstd.WithWindowSize(archive.Window))
	if err != nil {
		return err
	}
	size := 0
	add := func(line any) error {
		text, err := archive.Write(line)
		size += len(text)
		if err == nil {
			_, err = z.Write(text)
		}
		return err
	}
	from := now.AddDate(0, 0, -tracedDays)
	if err := add(archive.About{
		Kind:     archive.Head,
		Version:  archive.Version,
		HostName: "mail.skerryline.example",
		Since:    from,
		Until:    now,
	}); err != nil {
		return err
	}
	for i := 0; size < archiveSize; i++ {
		at := from.Add(time.Duration(i) * 3 * time.Second)
		noise := make([]byte, 8)
		_, _ = rand.Read(noise)
		m := mail.Message{
			ID:            ident.Floor(at) + ident.ID(i%1000),
			ReceivedAt:    at,
			Sender:        fmt.Sprintf("s%d@d%d.example", i%997, i%211),
			Subject:       fmt.Sprintf("Your ticket %x", noise),
			MessageID:     fmt.Sprintf("<%x@d.example>", noise),
			Size:          4000,
			Listener:      "inside",
			ClientAddress: fmt.Sprintf("127.20.1.%d", i%250),
			Helo:          "kiosk",
			Direction:     "out",
			Protocol:      "ESMTP",
		}
		d := mail.Delivery{
			MessageID:  m.ID,
			N:          1,
			Recipient:  fmt.Sprintf("r%d@e%d.example", i%10007, i%499),
			State:      mail.Delivered,
			Route:      "out",
			NextHop:    "e.example",
			Rule:       "all here",
			RouteWhy:   "route out takes *",
			Attempts:   1,
			FinishedAt: mail.At(at.Add(time.Second)),
			Last: &mail.LastReply{
				Stage:    "content",
				Host:     fmt.Sprintf("mx%d.example", i%499),
				Address:  "127.30.0.10",
				Code:     250,
				Enhanced: "2.0.0",
				Text:     "taken",
				TLS:      "TLS 1.3 TLS_AES_128_GCM_SHA256, verified",
			},
		}
		d.Original = d.Recipient
		m.Deliveries = []mail.Delivery{d}
		if err := add(archive.OfMessage(m, nil)); err != nil {
			return err
		}
	}
	if err := add(archive.EndLine{Kind: archive.End}); err != nil {
		return err
	}
	return z.Close()
}
