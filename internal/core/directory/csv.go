package directory

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/form"
	"gullroute/internal/core/inert"
)

// MailboxColumns are the columns of mailboxes in CSV. Lists are written with
// spaces between; a password is only ever read.
var MailboxColumns = []string{
	"address",
	"name",
	"addresses",
	"quota",
	"forward_to",
	"keep_copy",
	"may_submit",
	"send_as",
	"reply_inside",
	"reply_outside",
	"reply_from",
	"reply_until",
	"reading_by",
	"reading_messages",
	"password",
}

// AliasColumns are the columns of aliases in CSV.
var AliasColumns = []string{"address", "to", "about"}

var listColumns = []string{"addresses", "forward_to", "send_as", "to"}

// Rows reads CSV row by row; the first row names the columns.
type Rows struct {
	in      *csv.Reader
	columns []string
}

// NewRows reads the first row. The error is form.Problems.
func NewRows(r io.Reader, allowed []string) (*Rows, error) {
	in := csv.NewReader(r)
	in.FieldsPerRecord, in.ReuseRecord = -1, true
	head, err := in.Read()
	if err != nil {
		return nil, form.Problems{
			{Line: 1, Text: "the first row must name the columns: " + strings.Join(allowed, ",")},
		}
	}
	rows := &Rows{in: in}
	var problems form.Problems
	for i, name := range head {
		name = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))
		if !slices.Contains(allowed, name) {
			problems = append(problems, form.Problem{
				Line:  1,
				Field: name,
				Text: fmt.Sprintf("column %d is not known; allowed: %s", i+1,
					strings.Join(allowed, ", ")),
			})
		}
		if slices.Contains(rows.columns, name) {
			problems = append(problems,
				form.Problem{Line: 1, Field: name, Text: "this column stands twice"})
		}
		rows.columns = append(rows.columns, name)
	}
	if !slices.Contains(rows.columns, "address") {
		problems = append(problems,
			form.Problem{Line: 1, Field: "address", Text: "this column is missing"})
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return rows, nil
}

// next reads a row as a record; io.EOF at the end.
func (r *Rows) next() (n *yaml.Node, line int, problems form.Problems, err error) {
	row, err := r.in.Read()
	if errors.Is(err, io.EOF) {
		return nil, 0, nil, err
	}
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		return nil, parse.Line, form.Problems{
			{Line: parse.Line, Text: "this is not CSV: " + parse.Err.Error()},
		}, nil
	}
	if err != nil {
		return nil, 0, nil, err
	}
	line, _ = r.in.FieldPos(0)
	if len(row) > len(r.columns) {
		return nil, line, form.Problems{
			{
				Line: line,
				Text: fmt.Sprintf("the row has %d fields and there are %d columns", len(row),
					len(r.columns)),
			},
		}, nil
	}
	n = &yaml.Node{Kind: yaml.MappingNode, Line: line}
	within := map[string]*yaml.Node{}
	for i, value := range row {
		value = inert.Uncelled(strings.TrimSpace(value))
		if value == "" {
			continue
		}
		to, name := n, r.columns[i]
		if record, part := recordOf(name); record != "" {
			if within[record] == nil {
				within[record] = &yaml.Node{Kind: yaml.MappingNode, Line: line}
				n.Content = append(n.Content, scalarNode(record, line), within[record])
			}
			to, name = within[record], part
		}
		v := scalarNode(value, line)
		if slices.Contains(listColumns, name) {
			v = &yaml.Node{Kind: yaml.SequenceNode, Line: line}
			for _, word := range strings.Fields(strings.ReplaceAll(value, ";", " ")) {
				v.Content = append(v.Content, scalarNode(word, line))
			}
		}
		to.Content = append(to.Content, scalarNode(name, line), v)
	}
	return n, line, nil, nil
}

// recordOf finds the record within a mailbox that a column is of, and the field there.
func recordOf(column string) (record, part string) {
	if part, ok := strings.CutPrefix(column, "reply_"); ok {
		return "automatic_reply", part
	}
	if part, ok := strings.CutPrefix(column, "reading_"); ok {
		return "reading", part
	}
	return "", column
}

func scalarNode(text string, line int) *yaml.Node {
	n := form.Scalar(text)
	n.Line = line
	return n
}

// Mailbox reads the next row; io.EOF at the end.
func (r *Rows) Mailbox() (*Mailbox, form.Problems, error) {
	n, line, problems, err := r.next()
	if err != nil || problems != nil {
		return nil, problems, err
	}
	m := &Mailbox{}
	problems = form.Decode(n, m, "")
	m.Line = line
	return m, problems, nil
}

// Alias reads the next row; io.EOF at the end.
func (r *Rows) Alias() (*Alias, form.Problems, error) {
	n, line, problems, err := r.next()
	if err != nil || problems != nil {
		return nil, problems, err
	}
	a := &Alias{}
	problems = form.Decode(n, a, "")
	a.Line = line
	return a, problems, nil
}

// Columns are those that were named.
func (r *Rows) Columns() []string { return r.columns }

// Row is a mailbox as a row of CSV, without password.
func (m *Mailbox) Row() []string {
	f := m.Fields()
	row := make([]string, len(MailboxColumns))
	for i, c := range MailboxColumns {
		if record, part := recordOf(c); record != "" {
			if r, ok := f[record].(map[string]any); ok {
				row[i] = cell(r[part])
			}
			continue
		}
		row[i] = cell(f[c])
	}
	return row
}

// Row is an alias as a row of CSV.
func (a *Alias) Row() []string {
	f := a.Fields()
	return []string{cell(f["address"]), cell(f["to"]), cell(f["about"])}
}

func cell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []any:
		words := make([]string, len(v))
		for i := range v {
			words[i] = fmt.Sprint(v[i])
		}
		return inert.Cell(strings.Join(words, " "))
	case string:
		return inert.Cell(v)
	}
	return fmt.Sprint(v)
}
