package test

import (
	"bytes"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/service"
	"nightjar/wire"
)

// stolen is the certificate of a proxy, in the hands of somebody else.
func stolen(t *testing.T, server, name, id string) *tls.Certificate {
	t.Helper()
	token, err := service.ReadJoinFile(server)()
	if err != nil {
		t.Fatal(err)
	}
	key, err := identity.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	ask, err := x509.CreateCertificateRequest(nil, &x509.CertificateRequest{}, key)
	if err != nil {
		t.Fatal(err)
	}
	body, _ := json.Marshal(wire.Join{Secret: token.Secret, Request: ask, ID: id, Service: name, Version: "v1"})
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: token.Config(), DisableKeepAlives: true}, Timeout: patience}
	resp, err := c.Post("https://"+server+wire.JoinPath, "application/json", bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var joined wire.Joined
	if text, _ := io.ReadAll(resp.Body); json.Unmarshal(text, &joined) != nil || joined.Chain == "" {
		t.Fatalf("%s", text)
	}
	chain, err := identity.DecodeCertificates([]byte(joined.Chain))
	if err != nil {
		t.Fatal(err)
	}
	return identity.Certificate(chain, key)
}

// forged is a certificate of another authority, for a member of this one.
func forged(t *testing.T, service, id string, now func() time.Time) *tls.Certificate {
	t.Helper()
	ca, err := authority.Open(authority.Config{Dir: t.TempDir(), Now: now})
	if err != nil {
		t.Fatal(err)
	}
	var c identity.Credentials
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: service}, Domain: ca.Domain(), ID: id}
	if err := ca.Credentials(who, &c); err != nil {
		t.Fatal(err)
	}
	return c.Own()
}

// knock calls an inbound port by hand, with a certificate or without TLS.
func knock(address string, shown *tls.Certificate, fields ...string) string {
	tr := &http.Transport{DisableKeepAlives: true}
	url := "http://" + address + "/x"
	if shown != nil {
		url = "https://" + address + "/x"
		tr.TLSClientConfig = &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{*shown}}
		if len(shown.Certificate) == 0 {
			tr.TLSClientConfig.Certificates = nil
		}
	}
	req, _ := http.NewRequest("GET", url, nil)
	for i := 0; i+1 < len(fields); i += 2 {
		req.Header.Set(fields[i], fields[i+1])
	}
	resp, err := (&http.Client{Transport: tr, Timeout: patience}).Do(req)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.Status + " " + string(b)
}

// TestOutsidersAtAnInboundPort: whoever calls a workload's port by hand is refused as
// what it can prove to be, counted, and seen with the reason.
func TestOutsidersAtAnInboundPort(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	at := m.member("berths-v1-a", "is there", follows).Inbound
	for _, c := range []struct {
		name   string
		shown  *tls.Certificate
		fields []string
		want   string
	}{
		{"without anything", nil, nil, "403 Forbidden 403 denied: request "},
		{"by a name that it gives itself", nil, []string{wire.HeaderCaller, "sailings"}, "403 Forbidden 403 denied: request "},
		{"by TLS without a certificate", &tls.Certificate{}, nil, "tls: "},
		{"with one of its own making", forged(t, "sailings", "sailings-v1-a", nil), nil, "tls: "},
		{"with a stolen one of a service that may not", stolen(t, m.addr, "tides", "thief"), nil, "tides may not call berths like this"},
		{"with a stolen one of a service that may", stolen(t, m.addr, "sailings", "thief-2"), nil, "200 OK"},
	} {
		if got := knock(at, c.shown, c.fields...); !strings.Contains(got, c.want) {
			t.Errorf("%s: %s", c.name, got)
		}
	}
	eventually(t, "what was refused is counted", func() bool {
		out := m.must(0, "access", "--to", "berths", "-o", "json")
		var a model.AccessMatrix
		if err := json.Unmarshal([]byte(out), &a); err != nil {
			t.Fatal(err)
		}
		refused := map[string]uint64{}
		for _, l := range a.Links {
			refused[l.From] = l.Refused
		}
		return refused[""] == 2 && refused["tides"] == 1
	})
	eventually(t, "the reasons are in the activity log", func() bool {
		out := m.must(0, "activity", "--limit", "100")
		for _, want := range []string{"no identity: it spoke without TLS", "no identity: it showed no certificate", "of an authority that this mesh does not trust"} {
			if !strings.Contains(out, want) {
				return false
			}
		}
		return strings.Contains(out, "caller-refused")
	})
}

