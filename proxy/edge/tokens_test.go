package edge

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"nightjar/core/rules"
)

// issuer signs tokens of one key.
type issuer struct {
	alg jose.SignatureAlgorithm
	id  string
	key crypto.Signer
}

func newIssuer(t testing.TB, alg jose.SignatureAlgorithm, id string) issuer {
	t.Helper()
	var key crypto.Signer
	var err error
	switch alg {
	case jose.ES256:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case jose.EdDSA:
		_, key, err = ed25519.GenerateKey(rand.Reader)
	default:
		key, err = rsa.GenerateKey(rand.Reader, 2048)
	}
	if err != nil {
		t.Fatal(err)
	}
	return issuer{alg, id, key}
}

func (i issuer) public() jose.JSONWebKey {
	return jose.JSONWebKey{Key: i.key.Public(), KeyID: i.id, Algorithm: string(i.alg), Use: "sig"}
}

func (i issuer) sign(t testing.TB, claims map[string]any) string {
	t.Helper()
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: i.alg, Key: jose.JSONWebKey{Key: i.key, KeyID: i.id}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	payload, _ := json.Marshal(claims)
	signed, err := s.Sign(payload)
	if err != nil {
		t.Fatal(err)
	}
	text, err := signed.CompactSerialize()
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// good are claims of a token that is good, with others in their place; nil: without one.
func good(now time.Time, other map[string]any) map[string]any {
	c := map[string]any{"iss": "https://id.ferry.example", "aud": []string{"tickets"}, "sub": "mara", "exp": now.Add(time.Hour).Unix(),
		"groups": []string{"crew", "night"}, "level": 7, "is_captain": true, "realm": map[string]any{"roles": []string{"helm"}}}
	for k, v := range other {
		if c[k] = v; v == nil {
			delete(c, k)
		}
	}
	return c
}

func writeSet(t testing.TB, path string, of ...issuer) {
	t.Helper()
	set := jose.JSONWebKeySet{}
	for _, i := range of {
		set.Keys = append(set.Keys, i.public())
	}
	text, err := json.Marshal(set)
	if err == nil {
		err = os.WriteFile(path+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// follow makes the edge of a gateway that asks for a token with these keys.
func follow(t testing.TB, k *Keeper, keys string, audience ...string) (*Edge, *rules.JWT) {
	t.Helper()
	t.Cleanup(k.Close)
	j := &rules.JWT{Issuer: "https://id.ferry.example", Audience: audience, Keys: keys, Fields: []rules.ClaimField{{Field: "X-User", Claim: "sub"}, {Field: "X-Groups", Claim: "groups"}}}
	return k.Follow(&rules.Gateway{Authenticate: &rules.Authenticate{JWT: j}}), j
}

// TestTokens: a token is good when its issuer signed it, for this audience, at this time, by
// a method whose key can be told to everybody.
func TestTokens(t *testing.T) {
	now := time.Now()
	byRSA, byEC, byEd := newIssuer(t, jose.RS256, "rsa"), newIssuer(t, jose.ES256, "ec"), newIssuer(t, jose.EdDSA, "ed")
	other := newIssuer(t, jose.RS256, "rsa") // another key of the same name
	unknown := newIssuer(t, jose.ES256, "new")
	path := filepath.Join(t.TempDir(), "keys.json")
	writeSet(t, path, byRSA, byEC, byEd)
	e, j := follow(t, &Keeper{}, path, "tickets", "board")

	part := func(v any) string {
		text, _ := json.Marshal(v)
		return base64.RawURLEncoding.EncodeToString(text)
	}
	unsigned := part(map[string]string{"alg": "none"}) + "." + part(good(now, nil)) + "."
	// The public key as the secret of a method by which both ends have the same.
	public, _ := x509.MarshalPKIXPublicKey(byRSA.key.Public())
	head := part(map[string]string{"alg": "HS256", "kid": "rsa"}) + "." + part(good(now, nil))
	mac := hmac.New(sha256.New, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))
	mac.Write([]byte(head))
	mixed := head + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
	whole := byRSA.sign(t, good(now, nil))
	pieces := strings.Split(whole, ".")
	changed := pieces[0] + "." + part(good(now, map[string]any{"sub": "captain"})) + "." + pieces[2]
	// The key in the token itself.
	withKey, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: other.key}, (&jose.SignerOptions{EmbedJWK: true}).WithHeader("kid", "rsa"))
	if err != nil {
		t.Fatal(err)
	}
	payload, _ := json.Marshal(good(now, nil))
	signed, _ := withKey.Sign(payload)
	brought, _ := signed.CompactSerialize()

	for _, c := range []struct{ name, token, why string }{
		{"by RSA", whole, ""},
		{"by ECDSA", byEC.sign(t, good(now, nil)), ""},
		{"by Ed25519", byEd.sign(t, good(now, nil)), ""},
		{"one audience, not a list", byEC.sign(t, good(now, map[string]any{"aud": "board"})), ""},
		{"ran out within the leeway", byEC.sign(t, good(now, map[string]any{"exp": now.Add(-20 * time.Second).Unix()})), ""},
		{"ran out", byEC.sign(t, good(now, map[string]any{"exp": now.Add(-40 * time.Second).Unix()})), "ran out"},
		{"never runs out", byEC.sign(t, good(now, map[string]any{"exp": nil})), "when it runs out"},
		{"runs out at a word", byEC.sign(t, good(now, map[string]any{"exp": "tomorrow"})), "when it runs out"},
		{"begins later", byEC.sign(t, good(now, map[string]any{"nbf": now.Add(time.Minute).Unix()})), "not good before"},
		{"another audience", byEC.sign(t, good(now, map[string]any{"aud": "office"})), `for "office", not for tickets or board`},
		{"no audience", byEC.sign(t, good(now, map[string]any{"aud": nil})), "for nobody"},
		{"another issuer", byEC.sign(t, good(now, map[string]any{"iss": "https://evil"})), `issuer "https://evil"`},
		{"another key of that name", other.sign(t, good(now, nil)), "signature"},
		{"a key that is not known", unknown.sign(t, good(now, nil)), `no key "new"`},
		{"the key within", brought, "signature"},
		{"unsigned", unsigned, "no signed"},
		{"the public key as a secret", mixed, "no signed"},
		{"changed", changed, "signature"},
		{"cut off", whole[:len(whole)-20], "signature"},
		{"without its signature", pieces[0] + "." + pieces[1], "no signed"},
		{"nonsense", "tea", "no signed"},
		{"as JSON", signed.FullSerialize(), "no signed"},
		{"long", strings.Repeat("a", 1<<20), "longer than"},
	} {
		for range 2 { // the second time from the cache, if it is good
			token, err := e.Verify(j, c.token, now)
			if c.why == "" {
				if err != nil {
					t.Errorf("%s: %v", c.name, err)
				} else if got := fmt.Sprint(token.Claim("groups"), token.Claim("level"), token.Claim("is_captain"), token.Claim("realm.roles"), token.Fields); got != "[crew night] [7] [true] [helm] [{X-User mara} {X-Groups crew} {X-Groups night}]" {
					t.Errorf("%s: %s", c.name, got)
				}
				continue
			}
			if err == nil || !strings.Contains(err.Error(), c.why) || IsUnchecked(err) {
				t.Errorf("%s: %v, want %q", c.name, err, c.why)
			}
		}
	}
	// One that is kept ends all the same.
	if _, err := e.Verify(j, whole, now.Add(2*time.Hour)); err == nil {
		t.Error("a token that ran out is still good")
	}
}

// TestFieldsOfClaims: a claim that would end its field is not passed on.
func TestFieldsOfClaims(t *testing.T) {
	now, by := time.Now(), newIssuer(t, jose.ES256, "")
	path := filepath.Join(t.TempDir(), "key.pem")
	public, _ := x509.MarshalPKIXPublicKey(by.key.Public())
	os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}), 0o600)
	e, j := follow(t, &Keeper{}, path, "tickets")
	token, err := e.Verify(j, by.sign(t, good(now, map[string]any{"sub": "mara\r\nX-Admin: yes", "groups": []any{"crew", []any{"night"}, nil, " x", map[string]any{"a": 1}}})), now)
	if err != nil || fmt.Sprint(token.Fields) != "[{X-Groups crew} {X-Groups night}]" {
		t.Errorf("%v, %v", token, err)
	}
}

