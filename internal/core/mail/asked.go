package mail

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Demands are what the sender of a message asks of everybody who passes it on.
type Demands struct {
	// TLS: only to hosts that are known by more than their word, and ask the same of others
	// (REQUIRETLS, RFC 8689).
	TLS bool `json:"tls,omitempty" doc:"Only by TLS with hosts that are known (REQUIRETLS)"`
	// Priority is from -9 to 9 (MT-PRIORITY, RFC 6710).
	Priority int `json:"priority,omitempty" doc:"From -9 to 9 (MT-PRIORITY)"`
	// By is when it is to have arrived, or else go back (DELIVERBY, RFC 2852).
	By *time.Time `json:"by,omitempty" doc:"When it is to have arrived (DELIVERBY)"`
	// Tell says that the sender is only told then, and it goes on.
	Tell bool `json:"tell,omitempty" doc:"Its sender is told then, and it goes on"`
}

// Nothing reports that nothing is asked.
func (a Demands) Nothing() bool { return !a.TLS && a.Priority == 0 && a.By == nil }

// String writes it in words with a blank between, as it is kept.
func (a Demands) String() string {
	var words []string
	if a.TLS {
		words = append(words, "tls")
	}
	if a.Priority != 0 {
		words = append(words, fmt.Sprintf("priority=%d", a.Priority))
	}
	if a.By != nil {
		word := "by="
		if a.Tell {
			word = "tell="
		}
		words = append(words, word+a.By.UTC().Format(time.RFC3339))
	}
	return strings.Join(words, " ")
}

// ParseAsked reads what String writes.
func ParseAsked(text string) (a Demands, err error) {
	for _, w := range strings.Fields(text) {
		key, value, _ := strings.Cut(w, "=")
		switch key {
		case "tls":
			a.TLS = true
		case "priority":
			if a.Priority, err = strconv.Atoi(value); err != nil {
				return a, err
			}
		case "by", "tell":
			at, err := time.Parse(time.RFC3339, value)
			if err != nil {
				return a, err
			}
			a.By, a.Tell = &at, key == "tell"
		}
	}
	return a, nil
}
