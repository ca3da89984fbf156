package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"gullroute/internal/control"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/engine/feed"
)

// serveLive streams events as they happen (server-sent events). ?message= asks
// for those of one message only.
func (s *Service) serveLive(c fiber.Ctx) error {
	watching, err := s.require(c, "live")
	if err != nil {
		return err
	}
	hide := s.maskFor(watching)
	authorization, cookie := c.Get("Authorization"), c.Cookies(Cookie)
	from := c.IP()
	identify := func() (w who, err error) {
		ctx, cancel := context.WithTimeout(s.running, beatEvery)
		defer cancel()
		return s.identify(ctx, authorization, cookie, from)
	}
	var only ident.ID
	if text := c.Query("message"); text != "" {
		id, err := ident.Parse(text)
		if err != nil {
			return fiber.NewError(fiber.StatusUnprocessableEntity, "message: "+err.Error())
		}
		only = id
	}
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-cache")
	c.Set("X-Accel-Buffering", "no")
	credential := strings.TrimPrefix(authorization, "Bearer ")
	if credential == authorization {
		credential = cookie
	}
	one, err := s.live.begin(watching.Name, string(control.HashSecret(credential)))
	if err != nil {
		return err
	}
	w := s.Hub.WatchAll()
	_ = c.RequestCtx().Conn().SetWriteDeadline(time.Time{})
	return c.SendStreamWriter(func(bw *bufio.Writer) {
		defer w.Close()
		defer s.live.leave(watching.Name, one)
		stream(
			bw,
			w,
			only,
			watching.Domains,
			hide,
			one.end,
			func() bool { return s.still(watching, identify) },
		)
	})
}

// beatEvery is how often a silent stream shows that it lives.
const beatEvery = 10 * time.Second

// beat is an event without content. A comment would not do: a browser does not show it to
// the page, which could not tell a silent stream from one that is cut.
const beat = ": here\nevent: beat\ndata:\n\n"

// stream writes until the client is gone, its sign-in ends, or, which is asked with
// every beat, it may no longer watch.
func stream(
	bw *bufio.Writer,
	w *feed.Watcher,
	only ident.ID,
	within rights.Bounds,
	hide mask,
	end <-chan struct{},
	still func() bool,
) {
	beats := time.NewTicker(beatEvery)
	defer beats.Stop()
	write := func(e feed.Event) {
		if only != 0 && e.MessageID != only || !sees(within, &e) {
			return
		}
		text, err := json.Marshal(e)
		if err == nil {
			fmt.Fprintf(bw, "event: %s\ndata: %s\n\n", e.Kind, hide.json(text))
		}
	}
	fmt.Fprint(bw, beat)
	for bw.Flush() == nil {
		select {
		case e := <-w.C:
			write(e)
			for more := len(w.C); more > 0; more-- {
				write(<-w.C)
			}
		case <-end:
			return
		case <-beats.C:
			if !still() {
				return
			}
			fmt.Fprint(bw, beat)
		}
		if n := w.Lost(); n > 0 {
			e := feed.Event{
				Event: mail.Event{
					At:   time.Now().UTC(),
					Kind: feed.EventLost,
					Text: fmt.Sprintf("%d events were missed", n),
				},
			}
			text, _ := json.Marshal(e)
			fmt.Fprintf(bw, "event: %s\ndata: %s\n\n", feed.EventLost, text)
		}
	}
}
