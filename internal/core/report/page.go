package report

import (
	"fmt"
	"html/template"
	"strings"
	"time"
)

// Page is a report to be read away from the console: by mail or on paper.
type Page struct {
	HostName string
	Title    string
	Since    time.Time
	Until    time.Time
	Zone     *time.Location
	Totals   map[string]Figure
	// Usual is what the totals are compared with, in words UsualIs.
	Usual   map[string]float64
	UsualIs string
	Delay   *Delay
	Series  []Point
	Reasons map[string][]Row
	Tables  map[string][]Row
	// Notes are what somebody should look at, each with a heading.
	Notes []Notes
}

// Notes are lines under a heading.
type Notes struct {
	Heading string
	Lines   []string
}

// Period is the period in words.
func (p *Page) Period() string {
	const form = "Mon 2 Jan 2006 15:04"
	return p.Since.In(
		p.Zone,
	).Format(form) + " to " + p.Until.In(p.Zone).Format(form) + " (" + p.Zone.String() + ")"
}

// line is one kind in the totals.
type line struct {
	Kind, N, Size, Usual string
}

// Lines are the totals, those that are not nothing.
func (p *Page) Lines() []line {
	var out []line
	for _, k := range Kinds {
		f := p.Totals[k]
		if f.N == 0 && p.Usual[k] == 0 {
			continue
		}
		l := line{Kind: k, N: fmt.Sprint(f.N), Size: Octets(f.Bytes)}
		if p.Usual != nil {
			l.Usual = fmt.Sprintf("%.0f", p.Usual[k])
			if u := p.Usual[k]; u > 0 {
				l.Usual += fmt.Sprintf(" (%+.0f %%)", (float64(f.N)-u)*100/u)
			}
		}
		out = append(out, l)
	}
	return out
}

// DelayText is the delay in words.
func (p *Page) DelayText() string {
	if p.Delay == nil {
		return "nothing was delivered"
	}
	return p.Delay.Text()
}

// Text is a delay in words.
func (d *Delay) Text() string {
	text := fmt.Sprintf("mean %s, at most %s", Seconds(d.Mean), Seconds(d.Max))
	if d.Median != nil && d.P95 != nil {
		text = fmt.Sprintf("half within %s, 95 of 100 within %s, ", Seconds(*d.Median),
			Seconds(*d.P95)) + text
	}
	return text
}

