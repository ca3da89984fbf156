package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/report"
)

// reportCommands are those of gull report.
type reportCommands struct{ *app }

// period is what part of time a report is of.
type period struct{ name, since, until, zone string }

func (p *period) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.name, "period", "",
		"today, yesterday, week (the last 7 days), month (30), quarter (90), or a time like 12h")
	f.StringVar(&p.since, "since", "",
		"from this time on: 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago")
	f.StringVar(&p.until, "until", "", "before this time")
	f.StringVar(&p.zone, "zone", localZone(), "time zone of days")
	_ = c.RegisterFlagCompletionFunc(
		"period",
		cobra.FixedCompletions([]string{"today", "yesterday", "week", "month", "quarter"},
			cobra.ShellCompDirectiveNoFileComp),
	)
}

// query is the period as the service takes it.
func (p *period) query(now time.Time) (url.Values, error) {
	zone, err := time.LoadLocation(p.zone)
	if err != nil {
		return nil, usage("--zone: %q is no time zone; write one like Europe/Oslo or UTC", p.zone)
	}
	q := url.Values{"zone": {p.zone}}
	t := now.In(zone)
	midnight := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, zone)
	set := func(since, until time.Time) {
		q.Set("since", since.UTC().Format(time.RFC3339))
		q.Set("until", until.UTC().Format(time.RFC3339))
	}
	switch p.name {
	case "":
	case "today":
		set(midnight, now)
	case "yesterday":
		set(midnight.AddDate(0, 0, -1), midnight)
	case "week":
		set(now.AddDate(0, 0, -7), now)
	case "month":
		set(now.AddDate(0, 0, -30), now)
	case "quarter":
		set(now.AddDate(0, 0, -90), now)
	default:
		since, err := parseTime(p.name, now)
		if err != nil {
			return nil, usage(
				"--period: there are today, yesterday, week, month, quarter, or a time like 12h",
			)
		}
		set(since, now)
	}
	return q, setTimes(q, p.since, p.until)
}

func (a reportCommands) command() *cobra.Command {
	var p period
	var by, only, archive, compare string
	var kinds []string
	var limit int
	c := &cobra.Command{
		Use:   "report",
		Short: "What the traffic looks like",
		Args:  exactly(0),
		Long: "What the traffic looks like in a period, from counts that are kept as it " +
			"happens.\n\nWithout --by: totals, the course of time, and who is on top. With --by: " +
			"one table, by direction, sender_domain, sender, client, listener, account, " +
			"recipient_domain, recipient, host, route, cause or gate. " +
			"The messages behind a figure are shown by gull report messages. -o html prints a " +
			"page to read or print. deferred counts attempts that were deferred; rejected " +
			"counts recipients, and what never got as far.",
		Example: "  gull report --period yesterday\n  gull report --period week --by " +
			"recipient_domain --kind deferred --kind bounced\n  gull report --period month -o " +
			"html > month.html\n  gull report --by cause --kind rejected -o csv\n" +
			"  gull report --period week --only sender_domain=lightkeepers.example",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := p.query(time.Now())
			if err != nil {
				return err
			}
			if archive != "" {
				q.Set("archive", archive)
			}
			q.Set("limit", strconv.Itoa(limit))
			if by != "" {
				return a.reportBy(c, by, kinds, q)
			}
			if only != "" {
				dim, value, ok := strings.Cut(only, "=")
				if !ok {
					return usage(
						"--only: write what and which, like recipient_domain=lightkeepers.example",
					)
				}
				q.Set("dim", dim)
				q.Set("value", value)
			}
			if compare != "" {
				t, err := parseTime(compare, time.Now())
				if err != nil {
					return usage("--compare: %w", err)
				}
				q.Set("before", t.UTC().Format(time.RFC3339))
			}
			if a.format == "html" {
				return a.client().ReportHTML(c.Context(), q, a.out)
			}
			r, err := a.client().Report(c.Context(), q)
			if err != nil {
				return err
			}
			switch a.format {
			case "table":
				a.printTraffic(r)
				return nil
			case "csv", "jsonl":
				return printList(a.app, flat(r.Series), nil, "")
			}
			return a.printValue(r)
		},
	}
	p.flags(c)
	c.Flags().StringVar(&by, "by", "", "one table, by this")
	c.Flags().StringArrayVar(&kinds, "kind", nil, "with --by: only this kind; may be given again")
	c.Flags().StringVar(&only, "only", "", "totals and course of what counts for one value, like "+
		"recipient_domain=lightkeepers.example")
	c.Flags().StringVar(&compare, "compare", "", "compare with the period that begins at this time")
	c.Flags().StringVar(&archive, "archive", "", "of an opened archive (gull log list)")
	c.Flags().IntVar(&limit, "limit", 8, "rows of each table")
	_ = c.RegisterFlagCompletionFunc(
		"by",
		cobra.FixedCompletions(report.Choices(),
			cobra.ShellCompDirectiveNoFileComp),
	)
	c.AddCommand(a.reportMessages(), a.movers())
	return c
}

