package config

import (
	"os"
	"testing"

	"gullroute/internal/core/directory"
)

// FuzzConfig gives any text to the reader of configurations: it is refused with lines,
// or it can be put in force and edited without a change.
func FuzzConfig(f *testing.F) {
	demo, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(demo))
	for _, text := range []string{"", "service: {}",
		"service: {host_name: a.example, postmaster: b@a.example}\nroutes: [{name: x, next_hop: smarthost, " +
			"hosts: [\"h:1\"], weights: [1]}]\n", "a: &a [*a]", "service: !!binary x", "? - a", "service:\n  retry: {intervals: [1s, -1s]}\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse([]byte(text))
		if err != nil {
			if err.Error() == "" {
				t.Errorf("%q is refused without a word", text)
			}
			return
		}
		Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)).Hazards()
		HideWebhooks(text)
	})
}
