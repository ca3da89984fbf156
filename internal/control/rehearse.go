package control

import (
	"context"
	"reflect"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/store"
)

// rehearsalPage is how many envelopes are read together.
const rehearsalPage = 500

// Rehearse replays the last messages, as many of the waiting ones, and what this
// node refused lately, through what is in force and the draft. progress is told of parts
// between 0 and 1.
func (s *Drafts) Rehearse(
	ctx context.Context,
	messages int,
	progress func(float64),
) (rehearse.Report, error) {
	_, draft, err := s.Compiled(ctx)
	if err != nil {
		return rehearse.Report{}, err
	}
	return s.rehearse(ctx, draft, messages, progress)
}

func (s *Drafts) rehearse(
	ctx context.Context,
	draft *config.Compiled,
	messages int,
	progress func(float64),
) (rehearse.Report, error) {
	inForce := s.InForce.Config()
	r := rehearse.New(inForce, draft)
	contents := 0
	if gatesDiffer(inForce, draft) {
		contents = maxContents
	}
	for _, refused := range s.Refused() {
		r.Add(refused)
	}
	done := 0
	for before := ident.ID(0); done < messages; {
		page, err := s.Messages.RecentEnvelopes(ctx, before, min(rehearsalPage, messages-done))
		if err != nil {
			return rehearse.Report{}, err
		}
		for _, m := range page {
			e := envelopeOf(m)
			if contents > 0 {
				if content, err := s.Messages.OpenContent(ctx, m.ID); err == nil {
					e.Content, contents = rehearse.NewContent(content), contents-1
				}
			}
			r.Add(e)
			before = m.ID
		}
		done += len(page)
		progress(0.5 * float64(done) / float64(messages))
		if len(page) < rehearsalPage {
			break
		}
	}
	after := mail.DeliveryID{}
	for waiting := 0; waiting < messages; {
		page, err := s.Waiting.PlannedBefore(ctx, 1<<30, after, rehearsalPage)
		if err != nil {
			return rehearse.Report{}, err
		}
		for i := range page {
			d := &page[i]
			to, err := address.Parse(d.Delivery.Recipient)
			if err != nil {
				continue
			}
			r.Add(rehearse.Envelope{
				Envelope:   plan.Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size),
				ID:         d.Delivery.ID().String(),
				Recipients: []address.Address{to},
				Waiting:    true,
			})
			after = d.Delivery.ID()
		}
		waiting += len(page)
		progress(0.5 + 0.5*float64(waiting)/float64(messages))
		if len(page) < rehearsalPage {
			break
		}
	}
	progress(1)
	return r.Report(), nil
}

// maxContents bounds how many messages are read for gates that differ.
const maxContents = 500

// gatesDiffer reports that a message may meet other gates.
func gatesDiffer(a, b *config.Compiled) bool {
	return !reflect.DeepEqual(a.Config.Gates, b.Config.Gates) ||
		!reflect.DeepEqual(a.Config.Lists, b.Config.Lists)
}

func envelopeOf(m store.Envelope) rehearse.Envelope {
	e := rehearse.Envelope{
		Envelope: plan.Envelope(m.Sender, m.Account, m.Client, m.Listener, m.Size),
		ID:       m.ID.String(),
		Identity: m.Identity,
		At:       m.ID.Time(),
	}
	for _, text := range m.Recipients {
		if strings.EqualFold(text, "postmaster") {
			e.Recipients = append(e.Recipients, address.Address{Local: "postmaster"})
		} else if a, err := address.Parse(text); err == nil {
			e.Recipients = append(e.Recipients, a)
		}
	}
	return e
}
