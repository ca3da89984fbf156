package config

import (
	"os"
	"testing"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
)

func TestTheDemoConfigurationIsSound(t *testing.T) {
	text, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	c, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	k := Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))
	a, err := address.Parse("Søren@BØLGEVIK.example")
	if err != nil {
		t.Fatal(err)
	}
	if a.Domain != "xn--blgevik-q1a.example" || k.Mailbox(a) == nil || a.Display() != "Søren@bølgevik.example" {
		t.Errorf("internationalised mailbox %q (%q) is not found", a.Display(), a.Domain)
	}
}
