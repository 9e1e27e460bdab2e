package test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// startService runs a service without a mesh.
func startService(t *testing.T, addr, data string) *mesh {
	t.Helper()
	return newMesh(t, start(t, "Console and API", "serve", "--listen", addr, "--data", data), addr)
}

// raw makes a call of the API; lines are header lines.
func (m *mesh) raw(method, path string, in, out any, lines ...string) int {
	m.t.Helper()
	status, text := m.answer(method, path, in, lines...)
	if out != nil && status < 300 {
		if err := json.Unmarshal([]byte(text), out); err != nil {
			m.t.Fatalf("%s: %v", text, err)
		}
	}
	return status
}

// answer is raw with the text of the answer.
func (m *mesh) answer(method, path string, in any, lines ...string) (status int, text string) {
	m.t.Helper()
	var body bytes.Buffer
	if in != nil {
		if err := json.NewEncoder(&body).Encode(in); err != nil {
			m.t.Fatal(err)
		}
	}
	req, err := http.NewRequest(method, "http://"+m.web+"/api/v1"+path, &body)
	if err != nil {
		m.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+m.token)
	for _, l := range lines {
		k, v, _ := strings.Cut(l, ": ")
		req.Header.Set(k, v)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		m.t.Fatal(err)
	}
	defer resp.Body.Close()
	all, err := io.ReadAll(resp.Body)
	if err != nil {
		m.t.Fatal(err)
	}
	return resp.StatusCode, string(all)
}

// signed is the chain for a signing request, by an authority of somebody else.
func signed(t *testing.T, request string) string {
	t.Helper()
	block, _ := pem.Decode([]byte(request))
	if block == nil {
		t.Fatalf("no signing request: %s", request)
	}
	asked, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	var chain []byte
	issue := func(serial int64, name string, parent *x509.Certificate, public any) *x509.Certificate {
		c := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true,
			KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}
		if parent == nil {
			parent = c
		}
		der, err := x509.CreateCertificate(rand.Reader, c, parent, public, key)
		if err != nil {
			t.Fatal(err)
		}
		chain = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), chain...)
		out, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	root := issue(1, "harbour office", nil, key.Public())
	issue(2, "the mesh", root, asked.PublicKey)
	return string(chain)
}

// TestTheRestOfTheDocument calls with success what no other story needs.
func TestTheRestOfTheDocument(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	var token struct{ ID string }
	var request struct{ Request string }
	for _, c := range []struct {
		method, path string
		in, out      any
		status       int
		lines        []string
	}{
		{"POST", "/fleet/adopt", map[string]any{"proxies": []string{"front-door-a"}}, nil, 200, nil},
		{"POST", "/rules/format", map[string]any{"files": []map[string]string{{"name": "a", "text": "services:  {}\n"}}}, nil, 200, nil},
		{"GET", "/drafts", nil, nil, 200, nil},
		{"GET", "/drills", nil, nil, 200, nil},
		{"GET", "/trials", nil, nil, 200, nil},
		{"GET", "/authority/roots", nil, nil, 200, nil},
		{"POST", "/join-tokens", map[string]any{"service": "sailings"}, &token, 201, nil},
		{"GET", "/join-tokens", nil, nil, 200, nil},
		{"POST", "/trials", map[string]any{"name": "morning-rush", "for": "1s"}, nil, 201, nil},
		{"POST", "/authority/request", nil, &request, 200, nil},
	} {
		if got := m.raw(c.method, c.path, c.in, c.out, c.lines...); got != c.status {
			t.Errorf("%s %s: %d, want %d", c.method, c.path, got, c.status)
		}
	}
	m.must(0, "release", "key")
	if got := m.raw("DELETE", "/join-tokens/"+token.ID, nil, nil); got != 200 {
		t.Errorf("revoked: %d", got)
	}
	eventually(t, "the trial ends", func() bool {
		var one struct{ State string }
		m.raw("GET", "/trials/1", nil, &one)
		return one.State != "" && one.State != "running"
	})
	if got := m.raw("GET", "/trials/1/report", nil, nil); got != 200 {
		t.Errorf("report: %d", got)
	}
	if got := m.raw("POST", "/authority/install", map[string]any{"chain": signed(t, request.Request)}, nil); got != 200 {
		t.Errorf("installed: %d", got)
	}
}

