package rehearse

import (
	"bufio"
	"bytes"
	"io"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/route"
	"gullroute/internal/core/senderauth"
)

// Content is a message's content, read when a gate asks for it, and once.
type Content struct {
	br     *bufio.Reader
	header message.Header
	report *parts.Report
	read   bool
}

// NewContent is the content that a reader gives.
func NewContent(r io.Reader) *Content {
	c := &Content{br: bufio.NewReaderSize(r, message.MaxHeader)}
	head, _ := c.br.Peek(message.MaxHeader)
	section, _ := message.SplitHeader(head)
	c.header = message.ParseHeader(bytes.Clone(section))
	return c
}

// parts takes it apart.
func (c *Content) parts() *parts.Report {
	if !c.read {
		c.read = true
		report, err := parts.Scan(c.br, parts.Options{Text: true, Files: true})
		if err != nil {
			report = &parts.Report{Wrong: []string{"it could not be read: " + err.Error()}}
		}
		c.report = report
	}
	return c.report
}

// GateMessage is what gates are asked with about an envelope, with its content or without.
func GateMessage(
	c *config.Compiled,
	e config.Envelope,
	content *Content,
	identity *senderauth.Assessment,
	at time.Time,
) *gate.Message {
	m := &gate.Message{
		Listener: e.Listener,
		Client:   e.Client,
		Account:  e.Account,
		Sender:   e.Sender,
		Ours:     func(domain string) bool { return c.Domain(domain) != nil },
		At:       at,
		Size:     e.Size,
		Identity: identity,
	}
	if l := c.Listener(e.Listener); l != nil {
		m.Trusted = l.Kind == config.Submission || l.Kind == config.Inside
	}
	if content != nil {
		m.Late, m.Header, m.Parts = true, content.header, content.parts
	}
	return m
}

// GateRecipient is a recipient as gates are asked about it.
func GateRecipient(to address.Address, legs []route.Leg) gate.Recipient {
	r := gate.Recipient{Given: to}
	for _, leg := range legs {
		if leg.Recipient.Key() != to.Key() {
			r.Finals = append(r.Finals, leg.Recipient)
		}
	}
	return r
}
