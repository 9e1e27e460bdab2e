package api

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"nightjar/control"
	"nightjar/control/members"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/wire"
)

// member is a proxy that has joined, as it speaks to the service.
type member struct {
	url    string // of its endpoints
	client *http.Client
	shown  *identity.Credentials
}

// ask makes a call below the endpoints of the proxy.
func (m *member) ask(method, path, body string) (status int, said string) {
	return sendTo(m.client, method, m.url+path, body)
}

func sendTo(client *http.Client, method, url, body string) (status int, said string) {
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	resp, err := client.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

// stranger is a client without a certificate, or with one that it has from elsewhere.
func stranger(shown *tls.Certificate) *http.Client {
	cfg := &tls.Config{InsecureSkipVerify: true, NextProtos: []string{identity.ControlProtocol, "http/1.1"}}
	if shown != nil {
		cfg.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return shown, nil }
	}
	return &http.Client{Transport: &http.Transport{TLSClientConfig: cfg, DisableKeepAlives: true}, Timeout: 5 * time.Second}
}

func request(t *testing.T, key *ecdsa.PrivateKey, ask *x509.CertificateRequest) []byte {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader, ask, key)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func secure(url string) string { return strings.Replace(url, "http://", "https://", 1) }

// join has a proxy join with the join file of the machine.
func join(t *testing.T, url string, c *control.Control, j wire.Join) *member {
	t.Helper()
	key, err := identity.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	j.Request = request(t, key, &x509.CertificateRequest{})
	if j.Secret == "" {
		j.Secret = c.Members.LocalSecret()
	}
	body, _ := json.Marshal(j)
	status, said := sendTo(stranger(nil), "POST", secure(url)+wire.JoinPath, string(body))
	if status != 200 {
		t.Fatal(status, said)
	}
	var joined wire.Joined
	if err := json.Unmarshal([]byte(said), &joined); err != nil {
		t.Fatal(err)
	}
	chain, err := identity.DecodeCertificates([]byte(joined.Chain))
	if err != nil {
		t.Fatal(err)
	}
	m := &member{url: secure(url) + wire.Prefix + j.ID, shown: &identity.Credentials{}}
	m.shown.Set(identity.Certificate(chain, key), c.Members.Authority.Trust())
	m.client = &http.Client{Transport: &http.Transport{TLSClientConfig: m.shown.ClientConfig(identity.Name{Kind: identity.Node})}}
	t.Cleanup(m.client.CloseIdleConnections)
	return m
}

