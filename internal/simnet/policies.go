package simnet

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/miekg/dns"
)

// policyServer says the TLS policies of domains (MTA-STS, RFC 8461), over HTTPS, each under the
// name mta-sts of its domain.
type policyServer struct {
	names *nameServer
	ca    *authority
	http  *http.Server
	ip    string
	acme  *acmeServer

	mu  sync.Mutex
	say map[string]STSPolicy // by domain
}

// servePolicies opens the server where one is asked for.
func (n *Net) servePolicies(o Options, ca *authority) (*policyServer, error) {
	s := &policyServer{names: n.names, ca: ca, say: map[string]STSPolicy{},
		acme: &acmeServer{
			names:    n.names,
			ca:       ca,
			proofs:   o.Proofs,
			accounts: map[string]*jose.JSONWebKey{},
		}}
	if o.Policy == "" {
		return s, nil
	}
	s.ip, _, _ = net.SplitHostPort(o.Policy)
	if err := n.names.add("%s. %d IN A %s", AuthorityName, recordTTL, s.ip); err != nil {
		return nil, err
	}
	for _, d := range o.World.Domains {
		if d.Policy != nil {
			if err := s.set(d.Name, *d.Policy); err != nil {
				return nil, err
			}
		}
	}
	l, err := net.Listen("tcp", o.Policy)
	if err != nil {
		return nil, err
	}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 5 * time.Second,
		TLSConfig: &tls.Config{GetCertificate: s.certificate}}
	go func() { _ = s.http.ServeTLS(l, "", "") }()
	return s, nil
}

func (s *policyServer) close() {
	if s != nil && s.http != nil {
		_ = s.http.Close()
	}
}

// set lets a domain say a policy from now on, and publishes its record with a new id.
func (s *policyServer) set(domain string, p STSPolicy) error {
	s.mu.Lock()
	s.say[domain] = p
	s.mu.Unlock()
	text, _ := json.Marshal(p)
	id := sha256.Sum256(append(text, time.Now().String()...))
	for _, line := range []string{
		fmt.Sprintf("mta-sts.%s. %d IN A %s", domain, recordTTL, s.ip),
		fmt.Sprintf("_mta-sts.%s. 1 IN TXT \"v=STSv1; id=%s\"", domain, hex.EncodeToString(id[:8])),
	} {
		rr, err := dns.NewRR(line)
		if err != nil {
			return err
		}
		s.names.publish(rr, true)
	}
	return nil
}

// change is PUT /policies/DOMAIN.
func (s *policyServer) change(w http.ResponseWriter, r *http.Request) {
	var p STSPolicy
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	err := d.Decode(&p)
	if err == nil {
		err = s.set(r.PathValue("domain"), p)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// issue is GET /certificates/NAME: the certificate and its key, as PEM.
func (s *policyServer) issue(w http.ResponseWriter, r *http.Request) {
	cert, err := s.ca.issue(r.PathValue("name"), "valid")
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	_ = pem.Encode(w, &pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]})
	_ = pem.Encode(w, &pem.Block{Type: "PRIVATE KEY", Bytes: key})
}

func (s *policyServer) of(host string) (STSPolicy, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, ok := s.say[strings.TrimPrefix(host, "mta-sts.")]
	return p, ok
}

func (s *policyServer) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	name := hello.ServerName
	if p, _ := s.of(name); p.Fault == "certificate" {
		name = "www." + strings.TrimPrefix(name, "mta-sts.")
	}
	return s.ca.issue(name, "valid")
}

// ServeHTTP answers with a policy.
func (s *policyServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	if host == AuthorityName && strings.HasPrefix(r.URL.Path, acmePath) {
		s.acme.ServeHTTP(w, r)
		return
	}
	p, ok := s.of(host)
	switch {
	case !ok || p.Fault == "gone" || r.URL.Path != "/.well-known/mta-sts.txt":
		http.NotFound(w, r)
		return
	case p.Fault == "elsewhere":
		http.Redirect(w, r, "https://mta-sts.elsewhere.example"+r.URL.Path, http.StatusFound)
		return
	case p.Fault == "slow":
		<-r.Context().Done()
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if p.Fault == "garbage" {
		fmt.Fprintln(w, "this is no policy")
		return
	}
	age := p.MaxAge
	if age == 0 {
		age = 7 * 24 * 3600
	}
	fmt.Fprintf(w, "version: STSv1\r\nmode: %s\r\n", p.Mode)
	for _, mx := range p.MX {
		fmt.Fprintf(w, "mx: %s\r\n", mx)
	}
	fmt.Fprintf(w, "max_age: %d\r\n", age)
}

// publishPinned names the certificates of hosts in DNS (RFC 7672) that have it so.
func (n *Net) publishPinned(o Options, ca *authority) error {
	for _, h := range o.World.Hosts {
		if h.DANE == "" {
			continue
		}
		of := h.Name
		if h.DANE == "wrong" {
			of = "another." + h.Name
		}
		cert, err := ca.issue(of, h.TLS)
		if err != nil {
			return err
		}
		leaf, err := x509.ParseCertificate(cert.Certificate[0])
		if err != nil {
			return err
		}
		port := h.Port
		if port == 0 {
			port = o.Port
		}
		sum := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
		if err := n.names.add("_%s._tcp.%s. %d IN TLSA 3 1 1 %s", strconv.Itoa(port), h.Name, recordTTL,
			hex.EncodeToString(sum[:])); err != nil {
			return err
		}
	}
	return nil
}
