package simnet

import (
	"crypto/tls"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"
)

// keepMessages is how many messages a host keeps to look at.
const keepMessages = 2000

// Message is one that a host took.
type Message struct {
	N          int       `json:"n"`
	At         time.Time `json:"at"`
	Client     string    `json:"client"`
	Helo       string    `json:"helo"`
	Sender     string    `json:"sender"`
	Parameters string    `json:"parameters"` // of MAIL
	Recipients []string  `json:"recipients"`
	TLS        bool      `json:"tls"`
	Account    string    `json:"account"`
	Size       int       `json:"size"`
	Content    []byte    `json:"content,omitempty"`
}

// Stats counts what a host saw.
type Stats struct {
	Connections int   `json:"connections"` // since the start
	Open        int   `json:"open"`
	MostOpen    int   `json:"most_open"`
	Messages    int   `json:"messages"`
	Octets      int64 `json:"octets"`
}

// host is one running mail host.
type host struct {
	spec  Spec
	net   *Net
	addr  string
	certs *authority

	mu       sync.Mutex
	b        Behaviour
	listener net.Listener
	messages []Message
	stats    Stats
	firstTry map[string]time.Time // greylisting
	tries    map[string]int       // by recipient
	minute   time.Time
	inMinute int
	pop      net.Listener
	looks    map[string]time.Time // at its mailbox, by client
}

// setBehaviour changes how the host acts from the next command on.
func (h *host) setBehaviour(b Behaviour) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.b = b
	if h.addr == "" { // reached by Dial only
		return nil
	}
	if b.Closed && h.listener != nil {
		h.listener.Close()
		h.listener = nil
	}
	if !b.Closed && h.listener == nil {
		l, err := net.Listen("tcp", h.addr)
		if err != nil {
			return err
		}
		h.listener = l
		go h.accept(l)
	}
	return nil
}

func (h *host) behaviour() Behaviour {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.b
}

func (h *host) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listener != nil {
		h.listener.Close()
	}
	if h.pop != nil {
		h.pop.Close()
	}
}

func (h *host) accept(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		h.serve(conn)
	}
}

// serve holds the conversation of a connection.
func (h *host) serve(conn net.Conn) {
	h.mu.Lock()
	h.stats.Connections++
	h.stats.Open++
	h.stats.MostOpen = max(h.stats.MostOpen, h.stats.Open)
	open, b := h.stats.Open, h.b
	h.mu.Unlock()
	go func() {
		defer func() {
			conn.Close()
			h.mu.Lock()
			h.stats.Open--
			h.mu.Unlock()
		}()
		if h.spec.Scanner {
			h.scan(conn)
			return
		}
		d := &conversation{host: h, conn: conn, crowd: b.Connections > 0 && open > b.Connections}
		d.run()
	}()
}

// tls is the server side of the host's TLS.
func (h *host) tls() (*tls.Config, error) {
	cert, err := h.certs.issue(h.spec.Name, h.behaviour().TLS)
	if err != nil {
		return nil, err
	}
	s := &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12}
	if h.behaviour().KnowsBy != "" {
		s.ClientAuth = tls.RequestClientCert
	}
	return s, nil
}

// recipientReply decides on a recipient by the host's behaviour.
func (h *host) recipientReply(client, sender, rcpt string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	b, now := h.b, time.Now()
	local, _, _ := strings.Cut(rcpt, "@")
	switch {
	case b.Rcpt != "":
		return b.Rcpt
	case len(b.Known) > 0 && !contains(b.Known, local):
		return fmt.Sprintf("550 5.1.1 <%s>: there is nobody of that name here", rcpt)
	case len(b.RcptInTurn) > 0:
		n := min(h.tries[rcpt], len(b.RcptInTurn)-1)
		h.tries[rcpt]++
		return b.RcptInTurn[n]
	case b.Greylist > 0:
		key := client + " " + sender + " " + rcpt
		first, ok := h.firstTry[key]
		if !ok {
			h.firstTry[key], first = now, now
		}
		if now.Sub(first) < time.Duration(b.Greylist) {
			return "451 4.7.1 greylisted: we do not know you yet, please come back"
		}
	case b.Rate > 0:
		if now.Sub(h.minute) > time.Minute {
			h.minute, h.inMinute = now, 0
		}
		if h.inMinute++; h.inMinute > b.Rate {
			return fmt.Sprintf("450 4.7.1 slow down: at most %d messages a minute", b.Rate)
		}
	}
	return "250 2.1.5 ok"
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if strings.EqualFold(x, s) {
			return true
		}
	}
	return false
}

// took keeps a message and, where the host sends back, does so.
func (h *host) took(l Message) {
	h.mu.Lock()
	h.stats.Messages++
	h.stats.Octets += int64(l.Size)
	l.N = h.stats.Messages
	back := h.b.SendsBackTo
	if !h.b.Forgets {
		if len(h.messages) >= keepMessages {
			h.messages = append(h.messages[:0], h.messages[1:]...)
		}
		h.messages = append(h.messages, l)
	}
	h.mu.Unlock()
	if back != "" && h.net.dialEdge != nil {
		go h.sendBack(l, back)
	}
}