// TestOnlyMembersSpeak: whoever reaches the port is heard by its certificate alone, and
// only about itself.
func TestOnlyMembersSpeak(t *testing.T) {
	url, c := serve(t)
	a := join(t, url, c, wire.Join{ID: "sailings-a", Service: "sailings", Version: "v1", Site: "north"})
	const mine = `{"id":"sailings-a","nonce":"1","service":"sailings","version":"v1","site":"north","inbound":"127.0.0.1:9"}`
	elsewhere, err := authority.Open(authority.Config{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	var forged identity.Credentials
	who, err := identity.MemberOf(a.shown.Own().Leaf)
	if err != nil {
		t.Fatal(err)
	}
	if err := elsewhere.Credentials(who, &forged); err != nil {
		t.Fatal(err)
	}
	if status, said := sendTo(stranger(forged.Own()), "PUT", a.url, mine); status != 401 || !strings.Contains(said, "does not trust") {
		t.Errorf("with a certificate of its own making: %d %s", status, said)
	}
	if status, said := sendTo(stranger(nil), "PUT", a.url, mine); status != 401 || !strings.Contains(said, "no identity") {
		t.Errorf("without a certificate: %d %s", status, said)
	}
	if status, said := sendTo(http.DefaultClient, "PUT", url+wire.Prefix+"sailings-a", mine); status != 405 && status != 404 {
		t.Errorf("without TLS: %d %s", status, said)
	}
	if status, said := a.ask("PUT", "", mine); status != 200 {
		t.Fatalf("by its own certificate: %d %s", status, said)
	}
	if f := c.Fleet.List().Proxies[0].Certificate; f == nil || f.Identity != "spiffe://nightjar.internal/service/sailings" || time.Until(f.Expires) < 23*time.Hour {
		t.Errorf("the fleet knows the certificate: %+v", f)
	}
	for _, lie := range []struct{ name, method, path, body, why string }{
		{"of another proxy", "PUT", "kiosk-a", strings.ReplaceAll(mine, "sailings-a", "kiosk-a"), "may not speak for kiosk-a"},
		{"another service", "PUT", "", strings.ReplaceAll(mine, `"service":"sailings"`, `"service":"kiosk"`), "is that of sailings, not of kiosk"},
		{"another version", "PUT", "", strings.ReplaceAll(mine, `"v1"`, `"v2"`), `is for version \"v1\"`},
		{"another site", "PUT", "", strings.ReplaceAll(mine, "north", "south"), `at site \"north\"`},
		{"a gateway", "PUT", "", strings.ReplaceAll(mine, `"service":"sailings"`, `"gateway":"door"`), "not of gateway/door"},
		{"a crossing", "PUT", "", strings.ReplaceAll(mine, `"service":"sailings"`, `"crossing":"north"`), "not of crossing/north"},
		{"requests at another site", "POST", "/telemetry", `{"nonce":"1","sequence":1,"caller":"sailings","callerVersion":"v1","callerSite":"south"}`, `is for site \"north\"`},
		{"an address elsewhere", "PUT", "", strings.ReplaceAll(mine, "127.0.0.1:9", "192.0.2.1:9"), "takes requests at 192.0.2.1"},
		{"an acknowledgement out of the blue", "POST", "/acks", `{"sequence":7,"revision":9}`, "acknowledges nothing"},
		{"requests of another caller", "POST", "/telemetry", `{"nonce":"1","sequence":1,"caller":"kiosk","callerVersion":"v1"}`, "may not count the requests of kiosk"},
		{"a request of another proxy", "POST", "/seen", `{"failures":[{"proxy":"kiosk-a","caller":"kiosk"}]}`, "only report its own"},
		{"a span of another proxy", "POST", "/seen", `{"spans":[{"proxy":"kiosk-a"}]}`, "only report its own"},
	} {
		to := a.url + lie.path
		if !strings.HasPrefix(lie.path, "/") && lie.path != "" {
			to = strings.TrimSuffix(a.url, "sailings-a") + lie.path
		}
		if status, said := sendTo(a.client, lie.method, to, lie.body); status < 400 || status >= 500 || !strings.Contains(said, lie.why) {
			t.Errorf("%s: %d %s", lie.name, status, said)
		}
	}
}

// TestJoining: a token makes a proxy what it says and nothing else, as often as it says.
func TestJoining(t *testing.T) {
	url, c := serve(t)
	create := func(w members.Wanted) (secret string) {
		t.Helper()
		secret, _, err := c.Members.CreateToken(context.Background(), w)
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	key, _ := identity.NewKey()
	weak, _ := ecdsa.GenerateKey(elliptic.P224(), rand.Reader)
	good := request(t, key, &x509.CertificateRequest{})
	ask := func(j wire.Join) (int, string) {
		if j.Request == nil {
			j.Request = good
		}
		body, _ := json.Marshal(j)
		return sendTo(stranger(nil), "POST", secure(url)+wire.JoinPath, string(body))
	}
	grant := store.Grant{Kind: identity.Service, Name: "sailings", Version: "v2"}
	secret := create(members.Wanted{Grant: grant})
	gone := create(members.Wanted{Grant: grant, For: time.Nanosecond})
	as := wire.Join{Secret: secret, ID: "sailings-9", Service: "sailings", Version: "v2"}
	with := func(change func(*wire.Join)) wire.Join { j := as; change(&j); return j }
	for _, bad := range []struct {
		name string
		join wire.Join
		why  string
	}{
		{"a token of nobody", with(func(j *wire.Join) { j.Secret = "x" }), "not one of this service"},
		{"one that ran out", with(func(j *wire.Join) { j.Secret = gone }), "was good until"},
		{"another service", with(func(j *wire.Join) { j.Service = "kiosk" }), "is for sailings, not for kiosk"},
		{"another version", with(func(j *wire.Join) { j.Version = "v1" }), "for version v2"},
		{"a gateway", with(func(j *wire.Join) { j.Service, j.Gateway = "", "door" }), "not for gateway/door"},
		{"a node", with(func(j *wire.Join) { j.Service = "../node/n" }), "cannot be a service"},
		{"a request that is none", with(func(j *wire.Join) { j.Request = []byte("x") }), "cannot be read"},
		{"a huge one", with(func(j *wire.Join) { j.Request = make([]byte, 20_000) }), "at most 16384"},
		{"a weak key", with(func(j *wire.Join) { j.Request = request(t, weak, &x509.CertificateRequest{}) }), "P-224"},
		{"more names", with(func(j *wire.Join) {
			j.Request = request(t, key, &x509.CertificateRequest{DNSNames: []string{"front.example"}})
		}), "more than one SPIFFE ID"},
		{"another name", with(func(j *wire.Join) {
			m := identity.Member{Name: identity.Name{Kind: identity.Service, Name: "fares"}, Domain: identity.DefaultDomain, ID: "x"}
			der, _ := identity.NewRequest(key, m)
			j.Request = der
		}), "may be for spiffe://nightjar.internal/service/sailings only"},
	} {
		if status, said := ask(bad.join); status < 400 || status >= 500 || !strings.Contains(said, bad.why) {
			t.Errorf("%s: %d %s", bad.name, status, said)
		}
	}
	if status, said := ask(as); status != 200 {
		t.Fatalf("what it is for: %d %s", status, said)
	}
	if status, said := ask(as); status != 200 {
		t.Errorf("the same proxy, which did not hear the answer: %d %s", status, said)
	}
	if status, said := ask(with(func(j *wire.Join) { j.ID = "sailings-10" })); status != 403 || !strings.Contains(said, "used up") {
		t.Errorf("a second proxy: %d %s", status, said)
	}
	thief, _ := identity.NewKey()
	if status, said := ask(with(func(j *wire.Join) { j.Request = request(t, thief, &x509.CertificateRequest{}) })); status != 403 || !strings.Contains(said, "used up") {
		t.Errorf("a thief with the same name: %d %s", status, said)
	}
}
