package feed

import (
	"testing"

	"gullroute/internal/core/mail"
)

func TestASlowWatcherIsToldWhatItMissedAndHoldsUpNobody(t *testing.T) {
	h := NewHub()
	if h.Watched() {
		t.Error("nobody watches yet")
	}
	slow, fast := h.Watch(), h.Watch()
	got := 0
	for range depth + 10 {
		h.Publish(Event{Event: mail.Event{Kind: mail.EventDelivered}})
		<-fast.C
		got++
	}
	if got != depth+10 || len(slow.C) != depth || slow.Lost() != 10 || slow.Lost() != 0 {
		t.Errorf("fast got %d, slow holds %d", got, len(slow.C))
	}
	slow.Close()
	fast.Close()
	h.Publish(Event{})
	if h.Watched() || len(fast.C) != 0 {
		t.Error("a closed watcher still gets events")
	}
}
