package cluster

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// Nodes tell each other what happens only while somebody watches: who watches asks
// for it again and again, and the others give while they are asked.
const (
	askEvery   = 3 * time.Second
	giveFor    = 3 * askEvery
	giveEvery  = 200 * time.Millisecond
	maxGiven   = 20   // notices at a time; what is beyond is counted as missed
	givenTexts = 5500 // octets of events in one notice
)

// Kinds of notices between nodes that are not for keeping.
const (
	noticeAsk  = "live-ask"
	noticeLive = "live"
)

// Share asks other nodes for what happens there while somebody watches here, and
// gives them what happens here while they ask.
func (c *Cluster) Share(ctx context.Context) {
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	give := time.NewTicker(giveEvery)
	defer give.Stop()
	var own *feed.Watcher
	var until time.Time
	ask := func() {
		if c.Hub.AllWatched() {
			_ = c.Notices.Say(ctx, store.Notice{Kind: noticeAsk, Node: c.Node}) // asked again soon
		}
	}
	for {
		select {
		case <-ctx.Done():
			if own != nil {
				own.Close()
			}
			return
		case <-c.Hub.First:
			ask()
		case <-tick.C:
			ask()
		case <-c.asked:
			if until = time.Now().Add(giveFor); own == nil {
				own = c.Hub.Watch()
			}
		case now := <-give.C:
			if own == nil {
				continue
			}
			c.give(ctx, own)
			if now.After(until) {
				own.Close()
				own = nil
			}
		}
	}
}

// give tells the other nodes what happened here since it last did, and how much of
// it they are not told.
func (c *Cluster) give(ctx context.Context, own *feed.Watcher) {
	lost, sent, size := own.Lost(), 0, 0
	var texts []json.RawMessage
	send := func() {
		if len(texts) > 0 &&
			c.Notices.Say(ctx, store.Notice{Kind: noticeLive, Node: c.Node, Live: texts}) != nil {
			lost += len(texts)
		}
		texts, size = nil, 0
		sent++
	}
	add := func(event feed.Event) {
		text, err := json.Marshal(event)
		if err == nil && len(text) > givenTexts {
			event.Detail = nil
			text, err = json.Marshal(event)
		}
		if err != nil || len(text) > givenTexts || sent >= maxGiven {
			lost++
			return
		}
		if size+len(text) > givenTexts {
			send()
		}
		texts, size = append(texts, text), size+len(text)
	}
	for range len(own.C) {
		if event := <-own.C; event.Kind != EventSetup { // others follow that themselves
			add(event)
		}
	}
	if send(); lost > 0 {
		sent = 0
		add(feed.Event{
			Event: mail.Event{
				At:   time.Now().UTC(),
				Kind: feed.EventLost,
				Node: c.Node,
				Text: fmt.Sprintf("%d events of node %s were missed", lost, c.Node),
			},
		})
		send()
	}
}

// heard takes what another node asks or tells.
func (c *Cluster) heard(n store.Notice) {
	if n.Node == c.Node {
		return
	}
	if n.Kind == noticeAsk {
		select {
		case c.asked <- struct{}{}:
		default:
		}
		return
	}
	for _, text := range n.Live {
		var event feed.Event
		if json.Unmarshal(text, &event) == nil {
			c.Hub.PassOn(event)
		}
	}
}

// TellMail tells the other nodes that something changed in mailboxes: who has them open there
// looks. Too many to name stand for all of them.
func (c *Cluster) TellMail(ctx context.Context, mailboxes []string) {
	if c.Alone(ctx) {
		return
	}
	if err := c.Notices.Tell(ctx, "mail", mailboxes); err != nil {
		c.Log.Warn("other nodes could not be told of mail", "error", err)
	}
}
