package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gullroute/internal/core/form"
)

// fieldFlags makes a flag of every field of a record, inner records' too, and
// gives back what was set as the fields of a change.
type fieldFlags struct {
	fields []form.Field
	unset  []string
}

// flagName is the flag of a field: message_size in limits is --limits-message-size.
// names are those of all fields, as show prints them.
func (f *fieldFlags) names() []string {
	var out []string
	f.each(nil, f.fields,
		func(path []string, _ form.Field) { out = append(out, strings.Join(path, ".")) })
	return out
}

func flagName(path []string) string {
	return strings.ReplaceAll(strings.Join(path, "-"), "_", "-")
}

// add adds the flags to a command. skip are fields that have another way in.
func (f *fieldFlags) add(c *cobra.Command, fields []form.Field, skip ...string) {
	f.fields = slices.DeleteFunc(slices.Clone(fields),
		func(x form.Field) bool { return slices.Contains(skip, x.Name) })
	f.each(nil, f.fields, func(path []string, x form.Field) {
		name, help := flagName(path), describe(x)
		switch x.Type {
		case "list":
			if x.Whole {
				c.Flags().StringArray(name, nil, help+"; for several, the flag again")
				break
			}
			c.Flags().StringSlice(name, nil, help+"; several with commas, or the flag again")
		case "yes_no":
			c.Flags().Bool(name, false, help)
		default:
			c.Flags().String(name, "", help)
		}
		if len(x.Allowed) > 0 {
			_ = c.RegisterFlagCompletionFunc(name,
				cobra.FixedCompletions(x.Allowed, cobra.ShellCompDirectiveNoFileComp))
		}
	})
}

func describe(x form.Field) string {
	parts := []string{}
	if x.Doc != "" {
		parts = append(parts, x.Doc)
	}
	if len(x.Allowed) > 0 {
		parts = append(parts, "one of "+strings.Join(x.Allowed, ", "))
	} else if x.Form != "" {
		parts = append(parts, strings.ReplaceAll(x.Form, "_", " "))
	}
	if x.Default != "" {
		parts = append(parts, "default "+x.Default)
	}
	return strings.Join(parts, "; ")
}

func (f *fieldFlags) each(path []string, fields []form.Field, do func([]string, form.Field)) {
	for _, x := range fields {
		at := append(slices.Clone(path), x.Name)
		if x.Type == "record" {
			f.each(at, x.Fields, do)
			continue
		}
		if x.Type != "records" {
			do(at, x)
		}
	}
}

// given are the fields that were set, as JSON has them. before are those an item
// has: inner records are merged into theirs.
func (f *fieldFlags) given(flags *pflag.FlagSet, before map[string]any) (map[string]any, error) {
	out := map[string]any{}
	var err error
	f.each(nil, f.fields, func(path []string, x form.Field) {
		name := flagName(path)
		if !flags.Changed(name) || err != nil {
			return
		}
		put(out, before, path, value(flags, name, x))
	})
	for _, name := range f.unset {
		found := false
		want := flagName(
			strings.Split(name, "."),
		) // as a flag, and as show prints it: retry.back_off
		f.each(nil, f.fields, func(path []string, _ form.Field) {
			if flagName(path) == want {
				put(out, before, path, nil)
				found = true
			}
		})
		for _, x := range f.fields { // a whole record
			if (x.Type == "record" || x.Type == "records") && flagName([]string{x.Name}) == want {
				out[x.Name] = nil
				found = true
			}
		}
		if !found {
			err = usage("--unset %s: there is no such field; there are %s", name,
				strings.Join(f.names(), ", "))
		}
	}
	return out, err
}

func value(flags *pflag.FlagSet, name string, x form.Field) any {
	switch x.Type {
	case "list":
		list, _ := flags.GetStringSlice(name)
		if x.Whole {
			list, _ = flags.GetStringArray(name)
		}
		out := []any{}
		for _, v := range list {
			if v != "" {
				out = append(out, v)
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case "yes_no":
		v, _ := flags.GetBool(name)
		if !v {
			return nil
		}
		return true
	case "number":
		v, _ := flags.GetString(name)
		if _, err := strconv.Atoi(v); err == nil {
			return json.Number(v)
		}
		return v // the service says what is wrong with it
	}
	v, _ := flags.GetString(name)
	if v == "" {
		return nil
	}
	return v
}

// put writes a value at a path, into copies of the records that stand there. A record that
// is left empty is taken out.
func put(out, before map[string]any, path []string, v any) {
	if len(path) == 1 {
		out[path[0]] = v
		return
	}
	old, _ := before[path[0]].(map[string]any)
	inner, ok := out[path[0]].(map[string]any)
	if !ok {
		inner = maps.Clone(old)
		if inner == nil {
			inner = map[string]any{}
		}
	}
	put(inner, old, path[1:], v)
	if inner[path[1]] == nil {
		delete(inner, path[1])
	}
	if out[path[0]] = inner; len(inner) == 0 {
		out[path[0]] = nil
	}
}

// showFields prints a record for people, field by field, and those within it.
func (a *app) showFields(fields []form.Field, values map[string]any, words func(any) string) {
	a.showInner("", fields, values, words)
}

func (a *app) showInner(at string, fields []form.Field, values map[string]any, words func(any) string) {
	for _, x := range fields {
		v, ok := values[x.Name]
		inner, record := v.(map[string]any)
		switch {
		case ok && x.Type == "record" && record:
			a.showInner(at+x.Name+".", x.Fields, inner, words)
		case ok:
			fmt.Fprintf(a.out, "%-24s %s\n", at+x.Name, words(v))
		}
	}
}
