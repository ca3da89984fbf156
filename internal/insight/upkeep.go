package insight

import (
	"context"
	"slices"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/review"
	"gullroute/internal/store"
)

// endsSoon is how long before its end a certificate needs somebody.
const endsSoon = 30 * 24 * time.Hour

// Upkeep is what ends or fills up by itself.
func (s *Reviewer) Upkeep(ctx context.Context) (api.Upkeep, error) {
	u := api.Upkeep{Endings: []api.Ending{}, Rooms: []api.Room{}}
	now := time.Now()
	for _, c := range s.Receive.Shown() {
		if c.Own {
			continue // it is made anew at each start, and the review tells of it
		}
		e := api.Ending{
			Kind:  "certificate",
			What:  "listener " + c.Listener,
			Until: c.Until,
			Soon:  c.Until.Before(now.Add(endsSoon)),
			Fix:   "put the new certificate into its file: it is taken up by itself",
		}
		if !c.Fits {
			e.Soon, e.Note = true, "it is not for the listener's name"
		}
		u.Endings = append(u.Endings, e)
	}
	keys, err := s.Keys.List(ctx, "")
	if err != nil {
		return u, err
	}
	for _, k := range keys {
		if k.State != mail.KeySigning {
			continue
		}
		until := k.MadeAt.Add(review.OldKey)
		u.Endings = append(u.Endings, api.Ending{
			Kind:  "signing-key",
			What:  k.Domain + ", " + k.Selector,
			Until: until,
			Soon:  until.Before(now),
			Note:  k.Fault,
			Fix:   "gull dkim rotate " + k.Domain,
		})
	}
	slices.SortStableFunc(u.Endings, func(a, b api.Ending) int { return a.Until.Compare(b.Until) })
	rooms := store.Machines{DB: s.DB}
	if d, ok := diskOf(s.SpoolDir); ok {
		room := api.Room{
			What: "the disk of the spool",
			Size: d.Size - d.Free,
			Free: d.Free,
			Used: d.Used,
			Soon: d.Used >= review.NearlyFull,
		}
		f, err := rooms.Foresee(ctx, placeOn(s.InForce.Node, s.SpoolDir))
		if err != nil {
			return u, err
		}
		u.Rooms = append(u.Rooms, foretold(room, f))
	}
	size, err := s.DB.Size(ctx)
	if err != nil {
		return u, err
	}
	f, err := rooms.Foresee(ctx, "the database")
	u.Rooms = append(u.Rooms, foretold(api.Room{What: "the database", Size: size}, f))
	return u, err
}

// foretold adds to a room how fast it fills.
func foretold(r api.Room, f *machine.Forecast) api.Room {
	if f == nil {
		return r
	}
	r.PerDay = f.PerDay
	if f.Full {
		r.FullDays = max(1, int(f.FullIn.Hours()/24))
		r.Soon = r.Soon || f.Soon()
	}
	return r
}

// diskOf tells how full the disk of a directory is.
func diskOf(dir string) (d review.Disk, ok bool) {
	p := diskAt(machine.Place{Dir: dir})
	if p.Size == 0 {
		return d, false
	}
	return review.Disk{
		What: "the disk of " + dir,
		Dir:  dir,
		Used: 1 - float64(p.Free)/float64(p.Size),
		Free: p.Free,
		Size: p.Size,
	}, true
}
