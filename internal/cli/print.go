package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/address"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// column is one column of a table.
type column[T any] struct {
	title string
	right bool // numbers
	value func(T) string
}

// printList prints records: as a table for people, else with all their fields.
func printList[T any](a *app, items []T, columns []column[T], empty string) error {
	switch a.format {
	case "table":
		if len(items) == 0 {
			_, err := fmt.Fprintln(a.out, empty)
			return err
		}
		printTable(a.out, items, columns)
		return nil
	case "jsonl":
		enc := json.NewEncoder(a.out)
		for _, it := range items {
			if err := enc.Encode(it); err != nil {
				return err
			}
		}
		return nil
	case "csv":
		return printCSV(a.out, items)
	}
	if items == nil {
		items = []T{}
	}
	return a.printValue(items)
}

// printValue prints one record for programs.
func (a *app) printValue(v any) error {
	switch a.format {
	case "yaml":
		generic, err := plainValue(v)
		if err != nil {
			return err
		}
		enc := yaml.NewEncoder(a.out)
		enc.SetIndent(2)
		return enc.Encode(generic)
	case "jsonl":
		return json.NewEncoder(a.out).Encode(v)
	case "csv":
		return printCSV(a.out, []any{v})
	}
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// plainValue is v as its JSON has it.
func plainValue(v any) (any, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var out any
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.UseNumber()
	return out, d.Decode(&out)
}

// printCSV writes the fields of records, nested ones as JSON.
func printCSV[T any](w io.Writer, items []T) error {
	out := csv.NewWriter(w)
	var names []string
	for i, it := range items {
		text, err := json.Marshal(it)
		if err != nil {
			return err
		}
		fields := map[string]json.RawMessage{}
		if err := json.Unmarshal(text, &fields); err != nil {
			return err
		}
		if i == 0 {
			names = fieldOrder(text)
			if err := out.Write(names); err != nil {
				return err
			}
		}
		row := make([]string, len(names))
		for j, name := range names {
			row[j] = csvCell(fields[name])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// fieldOrder is the order of an object's fields.
func fieldOrder(object []byte) []string {
	var names []string
	d := json.NewDecoder(strings.NewReader(string(object)))
	_, _ = d.Token()
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return names
		}
		names = append(names, fmt.Sprint(name))
		var skip json.RawMessage
		_ = d.Decode(&skip)
	}
	return names
}

func csvCell(raw json.RawMessage) string {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return inert.Cell(s)
	}
	if string(raw) == "null" {
		return ""
	}
	return string(raw)
}

func printTable[T any](w io.Writer, items []T, columns []column[T]) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleLight
	style.Options = table.Options{}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	var head table.Row
	var configs []table.ColumnConfig
	for i, c := range columns {
		head = append(head, c.title)
		if c.right {
			configs = append(configs, table.ColumnConfig{
				Number:      i + 1,
				Align:       text.AlignRight,
				AlignHeader: text.AlignRight,
			})
		}
	}
	t.AppendHeader(head)
	t.SetColumnConfigs(configs)
	for _, it := range items {
		var row table.Row
		for _, c := range columns {
			row = append(row, c.value(it))
		}
		t.AppendRow(row)
	}
	t.Render()
}

// ago is a time as people say it, with the exact one behind where it matters.
func ago(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	d := time.Since(t)
	if d < 0 {
		return "in " + short(-d)
	}
	if d < time.Second {
		return "now"
	}
	return short(d) + " ago"
}

// next is when something is tried: what is due already is tried now.
func next(t time.Time) string {
	if !t.IsZero() && t.Before(time.Now()) {
		return "now"
	}
	return ago(t)
}

func short(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh %02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd", int(d.Hours()/24))
}

func exact(t time.Time) string {
	t = t.Local()
	if _, offset := t.Zone(); offset == 0 {
		return t.Format("2006-01-02 15:04:05") + " UTC"
	}
	return t.Format("2006-01-02 15:04:05 -07:00")
}

// fine is a time of day to the millisecond, in the zone of who reads it.
func fine(t time.Time) string { return t.Local().Format("15:04:05.000") }

// octets is a size as people read it.
func octets(n int64) string { return report.Octets(n) }

// shown is an address as people read it.
func shown(s string) string {
	if s == "" {
		return "<>"
	}
	if a, err := address.Parse(s); err == nil {
		return a.Display()
	}
	return address.DisplayDomain(s)
}

func lastText(r *mail.LastReply) string {
	if r == nil {
		return "-"
	}
	return string(r.Stage) + ": " + r.String()
}

// readFrom says until when a standby had what was written, if it was read from one.
func (a *app) readFrom(asOf mail.OptTime) {
	if !asOf.IsZero() && a.format == "table" {
		fmt.Fprintf(a.err, "Read from a standby: what was written until %s is in it.\n", exact(asOf.Time))
	}
}
