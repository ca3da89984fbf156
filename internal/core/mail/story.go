package mail

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Story is all that happened to a message, in order: what its rows tell, made
// into events, and the events on record.
func (m *Message) Story(recorded []Event, node string) []Event {
	story := []Event{m.received(node)}
	for i := range m.Deliveries {
		story = append(story, m.begun(&m.Deliveries[i], node)...)
	}
	story = append(story, recorded...)
	for i := range m.Deliveries {
		if d := &m.Deliveries[i]; d.State.Final() {
			story = append(story, m.ended(d, node))
		}
	}
	slices.SortStableFunc(story, func(a, b Event) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(rank(a.Kind), rank(b.Kind)))
	})
	return story
}

// rank orders events of the same moment.
func rank(k Kind) int {
	switch k {
	case EventReceived:
		return 0
	case EventAllowed:
		return 1
	case EventExpanded:
		return 2
	case EventRouted:
		return 3
	}
	return 4
}

func (m *Message) received(node string) Event {
	text := fmt.Sprintf("received from %s (%s) by listener %s", m.ClientAddress, m.Helo, m.Listener)
	if m.MadeHere() {
		text = "made here as a " + m.Protocol
		if m.NoticeOf != 0 {
			text += " about " + m.NoticeOf.String()
		}
	}
	return Event{
		At:        m.ReceivedAt,
		Kind:      EventReceived,
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
func (m *Message) begun(d *Delivery, node string) []Event {
	event := func(k Kind, text string, detail map[string]any) Event {
		return Event{
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
	var out []Event
	if !m.MadeHere() {
		out = append(
			out,
			event(EventAllowed, fmt.Sprintf("%s let in by rule %s", d.Original, d.Rule),
				map[string]any{"rule": d.Rule, "revision": m.Revision}),
		)
	}
	if len(d.Via) > 0 {
		out = append(
			out,
			event(EventExpanded, strings.Join(d.Via, " → ")+" → "+d.Recipient,
				map[string]any{"via": d.Via}),
		)
	}
	return append(
		out,
		event(
			EventRouted,
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

func (m *Message) ended(d *Delivery, node string) Event {
	kind := map[State]Kind{Delivered: EventDelivered, Bounced: EventBounced, Expired: EventExpired,
		Discarded: EventBounced}[d.State]
	e := Event{
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
