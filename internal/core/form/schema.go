package form

import (
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Field is what a page or a program needs to know of one field.
type Field struct {
	Name     string   `json:"name"`
	Type     string   `json:"type" enum:"text,number,yes_no,list,record,records"`
	Form     string   `json:"form,omitempty" doc:"What a text stands for: domain, address, pattern, network, size, duration …"`
	Doc      string   `json:"doc,omitempty"`
	Required bool     `json:"required,omitempty"`
	Default  string   `json:"default,omitempty"`
	Allowed  []string `json:"allowed,omitempty"`
	Whole    bool     `json:"whole,omitempty" doc:"Of a list: an item may hold commas"`
	Fields   []Field  `json:"fields,omitempty" doc:"Of a record"`
}

// forms name what a scalar stands for.
var forms = map[string]string{
	"Duration":   "duration",
	"Size":       "size",
	"Prefix":     "network",
	"AddrPort":   "address_port",
	"Addr":       "ip",
	"Address":    "address",
	"Pattern":    "pattern",
	"DomainName": "domain",
	"Day":        "day",
}

// FieldsOf describes the fields of a struct type, in order.
func FieldsOf(t reflect.Type) []Field {
	var out []Field
	for _, f := range fieldsOf(t) {
		out = append(out, describe(f.Tag.Get("yaml"), f.Type, f.Tag))
	}
	return out
}

func describe(name string, t reflect.Type, tag reflect.StructTag) Field {
	field := Field{
		Name:     name,
		Doc:      tag.Get("doc"),
		Required: tag.Get("required") != "",
		Default:  tag.Get("default"),
		Whole:    tag.Get("whole") != "",
	}
	if enum := tag.Get("enum") + tag.Get("each"); enum != "" {
		field.Allowed = strings.Split(enum, ",")
	}
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	_, scalar := scalars[t]
	switch {
	case scalar:
		field.Type, field.Form = "text", forms[t.Name()]
	case t.Kind() == reflect.Struct:
		field.Type, field.Fields = "record", FieldsOf(t)
	case t.Kind() == reflect.Slice:
		field.Type = "list"
		item := t.Elem()
		if _, scalar := scalars[item]; scalar {
			field.Form = forms[item.Name()]
		} else if item.Kind() == reflect.Struct {
			field.Type, field.Fields = "records", FieldsOf(item)
		}
	case t.Kind() == reflect.Bool:
		field.Type = "yes_no"
	case t.Kind() == reflect.Int:
		field.Type = "number"
	default:
		field.Type = "text"
	}
	return field
}

// JSONSchema is the JSON Schema (2020-12) of a struct type.
func JSONSchema(t reflect.Type) map[string]any {
	s := objectSchema(t)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	return s
}

func objectSchema(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	for _, f := range fieldsOf(t) {
		name := f.Tag.Get("yaml")
		p := typeSchema(f.Type, f.Tag)
		if doc := f.Tag.Get("doc"); doc != "" {
			p["description"] = doc
		}
		if def, ok := f.Tag.Lookup("default"); ok {
			p["default"] = def
			if n, err := strconv.Atoi(def); err == nil && p["type"] == "integer" {
				p["default"] = n
			}
		}
		if f.Tag.Get("required") != "" {
			required = append(required, name)
		}
		properties[name] = p
	}
	s := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		s["required"] = required
	}
	return s
}

func typeSchema(t reflect.Type, tag reflect.StructTag) map[string]any {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if form, ok := scalars[t]; ok {
		s := map[string]any{"type": "string", "examples": []string{form.what}}
		if t == reflect.TypeFor[Size]() || t == reflect.TypeFor[time.Duration]() {
			s["type"] = []string{"string", "integer"}
		}
		return s
	}
	s := map[string]any{}
	switch t.Kind() {
	case reflect.Struct:
		return objectSchema(t)
	case reflect.Slice:
		s["type"] = "array"
		s["items"] = typeSchema(t.Elem(), reflect.StructTag(`enum:"`+tag.Get("each")+`"`))
	case reflect.Bool:
		s["type"] = "boolean"
	case reflect.Int:
		s["type"] = "integer"
		for edge, word := range map[string]string{"min": "minimum", "max": "maximum"} {
			if n, err := strconv.Atoi(tag.Get(edge)); err == nil {
				s[word] = n
			}
		}
	default:
		s["type"] = "string"
		if enum := tag.Get("enum"); enum != "" {
			s["enum"] = strings.Split(enum, ",")
		}
	}
	return s
}

// Shown are the fields of T but those named.
func Shown[T any](hidden ...string) []Field {
	return slices.DeleteFunc(FieldsOf(reflect.TypeFor[T]()),
		func(f Field) bool { return slices.Contains(hidden, f.Name) })
}
