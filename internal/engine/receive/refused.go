package receive

import (
	"sync"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/rehearse"
)

// maxRefused bounds how many refused envelopes are remembered.
const maxRefused = 5000

// refusals are the last envelopes that were refused at RCPT, to rehearse a draft
// with: what it would newly allow shows on them. They are kept in memory only.
type refusals struct {
	mu   sync.Mutex
	list []rehearse.Envelope
	next int
}

func (r *refusals) add(e config.Envelope, to address.Address) {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := rehearse.Envelope{Envelope: e, Recipients: []address.Address{to}}
	if len(r.list) < maxRefused {
		r.list = append(r.list, one)
		return
	}
	r.list[r.next] = one
	r.next = (r.next + 1) % maxRefused
}

// Refused are the last envelopes that this node refused.
func (s *Server) Refused() []rehearse.Envelope {
	s.refused.mu.Lock()
	defer s.refused.mu.Unlock()
	return append([]rehearse.Envelope{}, s.refused.list...)
}
