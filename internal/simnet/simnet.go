package simnet

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Options say where a simulated internet is to be found.
type Options struct {
	World   *World
	DNS     string // address of the name server, over UDP and TCP
	Port    int    // of MX hosts
	Policy  string // where the TLS policies of domains are served by HTTPS; "" is nowhere
	Proofs  string // port of ours at which the authority looks for proofs by HTTP
	Control string // address of the control interface, over HTTP
	Edge    string // our own edge listener, for hosts that send mail back
	CAFile  string // where the certificate authority's certificate goes; "" is nowhere
}

// Net is a running simulated internet.
type Net struct {
	DNS     string // as opened
	Control string

	// dialEdge connects to our edge listener from a host's address; nil if there
	// is none.
	dialEdge func(from netip.Addr) (net.Conn, error)
	hosts    []*host
	names    *nameServer
	control  *http.Server
	policies *policyServer
}

// Start opens everything.
func Start(o Options) (*Net, error) {
	ca, err := newAuthority(o.CAFile)
	if err != nil {
		return nil, err
	}
	if o.CAFile != "" {
		if err := os.WriteFile(o.CAFile, ca.pem(), 0o644); err != nil {
			return nil, err
		}
	}
	n := &Net{}
	if o.Edge != "" {
		n.dialEdge = func(from netip.Addr) (net.Conn, error) {
			return (&net.Dialer{LocalAddr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0)),
				Timeout: 5 * time.Second}).Dial(
				"tcp",
				o.Edge,
			)
		}
	}
	if n.names, err = newNameServer(o.World); err != nil {
		return nil, err
	}
	if err := n.publishPinned(o, ca); err != nil {
		return nil, err
	}
	if n.policies, err = n.servePolicies(o, ca); err != nil {
		return nil, fmt.Errorf("simnet: policies: %w", err)
	}
	if n.DNS, err = n.names.listen(o.DNS); err != nil {
		return nil, fmt.Errorf("simnet: name server: %w", err)
	}
	for _, spec := range o.World.Hosts {
		port := spec.Port
		if port == 0 {
			port = o.Port
		}
		h := &host{
			spec:     spec,
			net:      n,
			certs:    ca,
			addr:     net.JoinHostPort(spec.Address, strconv.Itoa(port)),
			firstTry: map[string]time.Time{},
			tries:    map[string]int{},
		}
		n.hosts = append(n.hosts, h)
		if err := h.setBehaviour(spec.Behaviour); err != nil {
			n.Close()
			return nil, fmt.Errorf("simnet: host %s: %w", spec.Name, err)
		}
		if spec.POPPort > 0 {
			if err := h.servePOP(); err != nil {
				n.Close()
				return nil, fmt.Errorf("simnet: host %s: %w", spec.Name, err)
			}
		}
	}
	return n, n.serveControl(o.Control)
}

// Close ends everything.
func (n *Net) Close() {
	for _, h := range n.hosts {
		h.close()
	}
	n.names.close()
	n.policies.close()
	if n.control != nil {
		_ = n.control.Close()
	}
}

// HostView is a host as the control interface shows it.
type HostView struct {
	Spec
	Listens string `json:"listens"`
	Stats   Stats  `json:"stats"`
}

func (h *host) view() HostView {
	h.mu.Lock()
	defer h.mu.Unlock()
	v := HostView{Spec: h.spec, Listens: h.addr, Stats: h.stats}
	v.Behaviour = h.b
	return v
}

// serveControl opens the control interface:
//
//	GET    /hosts
//	GET    /hosts/NAME
//	PATCH  /hosts/NAME            fields of the behaviour to change
//	GET    /hosts/NAME/messages    what it received, newest last
//	DELETE /hosts/NAME/messages
//	PUT    /dns/MODE              well, down, slow or lying
//	PUT    /policies/DOMAIN       what its server says of TLS
//	PUT    /authority             how long what it issues lives, and a fault that it has
//	GET    /certificates/NAME     a certificate and its key, by the world's authority
//	/dns/records                  see serveRecords
func (n *Net) serveControl(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("simnet: control: %w", err)
	}
	n.Control = l.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /hosts", func(w http.ResponseWriter, _ *http.Request) {
		views := []HostView{}
		for _, h := range n.hosts {
			views = append(views, h.view())
		}
		writeJSON(w, views)
	})
	mux.HandleFunc(
		"GET /hosts/{name}",
		n.withHost(
			func(w http.ResponseWriter, _ *http.Request, h *host) { writeJSON(w, h.view()) },
		),
	)
	mux.HandleFunc(
		"PATCH /hosts/{name}",
		n.withHost(func(w http.ResponseWriter, r *http.Request, h *host) {
			b := h.behaviour()
			d := json.NewDecoder(r.Body)
			d.DisallowUnknownFields()
			if err := d.Decode(&b); err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			if err := h.setBehaviour(b); err != nil {
				http.Error(w, err.Error(), http.StatusConflict)
				return
			}
			writeJSON(w, h.view())
		}),
	)
	mux.HandleFunc(
		"GET /hosts/{name}/messages",
		n.withHost(func(w http.ResponseWriter, _ *http.Request, h *host) {
			h.mu.Lock()
			messages := append([]Message{}, h.messages...)
			h.mu.Unlock()
			writeJSON(w, messages)
		}),
	)
	mux.HandleFunc(
		"DELETE /hosts/{name}/messages",
		n.withHost(func(w http.ResponseWriter, _ *http.Request, h *host) {
			h.mu.Lock()
			h.messages, h.stats.Messages, h.stats.Octets = nil, 0, 0
			h.mu.Unlock()
			w.WriteHeader(http.StatusNoContent)
		}),
	)
	mux.HandleFunc("PUT /dns/{mode}", func(w http.ResponseWriter, r *http.Request) {
		mode := strings.TrimPrefix(r.PathValue("mode"), "well")
		if !slices.Contains([]string{dnsWell, dnsDown, dnsSlow, dnsLying}, mode) {
			http.Error(w, "write well, down, slow or lying", http.StatusBadRequest)
			return
		}
		n.names.mode.Store(&mode)
		w.WriteHeader(http.StatusNoContent)
	})
	n.serveRecords(mux)
	mux.HandleFunc("PUT /policies/{domain}", n.policies.change)
	mux.HandleFunc("GET /certificates/{name}", n.policies.issue)
	mux.HandleFunc("PUT /authority", n.policies.acme.change)
	n.control = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = n.control.Serve(l) }()
	return nil
}

func (n *Net) withHost(f func(http.ResponseWriter, *http.Request, *host)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		for _, h := range n.hosts {
			if h.spec.Name == r.PathValue("name") {
				f(w, r, h)
				return
			}
		}
		http.Error(w, "there is no host "+r.PathValue("name")+"; GET /hosts lists them",
			http.StatusNotFound)
	}
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}