// TestKeysRotate: a key that a token names is fetched, one that is gone is not taken any
// more, and the last good keys are kept while their source is away.
func TestKeysRotate(t *testing.T) {
	old, next := newIssuer(t, jose.ES256, "a"), newIssuer(t, jose.ES256, "b")
	var set atomic.Pointer[[]issuer]
	var asked atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		now := set.Load()
		if now == nil {
			http.Error(w, "away", http.StatusServiceUnavailable)
			return
		}
		out := jose.JSONWebKeySet{}
		for _, i := range *now {
			out.Keys = append(out.Keys, i.public())
		}
		json.NewEncoder(w).Encode(out)
	}))
	defer srv.Close()
	k := &Keeper{}
	e, j := follow(t, k, srv.URL, "tickets")
	now := time.Now()
	first, second := old.sign(t, good(now, nil)), next.sign(t, good(now, nil))
	if _, err := e.Verify(j, first, now); !IsUnchecked(err) {
		t.Fatalf("without keys: %v", err)
	}
	await := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(15 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatal(what, " did not happen: ", k.Problem())
			}
		}
	}
	await("a problem", func() bool { return strings.Contains(k.Problem(), "there are no keys") })
	set.Store(&[]issuer{old})
	await("the first keys", func() bool { _, err := e.Verify(j, first, now); return err == nil })
	before := asked.Load()
	set.Store(&[]issuer{next})
	for range 100 { // however many tokens name the key
		e.Verify(j, second, now)
	}
	await("the next keys", func() bool { _, err := e.Verify(j, second, now); return err == nil })
	if _, err := e.Verify(j, first, now); err == nil {
		t.Error("a token is good whose key is gone")
	}
	if n := asked.Load() - before; n > 2 {
		t.Errorf("the keys were fetched %d times", n)
	}
	// What is kept goes on with other rules, also while the source is away.
	set.Store(nil)
	again := *j
	e2 := k.Follow(&rules.Gateway{Routes: []*rules.Route{{Authenticate: &rules.Authenticate{JWT: &again}}}})
	for _, asks := range []*rules.JWT{j, &again} { // requests by the rules before are still under way
		if _, err := e2.Verify(asks, second, now); err != nil {
			t.Error(err)
		}
	}
}

