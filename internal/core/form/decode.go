// Package form reads the records of a configuration: YAML into structs, with
// every fault named by line and field, and what programs and pages need to know
// of the fields. A struct says what is allowed by its tags: yaml (the name),
// required, enum, each (an enum for the items of a list), min, max, default, doc.
package form

import (
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/address"
)

// Problem is one thing wrong with a configuration.
type Problem struct {
	Line  int    `json:"line"`
	Field string `json:"field"`
	Text  string `json:"text"`
}

// Problems is everything wrong with a configuration; it is an error.
type Problems []Problem

// Error lists the problems, one a line.
func (ps Problems) Error() string {
	var b strings.Builder
	for i, p := range ps {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "line %d", p.Line)
		if p.Field != "" {
			b.WriteString(", " + p.Field)
		}
		b.WriteString(": " + p.Text)
	}
	return b.String()
}

// maxDocument bounds a text, in octets.
const maxDocument = 64 << 20

// ParseYAML reads a text as one YAML document. The error is Problems.
func ParseYAML(text []byte) (*yaml.Node, error) {
	if len(text) > maxDocument {
		return nil, Problems{{1, "", fmt.Sprintf("the text is larger than %d octets", maxDocument)}}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, Problems{syntaxProblem(err, string(text))}
	}
	if len(doc.Content) == 0 {
		return &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Line: 1}, nil
	}
	root := doc.Content[0]
	if root.HeadComment == "" {
		root.HeadComment = doc.HeadComment
	}
	return root, nil
}

// Decode fills the struct that into points to from a YAML node, sets the
// defaults of what is not given and returns everything that is wrong, by line.
// path stands before the names of fields.
func Decode(n *yaml.Node, into any, path string) Problems {
	d := decoder{}
	d.decode(n, reflect.ValueOf(into).Elem(), path, "")
	return d.sorted()
}

var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

// syntaxProblem finds the line of a fault. The library names the line where the
// block began; of a tab, which nobody sees, we look for the very line.
func syntaxProblem(err error, text string) Problem {
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1])
		if strings.Contains(m[2], "tab character") {
			for i, l := range strings.Split(text, "\n") {
				if indent := l[:len(l)-len(strings.TrimLeft(l, " \t"))]; strings.Contains(
					indent,
					"\t",
				) {
					line = i + 1
					break
				}
			}
		}
		return Problem{line, "", "this is not YAML: " + m[2]}
	}
	return Problem{1, "", "this is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
}

// decoder fills a Config from YAML nodes and collects what is wrong.
type decoder struct{ problems Problems }

func (d *decoder) sorted() Problems {
	slices.SortStableFunc(d.problems, func(a, b Problem) int { return a.Line - b.Line })
	return d.problems
}

func (d *decoder) wrong(n *yaml.Node, field, format string, args ...any) {
	d.problems = append(d.problems, Problem{n.Line, field, fmt.Sprintf(format, args...)})
}

func (d *decoder) decode(n *yaml.Node, v reflect.Value, field string, tag reflect.StructTag) {
	if n.Kind == yaml.AliasNode {
		d.wrong(n, field,
			"YAML references (*name) are not used in a configuration; write the value out")
		return
	}
	if parse, ok := scalars[v.Type()]; ok {
		if text, ok := d.scalar(n, field, parse.what); ok {
			if err := parse.into(text, v); err != nil {
				d.wrong(n, field, "%v", err)
				return
			}
			d.checkRange(n, v, field, tag)
		}
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		d.decode(n, v.Elem(), field, tag)
	case reflect.Struct:
		d.decodeStruct(n, v, field)
	case reflect.Slice:
		d.decodeList(n, v, field, tag)
	case reflect.String:
		if text, ok := d.scalar(n, field, "a text"); ok {
			v.SetString(text)
			if enum := tag.Get("enum"); enum != "" &&
				!slices.Contains(strings.Split(enum, ","), text) {
				d.wrong(n, field, "%q is not known; allowed: %s", text,
					strings.ReplaceAll(enum, ",", ", "))
			}
		}
	case reflect.Int:
		if text, ok := d.scalar(n, field, "a number"); ok {
			i, err := strconv.Atoi(text)
			if err != nil {
				d.wrong(n, field, "%q is not a whole number", text)
				return
			}
			v.SetInt(int64(i))
			d.checkRange(n, v, field, tag)
		}
	case reflect.Bool:
		if text, ok := d.scalar(n, field, "true or false"); ok {
			b, err := strconv.ParseBool(text)
			if err != nil || len(text) < 4 {
				d.wrong(n, field, "%q is neither true nor false", text)
			}
			v.SetBool(b)
		}
	}
}

