package service

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
)

var (
	countDesc = prometheus.NewDesc(
		"gull_mail_total",
		"Messages received, deliveries delivered, deferred, bounced and expired, and commands "+
			"rejected.",
		[]string{"kind"},
		nil,
	)
	bytesDesc = prometheus.NewDesc("gull_mail_bytes_total", "Octets of the same.", []string{"kind"},
		nil)
	queueDesc = prometheus.NewDesc("gull_queue_deliveries", "Deliveries in the queue.",
		[]string{"state"}, nil)
	laneDesc = prometheus.NewDesc(
		"gull_lanes",
		"Lanes with mail waiting.",
		[]string{"state"},
		nil,
	)
	memoryDesc = prometheus.NewDesc("gull_queue_window_deliveries",
		"Deliveries that this node holds in memory.", nil, nil)
	keptDesc = prometheus.NewDesc("gull_queue_window_bytes",
		"Octets of content that this node holds in memory.", nil, nil)
	refusedDesc = prometheus.NewDesc("gull_data_refused_total",
		"Items that the database refused and that were put aside, by who writes them.",
		[]string{"writer"}, nil)
	roundsDesc = prometheus.NewDesc("gull_loop_rounds_total", "Rounds of background loops.",
		[]string{"loop"}, nil)
	faultsDesc = prometheus.NewDesc("gull_loop_faults_total",
		"Rounds of background loops that failed.", []string{"loop"}, nil)
	roundDesc = prometheus.NewDesc("gull_loop_round_seconds",
		"How long the running round of a background loop takes, or the last one took.",
		[]string{"loop"}, nil)
	sessionsDesc = prometheus.NewDesc("gull_sessions", "Open sessions inwards.",
		[]string{"listener"}, nil)
	readDesc = prometheus.NewDesc("gull_reading_total",
		"What people's programs did that read mailboxes: sign-ins, messages fetched.",
		[]string{"what"}, nil)
	snagDesc = prometheus.NewDesc("gull_snags", "Open troubles, without muted ones and parts.",
		[]string{"severity"}, nil)
	databaseDesc = prometheus.NewDesc("gull_database_up", "1 if the database answers.", nil, nil)
	stateDesc    = prometheus.NewDesc("gull_database_state",
		"1 for how the database does: well, or why no mail is taken.", []string{"state"}, nil)
	writeDesc = prometheus.NewDesc("gull_database_write_seconds",
		"How long the last small durable write took.", nil, nil)
	standbyDesc = prometheus.NewDesc(
		"gull_database_standby_behind_seconds",
		"How far the standby that is read from is behind; no value while it is not read from.",
		nil,
		nil,
	)
	formerDesc = prometheus.NewDesc("gull_database_former_primaries",
		"Hosts that take writes though another was promoted after them.", nil, nil)
	ageDesc = prometheus.NewDesc("gull_queue_oldest_seconds",
		"How long the oldest delivery waits that is not held.", nil, nil)
	sizeDesc = prometheus.NewDesc("gull_database_bytes", "How much the database takes.", nil, nil)
	endsDesc = prometheus.NewDesc("gull_certificate_ends_seconds",
		"Until the certificate that is shown ends.", []string{"certificate"}, nil)
	infoDesc = prometheus.NewDesc("gull_info", "1; the program's version and the node's name.",
		[]string{"version", "node"}, nil)
	freedDesc = prometheus.NewDesc("gull_leases_freed_total",
		"Deliveries that were leased to this node on which nobody worked.", nil, nil)
	lockedDesc = prometheus.NewDesc("gull_signing_keys_locked",
		"Keys that should sign and that this node's key file does not open.", nil, nil)
)

// collector reads the numbers when they are asked for.
type collector struct{ s *Service }

// Describe lists the metrics.
func (c collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{countDesc, bytesDesc, queueDesc, laneDesc, memoryDesc,
		keptDesc, refusedDesc, roundsDesc, faultsDesc, roundDesc, sessionsDesc, readDesc, snagDesc,
		databaseDesc, stateDesc, writeDesc, formerDesc, standbyDesc, freedDesc, lockedDesc, ageDesc, sizeDesc,
		endsDesc, infoDesc} {
		ch <- d
	}
}

