package wording

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/mail"
)

// History is all that happened to a message, in order: what its rows tell, made
// into events, and the events on record.
func History(m *mail.Message, recorded []mail.Event, node string) []mail.Event {
	history := []mail.Event{received(m, node)}
	for i := range m.Deliveries {
		history = append(history, begun(m, &m.Deliveries[i], node)...)
	}
	history = append(history, recorded...)
	for i := range m.Deliveries {
		if d := &m.Deliveries[i]; d.State.Final() {
			history = append(history, ended(m, d, node))
		}
	}
	slices.SortStableFunc(history, func(a, b mail.Event) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(rank(a.Kind), rank(b.Kind)))
	})
	return history
}

// rank orders events of the same moment.
func rank(k mail.Kind) int {
	switch k {
	case mail.EventReceived:
		return 0
	case mail.EventAllowed:
		return 1
	case mail.EventExpanded:
		return 2
	case mail.EventRouted:
		return 3
	}
	return 4
}

func received(m *mail.Message, node string) mail.Event {
	text := fmt.Sprintf("received from %s (%s) by listener %s", m.ClientAddress, m.Helo, m.Listener)
	if m.MadeHere() {
		text = "made here as a " + m.Protocol
		if m.NoticeOf != 0 {
			text += " about " + m.NoticeOf.String()
		}
	}
	return mail.Event{
		At:        m.ReceivedAt,
		Kind:      mail.EventReceived,
		MessageID: m.ID,
		Node:      node,
		Text:      text,
		Detail: map[string]any{
			"protocol":   m.Protocol,
			"size":       m.Size,
			"session_id": m.SessionID,
			"revision":   m.Revision,
		},
	}
}

// begun is how a delivery came to be: by rule, alias and route.
func begun(m *mail.Message, d *mail.Delivery, node string) []mail.Event {
	event := func(k mail.Kind, text string, detail map[string]any) mail.Event {
		return mail.Event{
			At:        m.ReceivedAt,
			Kind:      k,
			MessageID: m.ID,
			N:         d.N,
			Delivery:  d.ID().String(),
			Node:      node,
			Text:      text,
			Detail:    detail,
		}
	}
	var out []mail.Event
	if !m.MadeHere() {
		out = append(
			out,
			event(mail.EventAllowed, fmt.Sprintf("%s let in by rule %s", d.Original, d.Rule),
				map[string]any{"rule": d.Rule, "revision": m.Revision}),
		)
	}
	if len(d.Via) > 0 {
		out = append(
			out,
			event(mail.EventExpanded, strings.Join(d.Via, " → ")+" → "+d.Recipient,
				map[string]any{"via": d.Via}),
		)
	}
	return append(
		out,
		event(
			mail.EventRouted,
			fmt.Sprintf("by route %s to %s: %s", d.Route, d.NextHop, d.RouteWhy),
			map[string]any{
				"route":    d.Route,
				"next_hop": d.NextHop,
				"lane":     d.LaneID,
				"revision": d.Revision,
			},
		),
	)
}

func ended(m *mail.Message, d *mail.Delivery, node string) mail.Event {
	kind := map[mail.State]mail.Kind{
		mail.Delivered: mail.EventDelivered,
		mail.Bounced:   mail.EventBounced,
		mail.Expired:   mail.EventExpired,
		mail.Discarded: mail.EventBounced,
	}[d.State]
	e := mail.Event{
		At:        d.FinishedAt.Time,
		Kind:      kind,
		MessageID: m.ID,
		N:         d.N,
		Delivery:  d.ID().String(),
		Node:      node,
		Detail:    map[string]any{"attempt": d.Attempts},
	}
	if d.Last != nil {
		e.Text = string(d.Last.Stage) + ": " + d.Last.String()
		e.Detail["reply"] = d.Last
	}
	if d.Cause != "" {
		e.Detail["cause"] = d.Cause
	}
	return e
}