// Seconds writes a delay for people.
func Seconds(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < time.Minute:
		return d.Round(100 * time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

// Octets writes a size for people.
func Octets(n int64) string {
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	v := float64(n) / 1000
	for _, unit := range []string{"kB", "MB", "GB"} {
		switch {
		case v < 9.95:
			return fmt.Sprintf("%.1f %s", v, unit)
		case v < 999.5:
			return fmt.Sprintf("%.0f %s", v, unit)
		}
		v /= 1000
	}
	return fmt.Sprintf("%.1f TB", v)
}

// group is a list of rows under a heading.
type group struct {
	Heading string
	Rows    []Row
	Kinds   []string
}

// Groups are the reasons and tables that have rows, in order.
func (p *Page) Groups() []group {
	var out []group
	for _, r := range []struct {
		name  string
		kinds []string
	}{{"deferred", []string{"deferred"}}, {"bounced", []string{"bounced", "expired"}}, {"rejected",
		[]string{"rejected"}}} {
		if rows := p.Reasons[r.name]; len(rows) > 0 {
			out = append(out, group{"Why " + r.name, rows, r.kinds})
		}
	}
	for _, dim := range Dims {
		if rows := p.Tables[dim]; len(rows) > 0 {
			out = append(out, group{"By " + strings.ReplaceAll(dim, "_", " "), rows, Kinds})
		}
	}
	return out
}

// Name is a row's value, or what it means.
func (r Row) Name() string {
	if r.Title != "" {
		return r.Title
	}
	return r.Value
}

// Text is the report in plain text.
func (p *Page) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n%s\n%s\n\n", p.Title, p.HostName, p.Period())
	for _, n := range p.Notes {
		fmt.Fprintf(&b, "%s\n", n.Heading)
		for _, l := range n.Lines {
			fmt.Fprintf(&b, "  - %s\n", l)
		}
		b.WriteString("\n")
	}
	for _, l := range p.Lines() {
		fmt.Fprintf(&b, "  %-10s %8s  %9s", l.Kind, l.N, l.Size)
		if l.Usual != "" {
			fmt.Fprintf(&b, "   usual %s", l.Usual)
		}
		b.WriteString("\n")
	}
	fmt.Fprintf(&b, "\n  delay until delivered: %s\n", p.DelayText())
	for _, g := range p.Groups() {
		fmt.Fprintf(&b, "\n%s\n", g.Heading)
		for _, r := range g.Rows {
			fmt.Fprintf(&b, "  %s:", r.Name())
			for _, k := range g.Kinds {
				if n := r.Counts[k].N; n > 0 {
					fmt.Fprintf(&b, " %d %s", n, k)
				}
			}
			b.WriteString("\n")
		}
	}
	if p.UsualIs != "" {
		fmt.Fprintf(&b, "\nUsual is %s.\n", p.UsualIs)
	}
	return b.String()
}

// HTML is the report as a page of its own: nothing in it is fetched from anywhere.
func (p *Page) HTML() (string, error) {
	var b strings.Builder
	err := pageTemplate.Execute(&b, p)
	return b.String(), err
}

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"n": func(r Row, k string) string {
		if n := r.Counts[k].N; n > 0 {
			return fmt.Sprint(n)
		}
		return ""
	},
	"count": func(p Point, k string) int64 { return p.Counts[k].N },
	"used": func(g group) []string {
		var out []string
		for _, k := range g.Kinds {
			for _, r := range g.Rows {
				if r.Counts[k].N > 0 {
					out = append(out, k)
					break
				}
			}
		}
		return out
	},
	"width": func(p Point, all []Point) string {
		most := int64(1)
		for _, x := range all {
			most = max(most, x.Counts["received"].N)
		}
		return fmt.Sprintf("%.1f%%", float64(p.Counts["received"].N)*100/float64(most))
	},
}).Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{{.Title}}</title>
<style>
body{font:14px/1.4 system-ui,sans-serif;color:#17282b;max-width:900px;margin:24px auto;padding:0 16px}
h1{font-size:20px;margin:0}h2{font-size:15px;margin:22px 0 4px}p{margin:4px 0}
table{border-collapse:collapse;width:100%;page-break-inside:avoid}
th,td{text-align:right;padding:2px 8px;border-bottom:1px solid #d6dedb;font-variant-numeric:tabular-nums}
th:first-child,td:first-child{text-align:left;overflow-wrap:anywhere}
.note{border-left:5px solid #7c5206;background:#fdf4e0;padding:6px 12px;margin:10px 0}
.bar{background:#126a67;height:10px}
td.wide{width:40%}
@media print{body{margin:0}}
</style></head><body>
<h1>{{.Title}}</h1>
<p>{{.HostName}}, {{.Period}}</p>
{{range .Notes}}<div class="note"><b>{{.Heading}}</b>{{range .Lines}}<p>{{.}}</p>{{end}}</div>{{end}}
<table><tr><th></th><th>number</th><th>size</th>{{if .Usual}}<th>usual</th>{{end}}</tr>
{{$usual := .Usual}}{{range .Lines}}<tr><td>{{.Kind}}</td><td>{{.N}}</td><td>{{.Size}}</td>{{if $usual}}<td>{{.Usual}}</td>{{end}}</tr>{{end}}</table>
<p>Delay until delivered: {{.DelayText}}.</p>
{{if .Series}}<h2>Over time</h2><table><tr><th></th><th>received</th><th class="wide"></th><th>delivered</th><th>deferred</th><th>bounced</th><th>rejected</th></tr>
{{$all := .Series}}{{range .Series}}<tr><td>{{.Label}}</td><td>{{count . "received"}}</td><td class="wide"><div class="bar" style="width:{{width . $all}}"></div></td><td>{{count . "delivered"}}</td><td>{{count . "deferred"}}</td><td>{{count . "bounced"}}</td><td>{{count . "rejected"}}</td></tr>{{end}}</table>{{end}}
{{range .Groups}}{{$kinds := used .}}<h2>{{.Heading}}</h2><table><tr><th></th>{{range $kinds}}<th>{{.}}</th>{{end}}</tr>
{{range $row := .Rows}}<tr><td>{{$row.Name}}</td>{{range $kinds}}<td>{{n $row .}}</td>{{end}}</tr>{{end}}</table>{{end}}
{{if .UsualIs}}<p>Usual is {{.UsualIs}}.</p>{{end}}
</body></html>
`))
