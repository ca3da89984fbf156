package test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// provider is a small provider of single sign-on (OpenID Connect, code flow with PKCE): whoever
// comes is whom the test says.
type provider struct {
	*httptest.Server
	key *rsa.PrivateKey

	mu     sync.Mutex
	says   map[string]any // the claims of whoever comes next
	signed *rsa.PrivateKey
	codes  map[string]url.Values // what was asked for, by code
}

const providerSecret = "between-the-lighthouse-and-us"

func newProvider(t *testing.T) *provider {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p := &provider{key: key, signed: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/ask",
			"token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{
			{Key: key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("/ask", p.ask)
	mux.HandleFunc("/token", p.token)
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	return p
}

// comes says who comes next, and by whose key that is signed.
func (p *provider) comes(key *rsa.PrivateKey, says map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.says, p.signed = says, key
}

func (p *provider) ask(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != "gull-route" || q.Get("code_challenge_method") != "S256" || q.Get("nonce") == "" {
		http.Error(w, "not as it should be: "+r.URL.RawQuery, http.StatusBadRequest)
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = q
	p.mu.Unlock()
	http.Redirect(w, r, q.Get("redirect_uri")+"?code="+code+"&state="+url.QueryEscape(q.Get("state")),
		http.StatusFound)
}

func (p *provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	asked, ok := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	_, secret, _ := r.BasicAuth()
	if secret == "" {
		secret = r.PostFormValue("client_secret")
	}
	w.Header().Set("Content-Type", "application/json")
	if !ok || secret != providerSecret ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != asked.Get("code_challenge") {
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": "invalid_grant"})
		return
	}
	claims := map[string]any{"iss": p.URL, "aud": "gull-route", "nonce": asked.Get("nonce"),
		"iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
	maps.Copy(claims, p.says)
	text, _ := json.Marshal(claims)
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: p.signed},
		(&jose.SignerOptions{}).WithHeader("kid", "one"))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	object, _ := signer.Sign(text)
	id, _ := object.CompactSerialize()
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "id_token": id})
}
