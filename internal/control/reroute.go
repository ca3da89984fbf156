package control

import (
	"context"
	"log/slog"
	"sync"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/engine/queue"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Rerouter plans deliveries that wait anew when another revision is in force.
type Rerouter struct {
	Waiting store.Queue
	InForce *inforce.State
	Queue   *queue.Queue
	Running context.Context // that the service runs in
	Log     *slog.Logger

	mu   sync.Mutex
	stop context.CancelFunc // ends the planning under way
}

// reroutePage is how many waiting deliveries are looked at in one step.
const reroutePage = 1000

// start plans waiting deliveries anew in the background, so that those whose
// way changed leave their lane immediately.
func (s *Rerouter) start() {
	s.mu.Lock()
	if s.stop != nil {
		s.stop() // a later revision is in force
	}
	ctx, cancel := context.WithCancel(s.Running)
	s.stop = cancel
	cfg := s.InForce.Config()
	s.mu.Unlock()
	go func() {
		defer cancel()
		after, moved := mail.DeliveryID{}, int64(0)
		for ctx.Err() == nil {
			page, err := s.Waiting.PlannedBefore(ctx, cfg.Revision, after, reroutePage)
			if err == nil {
				var n int64
				n, after, err = s.page(ctx, cfg, page, after)
				moved += n
			}
			if err != nil {
				if ctx.Err() == nil {
					s.Log.Error(
						"waiting messages could not be planned anew; they will be at their next "+
							"attempt",
						"error",
						err,
					)
				}
				return
			}
			if len(page) < reroutePage {
				break
			}
		}
		if moved > 0 {
			s.Log.Info("waiting messages go by another route", "deliveries", moved,
				"revision", cfg.Revision)
			s.Queue.Wake()
		}
	}()
}

// stranded sends on what waited for a route and has one now. What has none still
// is left alone: an attempt would find out nothing new.
func (s *Rerouter) stranded(ctx context.Context) (moved int64, err error) {
	cfg, after := s.InForce.Config(), mail.DeliveryID{}
	for {
		page, err := s.Waiting.Stranded(ctx, config.RouteNone, after, reroutePage)
		if err != nil {
			return moved, err
		}
		var n int64
		if n, after, err = s.page(ctx, cfg, page, after); err != nil {
			return moved, err
		}
		if moved += n; len(page) < reroutePage {
			break
		}
	}
	if moved > 0 {
		s.Queue.Wake()
	}
	return moved, nil
}

func (s *Rerouter) page(
	ctx context.Context,
	cfg *config.Compiled,
	page []store.Due,
	after mail.DeliveryID,
) (int64, mail.DeliveryID, error) {
	var moved []*mail.Delivery
	for i := range page {
		d := &page[i].Delivery
		after = d.ID()
		envelope := plan.Envelope(page[i].Sender, page[i].Account, page[i].Client, page[i].Listener,
			page[i].Size)
		if changed, fault := plan.Again(cfg, envelope, d); !changed || fault != nil {
			continue
		}
		moved = append(moved, d)
	}
	n, err := s.Waiting.Reroute(ctx, moved)
	return n, after, err
}
