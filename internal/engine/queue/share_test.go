package queue

import (
	"fmt"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/route"
)

// Limits of a lane hold over all nodes that deliver by its route: each has its share.
func TestNodesShareWhatAHostTakes(t *testing.T) {
	shares := func(r *config.Route, running ...string) string {
		var list []string
		for _, name := range running {
			h := newHeart(&base{Options: Options{Name: name}})
			h.running.Store(&running)
			at, of := h.share(r)
			list = append(list, fmt.Sprint(portion(r.Connections, at, of)))
		}
		return fmt.Sprint(list)
	}
	for want, got := range map[string]string{
		"[10]":    shares(&config.Route{Connections: 10}, "shore"),
		"[5 5]":   shares(&config.Route{Connections: 10}, "reef", "shore"),
		"[2 1 1]": shares(&config.Route{Connections: 4}, "pier", "reef", "shore"),
		"[1 1]":   shares(&config.Route{Connections: 1}, "reef", "shore"),
		"[4 4 3]": shares( // pier delivers nothing by it
			&config.Route{Connections: 7, Nodes: []string{"reef", "shore"}}, "pier", "reef", "shore"),
	} {
		if got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	h := newHeart(&base{Options: Options{Name: "shore"}})
	if at, of := h.share(&config.Route{}); at != 0 || of != 1 {
		t.Errorf("before the first heartbeat: %d of %d", at, of)
	}
	l, now := newLane(1, "mx.saltmarsh.example:25", time.Now()), time.Now()
	l.way.Store(&way{route: &config.Route{}, terms: route.Terms{MessagesPerMinute: 60}, nodes: 3})
	l.nextSlot(now)
	if wait := l.nextSlot(now).Sub(now); wait != 3*time.Second {
		t.Errorf("of 60 a minute by three nodes, this one's next goes after %s", wait)
	}
}