func (d *decoder) scalar(n *yaml.Node, field, what string) (string, bool) {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		d.wrong(n, field, "expected %s", what)
		return "", false
	}
	return n.Value, true
}

func (d *decoder) decodeStruct(n *yaml.Node, v reflect.Value, field string) {
	if n.Kind != yaml.MappingNode {
		d.wrong(n, field, "expected fields: %s", strings.Join(fieldNames(v.Type()), ", "))
		return
	}
	if line := v.FieldByName("Line"); line.IsValid() {
		line.SetInt(int64(n.Line))
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		path := join(field, key.Value)
		f, known := fieldByName(v.Type(), key.Value)
		switch {
		case !known:
			d.wrong(key, path, "this field is not known; allowed: %s",
				strings.Join(fieldNames(v.Type()), ", "))
		case seen[key.Value]:
			d.wrong(key, path, "this field is given twice")
		default:
			seen[key.Value] = true
			d.decode(value, v.FieldByIndex(f.Index), path, f.Tag)
		}
	}
	for _, f := range fieldsOf(v.Type()) {
		name := f.Tag.Get("yaml")
		if seen[name] {
			continue
		}
		if f.Tag.Get("required") != "" {
			d.wrong(n, join(field, name), "this field is missing")
		}
		setDefault(f, v.FieldByIndex(f.Index))
	}
}

// records are the fields of record types, by type.
var records sync.Map

// fieldsOf are the fields of a record in order, those of embedded ones among them.
func fieldsOf(t reflect.Type) []reflect.StructField {
	if known, ok := records.Load(t); ok {
		return known.([]reflect.StructField)
	}
	out := slices.DeleteFunc(reflect.VisibleFields(t),
		func(f reflect.StructField) bool { return f.Tag.Get("yaml") == "" })
	records.Store(t, out)
	return out
}

// SetDefaults gives the fields of a struct their defaults.
func SetDefaults(v reflect.Value) {
	for _, f := range fieldsOf(v.Type()) {
		setDefault(f, v.FieldByIndex(f.Index))
	}
}

// setDefault gives a field that is not given its default.
func setDefault(f reflect.StructField, v reflect.Value) {
	text, ok := f.Tag.Lookup("default")
	_, scalar := scalars[f.Type]
	switch {
	case ok:
		quiet := decoder{}
		quiet.decode(&yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}, v, "", "")
	case !scalar && f.Type.Kind() == reflect.Struct:
		SetDefaults(v)
	}
}

func (d *decoder) decodeList(n *yaml.Node, v reflect.Value, field string, tag reflect.StructTag) {
	if n.Kind != yaml.SequenceNode {
		d.wrong(n, field, "expected a list, like [a, b] or lines that begin with \"- \"")
		return
	}
	var each reflect.StructTag
	if enum := tag.Get("each"); enum != "" {
		each = reflect.StructTag(`enum:"` + enum + `"`)
	}
	v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
	for i, item := range n.Content {
		d.decode(item, v.Index(i), fmt.Sprintf("%s[%d]", field, i), each)
	}
}

// checkRange applies the tags min and max, in the field's own unit.
func (d *decoder) checkRange(n *yaml.Node, v reflect.Value, field string, tag reflect.StructTag) {
	if v.Kind() != reflect.Int && v.Kind() != reflect.Int64 {
		return
	}
	limit := reflect.New(v.Type()).Elem()
	for _, edge := range []string{"min", "max"} {
		text := tag.Get(edge)
		if text == "" {
			continue
		}
		if parse, ok := scalars[v.Type()]; ok {
			_ = parse.into(text, limit)
		} else {
			i, _ := strconv.Atoi(text)
			limit.SetInt(int64(i))
		}
		if edge == "min" && v.Int() < limit.Int() {
			d.wrong(n, field, "%s is too little; at least %s", n.Value, text)
		}
		if edge == "max" && v.Int() > limit.Int() {
			d.wrong(n, field, "%s is too much; at most %s", n.Value, text)
		}
	}
}

