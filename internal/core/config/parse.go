package config

import (
	"reflect"

	"gullroute/internal/core/form"
)

// Parse reads and checks a YAML configuration, with or without a directory in
// the same text. The error is Problems.
func Parse(text []byte) (*Config, error) { return parse(text, false) }

// ParseStored reads a configuration that was in force before. What earlier versions took
// and this one no longer does, it still takes: an upgrade must not stop the service.
func ParseStored(text []byte) (*Config, error) { return parse(text, true) }

func parse(text []byte, stored bool) (*Config, error) {
	root, err := form.ParseYAML(text)
	if err != nil {
		return nil, err
	}
	if len(root.Content) == 0 {
		return nil, Problems{
			{
				Line: 1,
				Text: "the configuration is empty; it needs at least service with host_name and " +
					"postmaster",
			},
		}
	}
	oldGates(root)
	c := &Config{}
	if problems := form.Decode(root, c, ""); len(problems) > 0 {
		return nil, problems
	}
	for i := range c.Listeners {
		if c.Listeners[i].GreetingName == "" {
			c.Listeners[i].GreetingName = c.Service.HostName
		}
	}
	if problems := check(c, stored); len(problems) > 0 {
		return nil, problems
	}
	return c, nil
}

// Schema is the JSON Schema of a configuration.
func Schema() map[string]any {
	s := form.JSONSchema(reflect.TypeFor[Config]())
	s["title"] = "Configuration of Gull Route"
	return s
}