func (a reportCommands) reportBy(c *cobra.Command, by string, kinds []string, q url.Values) error {
	for _, k := range kinds {
		q.Add("kind", k)
	}
	rows, err := a.client().ReportTable(c.Context(), by, q)
	if err != nil {
		return err
	}
	if a.format != "table" {
		return printList(a.app, flatRows(rows), nil, "")
	}
	return printList(a.app, rows, rowColumns(by, rows), "Nothing was counted.")
}

// kindsIn are the kinds that rows have, in their order.
func kindsIn(rows []report.Row) []string {
	return slices.DeleteFunc(slices.Clone(report.Kinds), func(k string) bool {
		return !slices.ContainsFunc(rows, func(r report.Row) bool { return r.Counts[k].N != 0 })
	})
}

func rowColumns(by string, rows []report.Row) []column[report.Row] {
	columns := []column[report.Row]{
		{
			strings.ToUpper(strings.ReplaceAll(by, "_", " ")),
			false,
			func(r report.Row) string { return r.Value },
		},
	}
	for _, k := range kindsIn(rows) {
		columns = append(columns, column[report.Row]{
			strings.ToUpper(k),
			true,
			func(r report.Row) string { return number(r.Counts[k].N) },
		})
	}
	// What was received and what was delivered is the same mail: sizes are not added.
	for _, k := range kindsIn(rows) {
		if k == "received" || k == "delivered" {
			columns = append(columns, column[report.Row]{strings.ToUpper(k) + " SIZE", true,
				func(r report.Row) string { return octets(r.Counts[k].Bytes) }})
		}
	}
	if slices.ContainsFunc(rows, func(r report.Row) bool { return r.Delay != nil }) {
		columns = append(columns, column[report.Row]{"MEAN DELAY", true, func(r report.Row) string {
			if r.Delay == nil {
				return "-"
			}
			return lasted(r.Delay.Mean)
		}})
	}
	if slices.ContainsFunc(rows, func(r report.Row) bool { return r.Title != "" }) {
		columns = append(columns,
			column[report.Row]{"MEANS", false, func(r report.Row) string { return r.Title }})
	}
	return columns
}

func number(n int64) string {
	if n == 0 {
		return "-"
	}
	return strconv.FormatInt(n, 10)
}

func (a reportCommands) printTraffic(r api.TrafficReport) {
	w := a.out
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	fmt.Fprintf(w, "%s to %s (%s)\n\n", r.Since.In(zone).Format("Mon 2 Jan 2006 15:04"),
		r.Until.In(zone).Format("Mon 2 Jan 2006 15:04"), r.Zone)
	if r.Dim != "total" {
		fmt.Fprintf(w, "Only %s %s.\n\n", strings.ReplaceAll(r.Dim, "_", " "), r.Value)
	}
	if r.Note != "" {
		fmt.Fprintf(w, "%s\n\n", r.Note)
	}
	a.readFrom(r.AsOf)
	type total struct {
		kind   string
		now    report.Figure
		before report.Figure
	}
	var totals []total
	for _, k := range report.Kinds {
		totals = append(totals, total{k, r.Totals[k], r.Before[k]})
	}
	columns := []column[total]{
		{"", false, func(t total) string { return t.kind }},
		{"N", true, func(t total) string { return number(t.now.N) }},
		{"SIZE", true, func(t total) string { return octets(t.now.Bytes) }},
	}
	if r.Before != nil {
		columns = append(
			columns,
			column[total]{"BEFORE", true, func(t total) string { return number(t.before.N) }},
			column[total]{
				"CHANGE",
				true,
				func(t total) string { return change(t.now.N, t.before.N) },
			},
		)
	}
	printTable(w, totals, columns)
	if d := r.Delay; d != nil {
		fmt.Fprintf(w, "\ndelay until delivered: %s\n", d.Text())
	}
	fmt.Fprintf(w, "\nby %s\n", r.Step)
	points := make([]report.Row, 0, len(r.Series))
	for _, p := range r.Series {
		points = append(points, report.Row{Value: p.Label, Counts: p.Counts, Delay: p.Delay})
	}
	printTable(w, points, rowColumns("", points))
	for _, reason := range []string{"deferred", "bounced", "rejected"} {
		if rows := r.Reasons[reason]; len(rows) > 0 {
			fmt.Fprintf(w, "\nwhy %s\n", reason)
			printTable(w, rows, rowColumns("cause", rows))
		}
	}
	for _, dim := range report.Dims {
		if rows := r.Tables[dim]; len(rows) > 0 {
			fmt.Fprintf(w, "\nby %s\n", strings.ReplaceAll(dim, "_", " "))
			printTable(w, rows, rowColumns(dim, rows))
		}
	}
}

