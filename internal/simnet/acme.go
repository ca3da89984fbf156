package simnet

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/miekg/dns"
)

// acmeServer gives out certificates of the simulated internet (RFC 8555), to those who prove that
// the names are theirs by HTTP or DNS. It is reached by the name AuthorityName at the address of
// the policies.
type acmeServer struct {
	names  *nameServer
	ca     *authority
	proofs string // port where proofs by HTTP are looked for

	mu       sync.Mutex
	accounts map[string]*jose.JSONWebKey
	orders   []*acmeOrder
	life     time.Duration // of what is issued; 0 is 90 days
	fault    string        // said in place of a certificate
}

// AuthorityName is the host that gives out certificates.
const AuthorityName = "authority.example"

type acmeOrder struct {
	names  []string
	proved map[string]bool
	chain  []byte
	token  string
	key    *jose.JSONWebKey
}

const acmePath = "/acme/"

// acmeProblem is a problem document of RFC 8555 section 6.7.
type acmeProblem struct {
	Type   string `json:"type"`
	Detail string `json:"detail"`
	status int
}

func (p acmeProblem) Error() string { return p.Detail }

func malformed(format string, args ...any) error {
	return acmeProblem{"urn:ietf:params:acme:error:malformed", fmt.Sprintf(format, args...), 400}
}

func unauthorized(format string, args ...any) error {
	return acmeProblem{"urn:ietf:params:acme:error:unauthorized", fmt.Sprintf(format, args...), 403}
}