// TestTokensKept: the cache stays within its bounds, and is right, whoever shows tokens.
func TestTokensKept(t *testing.T) {
	now, by := time.Now(), newIssuer(t, jose.EdDSA, "ed")
	path := filepath.Join(t.TempDir(), "keys.json")
	writeSet(t, path, by)
	e, j := follow(t, &Keeper{}, path, "tickets")
	for i := range cacheShards*perShard + 2000 {
		token, err := e.Verify(j, by.sign(t, good(now, map[string]any{"sub": fmt.Sprint(i)})), now)
		if err != nil || token.Claim("sub")[0] != fmt.Sprint(i) {
			t.Fatal(i, token, err)
		}
	}
	sum := 0
	for i := range e.verifiers[j].cache {
		if part := e.verifiers[j].cache[i].Load(); part != nil {
			if sum += len(*part); len(*part) > perShard {
				t.Errorf("%d tokens in one part", len(*part))
			}
		}
	}
	if sum < cacheShards*perShard/4 {
		t.Errorf("%d tokens are there", sum)
	}
}

// BenchmarkToken: the first look at a token of 1 KiB, and the next ones.
func BenchmarkToken(b *testing.B) {
	now := time.Now()
	for _, alg := range []jose.SignatureAlgorithm{jose.RS256, jose.ES256, jose.EdDSA} {
		by := newIssuer(b, alg, "k")
		path := filepath.Join(b.TempDir(), "keys.json")
		writeSet(b, path, by)
		e, j := follow(b, &Keeper{}, path, "tickets")
		text := by.sign(b, good(now, map[string]any{"more": strings.Repeat("x", 450)}))
		b.Run(string(alg)+"/first", func(b *testing.B) {
			for b.Loop() {
				if _, err := e.verifiers[j].check(text, e.verifiers[j].keys.now.Load(), now); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(string(alg)+"/kept", func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := e.Verify(j, text, now); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