// change is how much more or less there is than before.
func change(now, before int64) string {
	switch {
	case before == 0 && now == 0:
		return "-"
	case before == 0:
		return "new"
	}
	return fmt.Sprintf("%+.0f %%", float64(now-before)*100/float64(before))
}

// flatPoint is a point of a series for programs that read tables.
type flatPoint map[string]any

func flat(points []report.Point) []flatPoint {
	var out []flatPoint
	for _, p := range points {
		f := flatPoint{"at": p.At}
		for _, k := range report.Kinds {
			f[k], f[k+"_bytes"] = p.Counts[k].N, p.Counts[k].Bytes
		}
		out = append(out, f)
	}
	return out
}

func flatRows(rows []report.Row) []flatPoint {
	var out []flatPoint
	for _, r := range rows {
		f := flatPoint{"value": r.Value}
		if r.Title != "" {
			f["title"] = r.Title
		}
		for _, k := range report.Kinds {
			f[k], f[k+"_bytes"] = r.Counts[k].N, r.Counts[k].Bytes
		}
		out = append(out, f)
	}
	return out
}

func (a reportCommands) reportMessages() *cobra.Command {
	var p period
	var kind, by, value, archive, after string
	var limit int
	c := &cobra.Command{
		Use:   "messages --kind KIND",
		Short: "The messages behind a figure of a report",
		Args:  exactly(0),
		Example: "  gull report messages --kind bounced --period week --by cause --value " +
			"no-such-user\n  gull report messages --kind rejected --by client --value 127.20.9.9",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := p.query(time.Now())
			if err != nil {
				return err
			}
			q.Del("zone")
			for name, v := range map[string]string{"kind": kind, "dim": by, "value": value,
				"archive": archive, "after": after} {
				if v != "" {
					q.Set(name, v)
				}
			}
			q.Set("limit", strconv.Itoa(limit))
			list, err := a.client().Figure(c.Context(), q)
			if err != nil {
				return err
			}
			if err := printList(a.app, list.Items, []column[report.Behind]{
				{"WHEN", false, func(x report.Behind) string { return exact(x.At) }},
				{"ID", false, func(x report.Behind) string { return x.MessageID + x.RefusalID }},
				{"FROM", false, func(x report.Behind) string { return shown(x.Sender) }},
				{"TO", false, func(x report.Behind) string { return dash(x.Recipient) }},
				{"SUBJECT", false, func(x report.Behind) string { return x.Subject }},
				{"REPLY", false, func(x report.Behind) string { return x.Text }},
			}, "Nothing is behind this figure."); err != nil {
				return err
			}
			if list.Next != "" && a.format == "table" {
				fmt.Fprintf(a.err, "There are more; go on with --after %s.\n", list.Next)
			}
			return nil
		},
	}
	p.flags(c)
	f := c.Flags()
	f.StringVar(&kind, "kind", "", strings.Join(report.Kinds, ", "))
	f.StringVar(&by, "by", "", "what the figure is by")
	f.StringVar(&value, "value", "", "and of which value")
	f.StringVar(&archive, "archive", "", "of an opened archive (gull log list)")
	f.StringVar(&after, "after", "", "go on where the page before ended")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	_ = c.MarkFlagRequired("kind")
	return c
}