func (a *acmeServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var nonce [12]byte
	_, _ = rand.Read(nonce[:])
	w.Header().Set("Replay-Nonce", base64.RawURLEncoding.EncodeToString(nonce[:]))
	path := strings.TrimPrefix(r.URL.Path, acmePath)
	at := func(p string) string { return "https://" + r.Host + acmePath + p }
	switch path {
	case "directory":
		writeJSON(w, map[string]string{"newNonce": at("nonce"), "newAccount": at("account"),
			"newOrder": at("order")})
		return
	case "nonce":
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	err := a.serve(w, r, path, at)
	if p, ok := err.(acmeProblem); ok {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(p.status)
		_ = json.NewEncoder(w).Encode(p)
	} else if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

// serve answers a signed request. mu is held.
func (a *acmeServer) serve(
	w http.ResponseWriter,
	r *http.Request,
	path string,
	at func(string) string,
) error {
	body, err := io.ReadAll(io.LimitReader(r.Body, maxEntry))
	if err != nil {
		return err
	}
	signed, err := jose.ParseSignedJSON(string(body), []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
	if err != nil || len(signed.Signatures) != 1 {
		return malformed("the request is not signed")
	}
	header := signed.Signatures[0].Protected
	key := header.JSONWebKey
	if key == nil {
		key = a.accounts[header.KeyID]
	}
	if key == nil {
		return acmeProblem{
			"urn:ietf:params:acme:error:accountDoesNotExist",
			"there is no such account",
			400,
		}
	}
	payload, err := signed.Verify(key)
	if err != nil {
		return unauthorized("the signature is not the account's")
	}
	kind, rest, _ := strings.Cut(path, "/")
	if kind == "account" {
		return a.account(w, key, at)
	}
	if kind == "order" && rest == "" {
		return a.order(w, key, payload, at)
	}
	number, rest, _ := strings.Cut(rest, "/")
	n, err := strconv.Atoi(number)
	if err != nil || n < 0 || n >= len(a.orders) || !sameKey(a.orders[n].key, key) {
		return malformed("there is no such order")
	}
	o := a.orders[n]
	switch kind {
	case "order":
		a.show(w, n, at)
	case "authz":
		a.authorization(w, n, rest, at)
	case "challenge":
		proof, name, _ := strings.Cut(rest, "/")
		if err := a.look(r.Context(), o, proof, name); err != nil {
			return err
		}
		o.proved[name] = true
		a.challenge(w, n, proof, name, at)
	case "finalize":
		if err := a.finalize(o, payload); err != nil {
			return err
		}
		a.show(w, n, at)
	case "cert":
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		_, _ = w.Write(o.chain)
	default:
		return malformed("there is nothing at %s", path)
	}
	return nil
}

func sameKey(a, b *jose.JSONWebKey) bool {
	x, _ := a.Thumbprint(crypto.SHA256)
	y, _ := b.Thumbprint(crypto.SHA256)
	return string(x) == string(y)
}

func (a *acmeServer) account(
	w http.ResponseWriter,
	key *jose.JSONWebKey,
	at func(string) string,
) error {
	sum, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	id := at("account/" + base64.RawURLEncoding.EncodeToString(sum))
	w.Header().Set("Location", id)
	w.Header().Set("Content-Type", "application/json")
	if a.accounts[id] == nil {
		a.accounts[id] = key
		w.WriteHeader(http.StatusCreated)
	}
	return json.NewEncoder(w).Encode(map[string]string{"status": "valid"})
}

func (a *acmeServer) order(
	w http.ResponseWriter,
	key *jose.JSONWebKey,
	payload []byte,
	at func(string) string,
) error {
	var asked struct {
		Identifiers []struct{ Type, Value string }
	}
	if err := json.Unmarshal(payload, &asked); err != nil || len(asked.Identifiers) == 0 {
		return malformed("the order names nothing")
	}
	var token [16]byte
	_, _ = rand.Read(token[:])
	o := &acmeOrder{
		proved: map[string]bool{},
		key:    key,
		token:  base64.RawURLEncoding.EncodeToString(token[:]),
	}
	for _, i := range asked.Identifiers {
		o.names = append(o.names, i.Value)
	}
	a.orders = append(a.orders, o)
	w.Header().Set("Location", at(fmt.Sprintf("order/%d", len(a.orders)-1)))
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusCreated)
	return json.NewEncoder(w).Encode(a.view(len(a.orders)-1, at))
}

func (a *acmeServer) view(n int, at func(string) string) map[string]any {
	o := a.orders[n]
	status := "pending"
	var authorizations []string
	var ids []map[string]string
	for _, name := range o.names {
		authorizations = append(authorizations, at(fmt.Sprintf("authz/%d/%s", n, name)))
		ids = append(ids, map[string]string{"type": "dns", "value": name})
	}
	if len(o.proved) == len(o.names) {
		status = "ready"
	}
	v := map[string]any{"identifiers": ids, "authorizations": authorizations,
		"finalize": at(fmt.Sprintf("finalize/%d", n))}
	if o.chain != nil {
		status = "valid"
		v["certificate"] = at(fmt.Sprintf("cert/%d", n))
	}
	v["status"] = status
	return v
}

func (a *acmeServer) show(w http.ResponseWriter, n int, at func(string) string) {
	w.Header().Set("Location", at(fmt.Sprintf("order/%d", n)))
	writeJSON(w, a.view(n, at))
}

func (a *acmeServer) step(n int, proof, name string, at func(string) string) map[string]string {
	status := "pending"
	if a.orders[n].proved[name] {
		status = "valid"
	}
	return map[string]string{"type": proof, "status": status, "token": a.orders[n].token,
		"url": at(fmt.Sprintf("challenge/%d/%s/%s", n, proof, name))}
}

func (a *acmeServer) authorization(
	w http.ResponseWriter,
	n int,
	name string,
	at func(string) string,
) {
	status := "pending"
	if a.orders[n].proved[name] {
		status = "valid"
	}
	writeJSON(w, map[string]any{"status": status,
		"identifier": map[string]string{"type": "dns", "value": name},
		"challenges": []map[string]string{
			a.step(n, "http-01", name, at),
			a.step(n, "dns-01", name, at),
		}})
}

func (a *acmeServer) challenge(
	w http.ResponseWriter,
	n int,
	proof, name string,
	at func(string) string,
) {
	writeJSON(w, a.step(n, proof, name, at))
}

// look looks for a proof as an authority does.
func (a *acmeServer) look(ctx context.Context, o *acmeOrder, proof, name string) error {
	if !slices.Contains(o.names, name) {
		return malformed("%s is not in the order", name)
	}
	sum, err := o.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	want := o.token + "." + base64.RawURLEncoding.EncodeToString(sum)
	a.names.mu.RLock()
	records := slices.Clone(a.names.records[dns.Fqdn("_acme-challenge."+name)])
	addresses := a.names.set(dns.Fqdn(name), dns.TypeA)
	a.names.mu.RUnlock()
	if proof == "dns-01" {
		hash := sha256.Sum256([]byte(want))
		for _, rr := range records {
			txt, ok := rr.(*dns.TXT)
			if ok && strings.Join(txt.Txt, "") == base64.RawURLEncoding.EncodeToString(hash[:]) {
				return nil
			}
		}
		return unauthorized("no TXT record at _acme-challenge.%s has the proof", name)
	}
	if len(addresses) == 0 {
		return unauthorized("%s has no address", name)
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	ip, _ := addresses[0].(*dns.A)
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodGet,
		"http://"+net.JoinHostPort(ip.A.String(),
			a.proofs)+"/.well-known/acme-challenge/"+o.token,
		nil,
	)
	if err != nil {
		return err
	}
	req.Host = name
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return unauthorized("%s: %v", name, err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1000))
	if resp.StatusCode != http.StatusOK || strings.TrimSpace(string(text)) != want {
		return unauthorized("%s answers %s, and not with the proof", name, resp.Status)
	}
	return nil
}

func (a *acmeServer) finalize(o *acmeOrder, payload []byte) error {
	if a.fault != "" {
		return acmeProblem{"urn:ietf:params:acme:error:rateLimited", a.fault, 429}
	}
	var asked struct{ CSR string }
	err := json.Unmarshal(payload, &asked)
	if err != nil {
		return malformed("%v", err)
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.CSR)
	if err != nil {
		return malformed("%v", err)
	}
	csr, err := x509.ParseCertificateRequest(der)
	if err != nil || csr.CheckSignature() != nil {
		return malformed("the request for a certificate cannot be read")
	}
	for _, n := range csr.DNSNames {
		if !o.proved[n] {
			return unauthorized("%s was not proved", n)
		}
	}
	o.chain, err = a.ca.sign(csr, a.life)
	return err
}

// sign issues a certificate for what somebody asked for.
func (a *authority) sign(csr *x509.CertificateRequest, life time.Duration) ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.serial++
	if life == 0 {
		life = 90 * 24 * time.Hour
	}
	t := &x509.Certificate{
		SerialNumber: big.NewInt(a.serial),
		Subject:      pkix.Name{CommonName: csr.DNSNames[0]},
		DNSNames:     csr.DNSNames,
		NotBefore:    time.Now().Add(-time.Minute),
		NotAfter:     time.Now().Add(life),
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, csr.PublicKey, a.key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), a.pem()...), nil
}

// change is PUT /authority: how long what it issues lives, and a fault that it has.
func (a *acmeServer) change(w http.ResponseWriter, r *http.Request) {
	var c struct {
		Life  Pause  `json:"life"`
		Fault string `json:"fault"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, maxEntry)).Decode(&c); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	a.mu.Lock()
	a.life, a.fault = time.Duration(c.Life), c.Fault
	a.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}
