// Package provider is a provider of identities for tests (OpenID Connect Core 1.0,
// Discovery 1.0, RFC 7636, RFC 8628). It lets everybody in whom the test says, and lies
// where the test wants it to.
package provider

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Provider is a running provider. Its fields may be changed under Change.
type Provider struct {
	*httptest.Server
	mu sync.Mutex

	Claims   map[string]any // of who signs in
	Lie      map[string]any // claims of ID tokens that are not what they should be
	UserInfo map[string]any // claims that are said there alone
	Key      *rsa.PrivateKey
	KeyID    string
	Forged   bool // it signs with a key that it does not publish
	Away     bool // it does not respond
	Deny     bool // it lets nobody in
	Allowed  bool // somebody has allowed devices
	Secret   string

	codes   map[string]code
	devices map[string]bool
}

// code is what somebody was let in with, once.
type code struct{ challenge, nonce, redirect string }

// Start starts a provider whose only client is called nightjar.
func Start() *Provider {
	p := &Provider{
		Claims: map[string]any{"sub": "7", "email": "mara@ferry.example", "email_verified": true, "groups": []string{"timetable"}},
		codes:  map[string]code{}, devices: map[string]bool{},
	}
	p.NewKey("first")
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.discovery)
	mux.HandleFunc("GET /keys", p.keys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("POST /device", p.device)
	mux.HandleFunc("GET /userinfo", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, p.UserInfo) })
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.Away {
			http.Error(w, "away", http.StatusBadGateway)
			return
		}
		mux.ServeHTTP(w, r)
	}))
	return p
}

// Change changes how it behaves.
func (p *Provider) Change(f func(*Provider)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f(p)
}

// NewKey replaces the key that it signs with.
func (p *Provider) NewKey(id string) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	p.Key, p.KeyID = key, id
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func (p *Provider) discovery(w http.ResponseWriter, _ *http.Request) {
	at := p.URL
	answer(w, 200, map[string]any{
		"issuer": at, "authorization_endpoint": at + "/authorize", "token_endpoint": at + "/token", "jwks_uri": at + "/keys",
		"device_authorization_endpoint": at + "/device", "userinfo_endpoint": at + "/userinfo",
		"id_token_signing_alg_values_supported": []string{"RS256"},
	})
}

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.Key.Public(), KeyID: p.KeyID, Algorithm: "RS256", Use: "sig"}}})
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != "nightjar" || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "not as it must be", http.StatusBadRequest)
		return
	}
	out := url.Values{"state": {q.Get("state")}}
	if p.Deny {
		out.Set("error", "access_denied")
	} else {
		id := rand.Text()
		p.codes[id] = code{q.Get("code_challenge"), q.Get("nonce"), q.Get("redirect_uri")}
		out.Set("code", id)
	}
	back.RawQuery = out.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	r.ParseForm()
	id, secret, isBasic := r.BasicAuth()
	if !isBasic {
		id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	no := func(why string) { answer(w, http.StatusBadRequest, map[string]any{"error": why}) }
	if id != "nightjar" || secret != p.Secret {
		no("invalid_client")
		return
	}
	nonce := ""
	switch r.PostForm.Get("grant_type") {
	case "authorization_code":
		c, isKnown := p.codes[r.PostForm.Get("code")]
		delete(p.codes, r.PostForm.Get("code"))
		sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
		if !isKnown || c.redirect != r.PostForm.Get("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
			no("invalid_grant")
			return
		}
		nonce = c.nonce
	case "urn:ietf:params:oauth:grant-type:device_code":
		switch {
		case !p.devices[r.PostForm.Get("device_code")]:
			no("invalid_grant")
			return
		case p.Deny:
			no("access_denied")
			return
		case !p.Allowed:
			no("authorization_pending")
			return
		}
		delete(p.devices, r.PostForm.Get("device_code"))
	default:
		no("unsupported_grant_type")
		return
	}
	answer(w, 200, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": p.idToken(nonce)})
}

// idToken says who signs in.
func (p *Provider) idToken(nonce string) string {
	now := time.Now()
	claims := map[string]any{"iss": p.URL, "aud": "nightjar", "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(), "nonce": nonce}
	for _, more := range []map[string]any{p.Claims, p.Lie} {
		for name, v := range more {
			claims[name] = v
		}
	}
	key := p.Key
	if p.Forged {
		key, _ = rsa.GenerateKey(rand.Reader, 2048)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: p.KeyID}}, nil)
	if err != nil {
		panic(err)
	}
	text, _ := json.Marshal(claims)
	signed, err := signer.Sign(text)
	if err != nil {
		panic(err)
	}
	out, _ := signed.CompactSerialize()
	return out
}

func (p *Provider) device(w http.ResponseWriter, _ *http.Request) {
	id := rand.Text()
	p.devices[id] = true
	answer(w, 200, map[string]any{
		"device_code": id, "user_code": "TIDE-7600", "verification_uri": p.URL + "/allow",
		"verification_uri_complete": p.URL + "/allow?code=TIDE-7600", "expires_in": 600, "interval": 1,
	})
}

// Config is the configuration of a service at url.
func (p *Provider) Config(url string) string {
	return strings.TrimLeft(fmt.Sprintf(`
issuer: %s
client: nightjar
url: %s
roles:
  admin: [platform]
  editor: [timetable]
  viewer: [crew]
`, p.URL, url), "\n")
}