// TestRotationUnderLoad: the root is replaced while requests go on and the service is
// killed in the middle; no request fails, and who has a certificate of the old root alone
// is refused afterwards.
func TestRotationUnderLoad(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	start(t, "proxy ready", "proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a")
	lamp := p.member("lamp-v1", "follows", follows)
	old := stolen(t, p.addr, "kiosk", "old")
	if got := knock(lamp.Inbound, old); !strings.Contains(got, "200 OK") {
		t.Fatal(got)
	}
	stop := load(t, p.outbound("kiosk"), "lamp", "/")
	p.must(0, "ca", "rotate")
	if out, errs, code := p.run("ca", "rotate"); code == 0 || !strings.Contains(errs, "being replaced") {
		t.Errorf("a second one: %s%s", out, errs)
	}
	phase := func() string {
		a, err := p.api.Authority(t.Context())
		if err != nil {
			return err.Error()
		}
		return a.Phase
	}
	eventually(t, "certificates of the new root", func() bool { return phase() == "signing" })
	p.service.cmd.Process.Kill()
	<-p.service.done
	p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
	eventually(t, "the end of the rotation", func() bool { return phase() == "steady" })
	if sent, bad := stop(); len(bad) > 0 || sent < 100 {
		t.Errorf("%d of %d requests failed, the first: %v", len(bad), sent, bad[:min(1, len(bad))])
	}
	eventually(t, "the old root is forgotten", func() bool { return strings.Contains(knock(lamp.Inbound, old), "tls: ") })
	f, err := p.api.Fleet(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range f.Proxies {
		if one.Certificate == nil || one.Certificate.IsOld || one.Certificate.Trusts != 3 {
			t.Errorf("%s: %+v", one.ID, one.Certificate)
		}
	}
}

// TestFromPlainToRequired: first whoever comes is let in and named, then nobody fails, and
// at the end an identity is required.
func TestFromPlainToRequired(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	lamp := p.member("lamp-v1", "follows", follows)
	publish := func(mode string) {
		t.Helper()
		text := "services: {lamp: {versions: [v1, v2], identity: " + mode + "}}"
		p.must(0, "rules", "publish", write(t, t.TempDir(), "rules.yaml", text))
	}
	without := func() (n uint64) {
		a, err := p.api.Access(t.Context(), "", "lamp")
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range a.Links {
			if l.From == "" {
				n = l.Used
			}
		}
		return n
	}
	member := stolen(t, p.addr, "kiosk", "k")
	publish("none")
	if got := knock(lamp.Inbound, nil); !strings.HasPrefix(got, "200 OK") {
		t.Errorf("none: %s", got)
	}
	publish("optional")
	for range 3 {
		if got := knock(lamp.Inbound, nil, wire.HeaderCaller, "kiosk"); !strings.HasPrefix(got, "200 OK") {
			t.Errorf("optional, plain: %s", got)
		}
		if got := knock(lamp.Inbound, member); !strings.HasPrefix(got, "200 OK") {
			t.Errorf("optional, a member: %s", got)
		}
	}
	if got := knock(lamp.Inbound, forged(t, "kiosk", "k", nil)); !strings.Contains(got, "tls: ") {
		t.Errorf("a bad certificate is worse than none: %s", got)
	}
	eventually(t, "callers without identity are counted", func() bool { return without() == 4 })
	eventually(t, "their addresses are listed, of the time that an identity was asked for", func() bool {
		a, err := p.api.Access(t.Context(), "", "lamp")
		if err != nil {
			t.Fatal(err)
		}
		return len(a.Unproven) == 1 && a.Unproven[0].Address == "127.0.0.1" && a.Unproven[0].Requests == 3
	})
	publish("required")
	if got := knock(lamp.Inbound, nil); !strings.HasPrefix(got, "403") {
		t.Errorf("required, plain: %s", got)
	}
	if got := knock(lamp.Inbound, member); !strings.HasPrefix(got, "200 OK") {
		t.Errorf("required, a member: %s", got)
	}
}

// TestDenyByMistake: a default that refuses what is used is published only by force, and
// restored.
func TestDenyByMistake(t *testing.T) {
	t.Parallel()
	m := startDemo(t)
	text, _, _ := strings.Cut(m.must(0, "rules", "show"), "  rules:\n    - {name: visitors")
	_, rest, _ := strings.Cut(m.must(0, "rules", "show"), "to: [tides], allow: all}\n")
	file := write(t, t.TempDir(), "rules.yaml", text+rest)
	eventually(t, "the check names the link that is used", func() bool {
		out := m.must(0, "rules", "check", file)
		return strings.Contains(out, "front-door calls kiosk (") && strings.Contains(out, "requests/s now), and no access rule allows it")
	})
	if _, errs, code := m.run("rules", "publish", file); code != 1 || !strings.Contains(errs, "--refuse-used-links") {
		t.Errorf("publish: exit %d, %s", code, errs)
	}
	m.must(0, "rules", "publish", file, "--refuse-used-links")
	if got := m.call(5, "http://tickets.ferry.example/"); got.Reasons["denied"] != 5 {
		t.Errorf("%+v", got.Reasons)
	}
	m.must(0, "rules", "restore", "1")
	if got := m.call(5, "http://tickets.ferry.example/"); got.Reasons["denied"] != 0 {
		t.Errorf("restored: %+v", got.Reasons)
	}
	if out := m.must(0, "access", "suggest"); !strings.Contains(out, "from: [gateway/front-door]") {
		t.Errorf("suggestion:\n%s", out)
	}
}

// TestAwayForTooLong: a proxy whose certificate ran out while it was off says so, and how
// to go on.
func TestAwayForTooLong(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	state := t.TempDir()
	past := func() time.Time { return time.Now().Add(-48 * time.Hour) }
	old := forged(t, "kiosk", "kiosk-a", past)
	key, err := identity.EncodeKey(old.PrivateKey.(crypto.Signer))
	if err != nil {
		t.Fatal(err)
	}
	chain, err := x509.ParseCertificate(old.Certificate[0])
	if err != nil {
		t.Fatal(err)
	}
	signer, err := x509.ParseCertificate(old.Certificate[1])
	if err != nil {
		t.Fatal(err)
	}
	kept, _ := json.Marshal(map[string]any{"key": string(key), "chain": string(identity.EncodeCertificates([]*x509.Certificate{chain, signer})),
		"trust": wire.Trust{Domain: identity.DefaultDomain, Generation: 1, Roots: string(identity.EncodeCertificates([]*x509.Certificate{signer}))}})
	write(t, state, "kiosk-a.identity", string(kept))
	out, _, code := runIn(t, "", "join-token", "create", "--server", p.addr, "--service", "kiosk")
	if code != 0 {
		t.Fatal(out)
	}
	token := write(t, t.TempDir(), "token", out)
	first := start(t, "proxy ready", "proxy", "--join", token, "--service", "kiosk", "--version", "v1", "--name", "kiosk-b")
	first.cmd.Process.Kill()
	<-first.done
	start(t, "ran out on", "proxy", "--join", token, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--state", state)
	again := start(t, "join-token create", "proxy", "--join", token, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--state", state)
	if !strings.Contains(again.said(), "is used up") {
		t.Error(again.said())
	}
}