// TestBackupUnderLoad: a backup that is made while people publish as fast as they can is
// one moment of the records; a service goes on from it, and proxies that follow what came
// later do not follow it back until somebody publishes.
func TestBackupUnderLoad(t *testing.T) {
	t.Parallel()
	addr, dir := freeBase(t), t.TempDir()
	data, file := filepath.Join(dir, "data"), filepath.Join(dir, "backup.tar")
	m := startService(t, addr, data)
	m.must(0, "rules", "publish", write(t, dir, "r.yaml", "services: {quay: {versions: [v1, v2], routes: [{name: all, send: {v1: 90, v2: 10}}]}}\n"))
	start(t, "proxy ready", "proxy", "--server", addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--state", "")
	eventually(t, "the proxy follows", func() bool { return strings.Contains(m.must(0, "fleet"), "kiosk-a") })

	var last atomic.Int64
	var publishing sync.WaitGroup
	stop := make(chan struct{})
	publishing.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			var out struct{ Revision int64 }
			in := map[string]any{"weights": []map[string]string{{"target": "v1", "weight": fmt.Sprint(1 + n%90)}, {"target": "v2", "weight": fmt.Sprint(99 - n%90)}}, "waitMS": 0}
			if got := m.raw("POST", "/services/quay/split", in, &out, "If-Match: *"); got != 201 {
				t.Errorf("split: %d", got)
				return
			}
			last.Store(out.Revision)
		}
	})
	eventually(t, "some revisions", func() bool { return last.Load() > 20 })
	before := last.Load()
	m.must(0, "backup", file, "--data", data)
	after := last.Load()
	eventually(t, "more revisions", func() bool { return last.Load() > after+20 })
	close(stop)
	publishing.Wait()
	if _, errs, code := m.run("backup", file, "--data", data); code == 0 || !strings.Contains(errs, "there already") {
		t.Errorf("over the first: exit %d\n%s", code, errs)
	}
	m.cmd.Process.Kill()
	<-m.done
	if err := os.Rename(data, data+"-lost"); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := runIn(t, "", "restore", file, "--data", data); code != 0 || !strings.Contains(out, "Records restored") {
		t.Fatalf("restore: exit %d\n%s%s", code, out, errs)
	}
	m = startService(t, addr, data)
	restored := int64(m.revision())
	if restored < before || restored > after+1 {
		t.Errorf("the backup has revision %d; before it there were %d, after it %d", restored, before, after)
	}
	eventually(t, "the proxy says that it follows newer rules", func() bool {
		return strings.Contains(m.must(0, "fleet"), "with older records")
	})
	m.must(0, "split", "quay", "v1=50", "v2=50")
	eventually(t, "the proxy follows what was published", func() bool {
		return !strings.Contains(m.must(0, "fleet"), "attention")
	})
	if now := int64(m.revision()); now <= last.Load() {
		t.Errorf("the next revision is %d, and %d was given away before", now, last.Load())
	}
	if out := m.must(0, "activity"); !strings.Contains(out, "records-restored") {
		t.Errorf("activity:\n%s", out)
	}
}

// TestCallsToAGatewayWithTLS: requests that people ask for reach a gateway that speaks TLS,
// by the name that they ask for; what does not speak to the mesh is no success.
func TestCallsToAGatewayWithTLS(t *testing.T) {
	t.Parallel()
	addr, dir := freeBase(t), t.TempDir()
	m := startService(t, addr, filepath.Join(dir, "data"))
	host, port, _ := net.SplitHostPort(addr)
	listen := net.JoinHostPort(host, fmt.Sprint(func() int { n, _ := strconv.Atoi(port); return n + 80 }()))
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	own := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"pier.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, own, own, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	ca := write(t, dir, "pier.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	keyFile := write(t, dir, "pier.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})))
	m.must(0, "rules", "publish", write(t, dir, "r.yaml", fmt.Sprintf(`services: {}
gateways:
  pier:
    listen: %s
    hosts: [pier.example]
    tls: [{cert: %s, key: %s}]
    routes: [{name: well, when: {path: /well}, reply: {status: 200, body: "well"}}]
`, listen, ca, keyFile)))
	start(t, "proxy ready", "proxy", "--server", addr, "--gateway", "pier", "--state", "")
	eventually(t, "the service has a proxy of its own", func() bool {
		_, errs, _ := m.run("call", "https://pier.example/well", "--ca", ca)
		return !strings.Contains(errs, "ready") && !strings.Contains(errs, "no proxy serves")
	})
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"https://pier.example/well --ca " + ca, 0, "Success    100.0%"},
		{"https://pier.example/well --insecure", 0, "Success    100.0%"},
		{"https://pier.example/other --ca " + ca, 1, "no-route 1"},
		{"https://pier.example/well", 1, "certificate not trusted 1"},
		{"https://" + listen + "/well --ca " + ca, 1, "certificate not trusted 1"}, // it is of another name
		{"http://pier.example/well", 2, "gateway pier speaks TLS: call https://pier.example"},
		{"https://quay/well", 2, "no host of a gateway"},
		{"https://pier.example/well --ca " + keyFile, 2, "no certificate in PEM"},
		{"https://pier.example/well --ca /nowhere", 2, "no such file"},
	} {
		out, errs, code := m.run(append([]string{"call"}, strings.Fields(c.args)...)...)
		if code != c.code || !strings.Contains(out+errs, c.want) {
			t.Errorf("call %s: exit %d, want %d and %q\n%s%s", c.args, code, c.code, c.want, out, errs)
		}
	}
	if out := m.must(0, "explain", "GET", "https://pier.example/well"); !strings.Contains(out, `responds by itself: 200 "well"`) {
		t.Errorf("explain:\n%s", out)
	}
}

// TestTheFilesGo: a service whose files are removed says so at once, and does not say that
// it stored anything.
func TestTheFilesGo(t *testing.T) {
	t.Parallel()
	addr, data := freeBase(t), filepath.Join(t.TempDir(), "data")
	m := startService(t, addr, data)
	rules := write(t, t.TempDir(), "r.yaml", "services: {quay: {versions: [v1]}}\n")
	m.must(0, "rules", "publish", rules)
	if _, errs, code := runIn(t, "", "serve", "--listen", freeBase(t), "--data", data); code != 1 || !strings.Contains(errs, "is in use by process") || !strings.Contains(errs, addr) {
		t.Errorf("a second service: exit %d\n%s", code, errs)
	}
	if err := os.RemoveAll(data); err != nil {
		t.Fatal(err)
	}
	other := write(t, t.TempDir(), "r.yaml", "services: {quay: {versions: [v2]}}\n")
	if _, errs, code := m.run("rules", "publish", other); code == 0 || !strings.Contains(errs, "was removed while the service is running") {
		t.Errorf("a publish: exit %d\n%s", code, errs)
	}
	resp, err := http.Get("http://" + addr + "/readyz")
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if resp.StatusCode != 503 || !strings.Contains(string(text), "restore a backup") {
		t.Errorf("ready: %d %s", resp.StatusCode, text)
	}
	if now := m.revision(); now != 1 {
		t.Errorf("revision %d is in force", now)
	}
}
