package config

import (
	"time"

	"gullroute/internal/core/address"
)

// Feedback is what servers report to each other once a day.
type Feedback struct {
	Address *address.Address `yaml:"address" doc:"A mailbox of ours whose messages are read as reports about us, and from which ours are sent; nothing is read or sent if not given"`
	Send    string           `yaml:"send" enum:"on,off" default:"on" doc:"Whether we report to domains that ask for it how mail in their name fared here (DMARC), and how connections to them did (TLS)"`
	Kept    time.Duration    `yaml:"kept" min:"720h" default:"400d" doc:"How long what was reported is kept"`
}