// Collect reads them.
func (c collector) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	for _, kind := range counters.Kinds {
		n, bytes := c.s.Insight.Nodes.Counters.Total(kind)
		ch <- prometheus.MustNewConstMetric(countDesc, prometheus.CounterValue, float64(n), kind)
		ch <- prometheus.MustNewConstMetric(bytesDesc, prometheus.CounterValue, float64(bytes),
			kind)
	}
	for _, w := range counters.Writers {
		ch <- prometheus.MustNewConstMetric(refusedDesc, prometheus.CounterValue,
			float64(c.s.Insight.Nodes.Counters.Refused(w)), w)
	}
	for _, l := range c.s.Insight.Nodes.Loops() {
		ch <- prometheus.MustNewConstMetric(roundsDesc, prometheus.CounterValue, float64(l.Rounds),
			l.Name)
		ch <- prometheus.MustNewConstMetric(faultsDesc, prometheus.CounterValue, float64(l.Faults),
			l.Name)
		took := l.Took
		if !l.Since.IsZero() {
			took = time.Since(l.Since)
		}
		gauge(roundDesc, took.Seconds(), l.Name)
	}
	d := c.s.Insight.Nodes.Queue.Database()
	for _, state := range c.s.Insight.Nodes.DatabaseStates() {
		v := 0.0
		if string(d.State) == state {
			v = 1
		}
		gauge(stateDesc, v, string(state))
	}
	gauge(writeDesc, d.Took.Seconds())
	gauge(infoDesc, 1, Version, c.s.Insight.Nodes.Queue.Name)
	gauge(formerDesc, float64(len(c.s.Insight.Nodes.FormerPrimaries())))
	if asOf := c.s.Insight.Trace.StandbyAsOf(); !asOf.IsZero() {
		gauge(standbyDesc, max(0, time.Since(asOf).Seconds()))
	}
	gauge(lockedDesc, float64(len(c.s.Insight.Nodes.Signing.Locked())))
	ch <- prometheus.MustNewConstMetric(freedDesc, prometheus.CounterValue,
		float64(c.s.Insight.Nodes.Queue.Freed()))
	deliveries, octets := c.s.Insight.Nodes.Queue.InMemory()
	gauge(memoryDesc, float64(deliveries))
	gauge(keptDesc, float64(octets))
	for name, n := range c.s.Insight.Nodes.Sessions() {
		gauge(sessionsDesc, float64(n), name)
	}
	signIns, fetched := c.s.Insight.Nodes.Access.Counts()
	for what, n := range map[string]int64{"sign-ins": signIns, "messages": fetched} {
		ch <- prometheus.MustNewConstMetric(readDesc, prometheus.CounterValue, float64(n), what)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	lanes, err := c.s.Insight.Lanes.List(ctx)
	if err != nil {
		gauge(databaseDesc, 0)
		return
	}
	gauge(databaseDesc, 1)
	var sum mail.Lane
	var oldest time.Duration
	states := map[mail.LaneState]int{
		mail.LaneMoving:   0,
		mail.LanePaused:   0,
		mail.LaneResting:  0,
		mail.LaneStranded: 0,
		mail.LaneParked:   0,
	}
	for _, l := range lanes {
		sum.Waiting += l.Waiting
		sum.Deferred += l.Deferred
		sum.Held += l.Held
		states[l.State]++
		if at := l.OldestAt.Time; l.Waiting+l.Deferred > 0 && !at.IsZero() {
			oldest = max(oldest, time.Since(at))
		}
	}
	gauge(ageDesc, oldest.Seconds())
	if octets, err := c.s.Insight.Nodes.Runs.Size(ctx); err == nil {
		gauge(sizeDesc, float64(octets))
	}
	if list, err := c.s.Control.Certificates.List(ctx); err == nil {
		for _, x := range list {
			if x.Shown != nil {
				gauge(endsDesc, time.Until(x.Shown.Until).Seconds(), x.Name)
			}
		}
	}
	gauge(queueDesc, float64(sum.Waiting), string(mail.Waiting))
	gauge(queueDesc, float64(sum.Deferred), string(mail.Deferred))
	gauge(queueDesc, float64(sum.Held), string(mail.Held))
	for state, n := range states {
		gauge(laneDesc, float64(n), string(state))
	}
	if counts, err := c.s.Insight.Snags.Counts(ctx); err == nil {
		for severity, n := range counts {
			gauge(snagDesc, float64(n), severity)
		}
	}
}

func metrics(s *Service) fiber.Handler {
	reg := prometheus.NewRegistry()
	tally := s.Insight.Nodes.Counters
	reg.MustRegister(
		collector{s},
		tally.Accept,
		tally.Delivery,
		tally.Commit,
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return adaptor.HTTPHandler(
		promhttp.HandlerFor(reg, promhttp.HandlerOpts{EnableOpenMetrics: true}),
	)
}
