package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// partner issues tokens, and shows its keys at a URL.
type partner struct {
	url  string
	keys [2]*ecdsa.PrivateKey
	set  atomic.Int32 // which key it shows; -1: none
}

func newPartner(t *testing.T) *partner {
	t.Helper()
	p := &partner{}
	for i := range p.keys {
		var err error
		if p.keys[i], err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			t.Fatal(err)
		}
	}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i := p.set.Load()
		if i < 0 {
			http.Error(w, "not today", http.StatusBadGateway)
			return
		}
		json.NewEncoder(w).Encode(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.keys[i].Public(), KeyID: fmt.Sprint(i), Use: "sig", Algorithm: "ES256"}}})
	}))
	t.Cleanup(srv.Close)
	p.url = srv.URL
	return p
}

// token is a header line with a token by one of the keys.
func (p *partner) token(t *testing.T, key int, claims ...any) string {
	t.Helper()
	all := map[string]any{"iss": "https://id.ferry.example", "aud": "tickets", "sub": "mara", "exp": time.Now().Add(time.Hour).Unix()}
	for i := 0; i < len(claims); i += 2 {
		all[claims[i].(string)] = claims[i+1]
	}
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.keys[key], KeyID: fmt.Sprint(key)}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	payload, _ := json.Marshal(all)
	signed, err := s.Sign(payload)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := signed.CompactSerialize()
	return "Authorization: Bearer " + text
}

// TestEdge: a partner's token decides who comes in at the front door and where to, while its
// keys change and are away.
func TestEdge(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	p := newPartner(t)
	gateway, _ := m.addresses()
	m.change("    routes:\n      - name: crew-first         # our own people see the newest version\n        when: {headers: {x-crew: \"yes\"}}",
		"    routes:\n      - name: crew-first\n        when: {claims: {groups: crew}}",
		"    hosts: [tickets.ferry.example, 127.0.0.1, localhost]\n",
		"    hosts: [tickets.ferry.example, 127.0.0.1, localhost]\n    trust-forwarded: 1\n    limits: {body: 10KiB}\n"+
			"    authenticate: {jwt: {issuer: \"https://id.ferry.example\", audience: tickets, keys: "+p.url+", fields: {x-user: sub}}}\n",
		"      - name: notice\n        when: {path: /notice, method: GET}\n",
		"      - name: notice\n        when: {path: /notice, method: GET}\n        authenticate: none\n        limit: {rate: 2/h, per: address}\n")
	const url = "http://tickets.ferry.example/sailings/today"
	versions := func(line string) string { return answers(m.call(10, url, "-H", line)) }
	eventually(t, "the keys are there", func() bool { return versions(p.token(t, 0, "groups", []string{"crew"})) == "v3=10" })
	if got := versions(p.token(t, 0)); strings.Contains(got, "v3") || got == "" {
		t.Errorf("a traveller got %s", got)
	}
	status := func(path string, headers ...string) string {
		a := m.ask(gateway, "tickets.ferry.example", path, headers...)
		return fmt.Sprint(a.status, " ", a.head.Get("Www-Authenticate"))
	}
	bearer := func(key int, claims ...any) []string {
		return []string{"Authorization", strings.TrimPrefix(p.token(t, key, claims...), "Authorization: ")}
	}
	for name, c := range map[string]struct {
		headers []string
		want    string
	}{
		"no token":         {nil, "401 Bearer"},
		"another audience": {bearer(0, "aud", "office"), `401 Bearer error="invalid_token"`},
		"ran out":          {bearer(0, "exp", time.Now().Add(-time.Hour).Unix()), `401 Bearer error="invalid_token"`},
		"a key not shown":  {bearer(1), `401 Bearer error="invalid_token"`},
	} {
		if got := status("/sailings/today", c.headers...); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
	p.set.Store(1) // the partner's key is rotated: it is fetched within ten seconds
	eventually(t, "the next key is taken", func() bool { return strings.HasPrefix(status("/sailings/today", bearer(1)...), "200") })
	if got := status("/sailings/today", bearer(0)...); got != `401 Bearer error="invalid_token"` {
		t.Errorf("by a key that is gone: %s", got)
	}
	// Who is told apart by the entry of the proxy in front.
	for i, want := range []string{"200 ", "200 ", "429 ", "200 "} {
		if got := status("/notice", "X-Forwarded-For", fmt.Sprintf("6.6.6.%d, 203.0.113.%d", i, i/3)); got != want {
			t.Errorf("notice %d: %s, want %s", i, got, want)
		}
	}
	if out := m.must(0, "explain", "GET", url, "--claim", "groups=crew"); !strings.Contains(out, `claim groups is "crew"`) || !strings.Contains(out, "sailings/v3") {
		t.Error(out)
	}
	if out := m.must(0, "explain", "GET", url, "--address", "203.0.113.9"); !strings.Contains(out, "Refused with 401 unauthenticated: the request has no bearer token of https://id.ferry.example") {
		t.Error(out)
	}
	if out := m.must(2, "explain", "GET", url, "--claim", "crew"); !strings.Contains(out, "expected NAME=VALUE") {
		t.Error(out)
	}
	// Rules without keys that can be read come into force, and the gateway says what it lacks.
	p.set.Store(-1)
	m.change("keys: "+p.url, "keys: "+p.url+"/other")
	eventually(t, "the fleet shows that there are no keys", func() bool {
		return strings.Contains(m.must(0, "fleet"), "keys: there are no keys to check tokens by")
	})
	if got := status("/sailings/today", bearer(1)...); got != "503 " {
		t.Errorf("without keys: %s", got)
	}
}
