package proxy

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightjar/wire"
)

// certificate writes a self-signed certificate and its key as NAME.pem and NAME.key.
func certificate(t *testing.T, dir, name string, serial int64, hosts ...string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, DNSNames: hosts, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{name + ".pem": {Type: "CERTIFICATE", Bytes: der}, name + ".key": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// shown makes one request by TLS and tells which certificate was shown, in
// which protocol, and what came back.
func shown(address, host, proto string) (serial int64, got string) {
	tr := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: host}, DisableKeepAlives: true, ForceAttemptHTTP2: proto == "HTTP/2.0",
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "tcp", address)
		}}
	resp, err := (&http.Client{Transport: tr, Timeout: 10 * time.Second}).Get("https://" + host + "/")
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.TLS.PeerCertificates[0].SerialNumber.Int64(), resp.Proto + " " + string(b)
}

// TestGatewayTLS: the certificate follows the host that is asked for, changed
// files are taken into use, and a change that is half done hurts nobody.
func TestGatewayTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	certificate(t, dir, "a", 1, "a.example")
	certificate(t, dir, "b", 2, "*.b.example")
	f := newFake(t)
	p := runProxy(t, f, Config{ID: "g", Gateway: "door", TLSDir: dir})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := l.Addr().String()
	l.Close()
	rulesWith := func(tls string) string {
		return toV1 + fmt.Sprintf("\ngateways: {door: {listen: %q, hosts: ['*'], %s routes: [{name: all, send: s}]}}", at, tls)
	}
	both := rulesWith("tls: [{cert: a.pem, key: a.key}, {cert: b.pem, key: b.key}],")
	if ack := f.send(1, both, true, instance(t, "one", "v1")); ack.Error != "" || p.Outbound() != at {
		t.Fatalf("%+v at %s", ack, p.Outbound())
	}
	for _, c := range []struct {
		host, proto string
		serial      int64
	}{{"a.example", "HTTP/1.1", 1}, {"x.b.example", "HTTP/1.1", 2}, {"x.b.example", "HTTP/2.0", 2}, {"nobody.example", "HTTP/1.1", 1}} {
		if serial, got := shown(at, c.host, c.proto); serial != c.serial || got != c.proto+" one" {
			t.Errorf("%s: certificate %d, %q", c.host, serial, got)
		}
	}
	old, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.0"}})
	if err != nil {
		t.Fatalf("a caller that offers HTTP/1.0 alone: %v", err)
	}
	defer old.Close()
	io.WriteString(old, "GET / HTTP/1.0\r\nHost: a.example\r\n\r\n")
	if b, err := io.ReadAll(old); err != nil || !strings.HasSuffix(string(b), "\r\n\r\none") {
		t.Errorf("by HTTP/1.0: %q, %v", b, err)
	}
	if got := ask(at, "a.example", "/"); strings.Contains(got, "one") {
		t.Errorf("without TLS: %q", got)
	}
	// The key of another certificate: what was good stays until the two fit.
	certificate(t, dir, "c", 3, "a.example")
	key, _ := os.ReadFile(filepath.Join(dir, "c.key"))
	cert, _ := os.ReadFile(filepath.Join(dir, "c.pem"))
	os.WriteFile(filepath.Join(dir, "a.key"), key, 0o600)
	if _, err := p.certs.Refresh(); err == nil || !strings.Contains(err.Error(), "a.pem") {
		t.Errorf("half a change: %v", err)
	}
	if serial, got := shown(at, "a.example", "HTTP/1.1"); serial != 1 {
		t.Errorf("while the files do not fit: certificate %d, %q", serial, got)
	}
	os.WriteFile(filepath.Join(dir, "a.pem"), cert, 0o600)
	waitFor(t, func() bool { serial, _ := shown(at, "a.example", "HTTP/1.1"); return serial == 3 }) // by itself
	// Files that are gone are said, and what is in use stays.
	problem := func() string {
		for _, one := range p.problems() {
			if one.Kind == wire.ProblemCertificate {
				return one.Detail
			}
		}
		return ""
	}
	if f.send(2, rulesWith("tls: {cert: gone.pem, key: gone.key},"), true); !strings.Contains(problem(), filepath.Join(dir, "gone.pem")) {
		t.Errorf("a file that is gone: %q", problem())
	}
	if serial, _ := shown(at, "a.example", "HTTP/1.1"); serial != 3 {
		t.Errorf("after a file that is gone: certificate %d", serial)
	}
	certificate(t, dir, "gone", 4, "a.example")
	waitFor(t, func() bool { serial, _ := shown(at, "a.example", "HTTP/1.1"); return serial == 4 && problem() == "" }) // it is there now
	f.send(3, strings.Replace(rulesWith("tls: {cert: b.pem, key: b.key},"), "'*'", "other.example", 1), true)
	if got := problem(); got != "no certificate covers host other.example" {
		t.Errorf("a host without a certificate: %q", got)
	}
	// Rules without TLS take it away on the same port.
	f.send(4, rulesWith(""), true)
	if got := ask(at, "a.example", "/"); got != "one" {
		t.Errorf("plain again: %q", got)
	}
}
