package carry

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
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
	"nightjar/proxy/outside"
)

// callsOutside is a caller's proxy by rules about services outside the mesh.
func callsOutside(t *testing.T, kind string, d *outside.Dialer, text string) hop {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "outside.yaml", Text: text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	table, err := engine.Compile(rs, nil, engine.Options{Revision: 7})
	if err != nil {
		t.Fatal(err)
	}
	d.Follow(rs)
	e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	e.transport.Outside, e.pools.Outside = d, d
	t.Cleanup(func() { e.transport.CloseIdle(); e.pools.CloseIdle() })
	c := newCaller("", table, e.transport)
	t.Cleanup(c.Close)
	rec := observe.NewRecorder(2, "caller")
	return hop{"http://" + e.listen(c, rec), rec, c, nil}
}

// TestServiceTLS: whoever carries a request shows the certificate of its service, and trusts
// its authority.
func TestServiceTLS(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		dir := t.TempDir()
		key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "kiosk"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, DNSNames: []string{"office.example"},
			KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
		der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
		if err != nil {
			t.Fatal(err)
		}
		private, _ := x509.MarshalPKCS8PrivateKey(key)
		os.WriteFile(filepath.Join(dir, "own.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
		os.WriteFile(filepath.Join(dir, "own.key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600)
		pool := x509.NewCertPool()
		c, _ = x509.ParseCertificate(der)
		pool.AddCert(c)
		office := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			n, _ := io.Copy(io.Discard, r.Body)
			fmt.Fprintf(w, "%s by HTTP/%d, %d bytes\n", r.TLS.PeerCertificates[0].Subject.CommonName, r.ProtoMajor, n)
		}))
		office.EnableHTTP2, office.Config.ErrorLog = true, log.New(io.Discard, "", 0)
		office.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool}
		office.StartTLS()
		t.Cleanup(office.Close)
		const service = "  %s: {versions: [v1], %s tls: {authority: own.pem, cert: own.pem, key: own.key, name: office.example}, instances: [{at: %q, version: v1}]}\n"
		h := callsOutside(t, kind, &outside.Dialer{Dir: dir}, "services:\n"+fmt.Sprintf(service, "office", "", office.URL)+fmt.Sprintf(service, "spoken", "protocol: http2,", office.URL)+
			fmt.Sprintf("  stranger: {versions: [v1], instances: [{at: %q, version: v1}]}\n", office.URL))
		for _, protocol := range []string{"1.0", "1.1", "2"} {
			for host, want := range map[string]string{"office": "kiosk by HTTP/1, 3 bytes", "spoken": "kiosk by HTTP/2, 3 bytes", "stranger": "tls: "} {
				for range 2 {
					request := strings.Replace(strings.Replace(get("/", "Content-Length: 3"), "Host: s", "Host: "+host, 1), "GET", "POST", 1) + "tea"
					if got := h.ask(t, protocol, request); !strings.Contains(got, want) {
						t.Errorf("%s by HTTP/%s, want %q:\n%s", host, protocol, want, got)
					}
				}
			}
		}
	})
}

// TestNameMoves: requests follow a name to its new address, while connections to the old one are
// kept.
func TestNameMoves(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var asked [2]atomic.Int32
		port := ""
		for i := range asked {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.%d:%s", i+1, map[bool]string{true: "0", false: port}[i == 0]))
			if err != nil {
				t.Fatal(err)
			}
			_, port, _ = net.SplitHostPort(l.Addr().String())
			srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { asked[i].Add(1) }))
			srv.Listener.Close()
			srv.Listener = l
			srv.Start()
			t.Cleanup(srv.Close)
		}
		var at atomic.Int32
		d := &outside.Dialer{Lookup: func(context.Context, string) ([]netip.Addr, error) {
			return []netip.Addr{netip.MustParseAddr(fmt.Sprintf("127.0.0.%d", at.Load()+1))}, nil
		}}
		h := callsOutside(t, kind, d, "services: {office: {versions: [v1], instances: [{at: \"http://office.example:"+port+"\", version: v1}]}}")
		request := strings.Replace(get("/"), "Host: s", "Host: office", 1)
		for range 3 {
			if got := h.raw(t, request); !strings.Contains(got, "200 OK") {
				t.Fatal(got)
			}
		}
		at.Store(1)
		before := asked[0].Load()
		for end := time.Now().Add(20 * time.Second); asked[1].Load() == 0; time.Sleep(50 * time.Millisecond) {
			if got := h.raw(t, request); !strings.Contains(got, "200 OK") {
				t.Fatal(got)
			}
			d.Look() // as the proxy does
			h.router.mirrors.transport.Sweep()
			if time.Now().After(end) {
				t.Fatalf("requests still go to the old address: %d", asked[0].Load())
			}
		}
		if before != 3 || asked[1].Load() == 0 {
			t.Errorf("%d and %d", before, asked[1].Load())
		}
	})
}

// TestUndeclared: a request to a host that nothing declares is told of, and one without a route
// is not.
func TestUndeclared(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := callsOutside(t, kind, &outside.Dialer{}, "services: {office: {versions: [v1], routes: [{name: a, when: {path: /a}, send: v1}]}}")
		var told []string
		h.router.Undeclared = func(host string) { told = append(told, strings.Clone(host)) }
		for _, protocol := range []string{"1.0", "1.1", "2"} {
			for _, host := range []string{"Ghost.example:81", "office"} {
				if got := h.ask(t, protocol, strings.Replace(get("/"), "Host: s", "Host: "+host, 1)); !strings.Contains(got, "404 ") {
					t.Error(got)
				}
			}
		}
		if fmt.Sprint(told) != "[Ghost.example:81 Ghost.example:81 Ghost.example:81]" {
			t.Error(told)
		}
	})
}