func join(field, name string) string {
	if field == "" {
		return name
	}
	return field + "." + name
}

func fieldNames(t reflect.Type) []string {
	var names []string
	for _, f := range fieldsOf(t) {
		names = append(names, f.Tag.Get("yaml"))
	}
	return names
}

func fieldByName(t reflect.Type, name string) (reflect.StructField, bool) {
	for _, f := range fieldsOf(t) {
		if f.Tag.Get("yaml") == name {
			return f, true
		}
	}
	return reflect.StructField{}, false
}

// scalarForm reads one kind of value that stands as a text.
type scalarForm struct {
	what string
	into func(text string, v reflect.Value) error
}

var scalars = map[reflect.Type]scalarForm{
	reflect.TypeFor[time.Duration](): form("a duration like 30s, 15m or 5d", ParseDuration),
	reflect.TypeFor[Size]():          form("a size like 500 KB or 50 MB", ParseSize),
	reflect.TypeFor[netip.Prefix]():  form("a network like 127.20.1.0/24", ParseNetwork),
	reflect.TypeFor[netip.AddrPort](): form("an address with port like 127.0.0.1:2525",
		parseAddrPort),
	reflect.TypeFor[address.Address](): form("an address like keeper@skerryline.example",
		address.Parse),
	reflect.TypeFor[address.Pattern](): form("a pattern like \"*\", a domain or an address",
		address.ParsePattern),
	reflect.TypeFor[DomainName](): form("a domain", func(s string) (DomainName, error) {
		d, err := address.ParseDomain(s)
		return DomainName(d), err
	}),
	reflect.TypeFor[Day]():        form("a day like 2026-11-23", parseDay),
	reflect.TypeFor[netip.Addr](): form("an address like 127.0.0.1", parseAddr),
}

func form[T any](what string, parse func(string) (T, error)) scalarForm {
	return scalarForm{what, func(text string, v reflect.Value) error {
		value, err := parse(text)
		if err == nil {
			v.Set(reflect.ValueOf(value))
		}
		return err
	}}
}

// ParseDuration reads "30s", "15m" or "5d".
func ParseDuration(s string) (time.Duration, error) {
	text, factor := s, time.Duration(1)
	if days, ok := strings.CutSuffix(s, "d"); ok {
		text, factor = days+"h", 24
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is not a duration; write 30s, 15m, 4h or 5d", s)
	}
	return d * factor, nil
}

// ParseSize reads "500 KB" or a number of octets.
func ParseSize(s string) (Size, error) {
	text, factor := strings.TrimSpace(s), Size(1)
	for i, unit := range []string{"KB", "MB", "GB"} {
		if number, ok := strings.CutSuffix(strings.ToUpper(text), unit); ok {
			text = strings.TrimSpace(number)
			for range i + 1 {
				factor *= 1000
			}
			break
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 || n > 1<<50/int64(factor) {
		return 0, fmt.Errorf("%q is not a size; write 500 KB, 50 MB or a number of octets", s)
	}
	return Size(n) * factor, nil
}

// ParseNetwork reads a network in CIDR form, or a single address.
func ParseNetwork(s string) (netip.Prefix, error) {
	if ip, err := netip.ParseAddr(s); err == nil {
		return netip.PrefixFrom(ip, ip.BitLen()), nil
	}
	p, err := netip.ParsePrefix(s)
	if err != nil {
		host, bits, _ := strings.Cut(s, "/")
		if ip, addrErr := netip.ParseAddr(host); addrErr == nil {
			return p, fmt.Errorf(
				"%q has the prefix length %s; for this kind of address 0 to %d are allowed",
				s,
				bits,
				ip.BitLen(),
			)
		}
		return p, fmt.Errorf(
			"%q is not a network; write 127.20.1.0/24, 2001:db8::/32 or a single address",
			s,
		)
	}
	if p.Masked() != p {
		return p, fmt.Errorf("%q has bits beyond its prefix length; did you mean %s?", s,
			p.Masked())
	}
	return p, nil
}

func parseAddrPort(s string) (netip.AddrPort, error) {
	ap, err := netip.ParseAddrPort(s)
	if err != nil {
		return ap, errors.New(
			strconv.Quote(s) + " is not an address with port; write 127.0.0.1:2525 or [::]:25",
		)
	}
	return ap, nil
}
