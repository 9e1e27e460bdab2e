package outside

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/rules"
)

// lookups answers for one name.
type lookups struct {
	mu    sync.Mutex
	addrs []string
	asked int
}

func (l *lookups) find(context.Context, string) (out []netip.Addr, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.asked++
	if l.addrs == nil {
		return nil, errors.New("no server answers")
	}
	for _, a := range l.addrs {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, nil
}

func (l *lookups) set(addrs ...string) {
	l.mu.Lock()
	l.addrs = addrs
	l.mu.Unlock()
}

// age makes what is known of a name old.
func (d *Dialer) age(host string) {
	d.mu.Lock()
	d.names[host].found = time.Now().Add(-2 * lookEvery)
	d.mu.Unlock()
}

// TestNames: a name is looked up again and again, its addresses take turns, one that takes no
// connection is passed over, and the last good ones are kept.
func TestNames(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	other, err := net.Listen("tcp", "127.0.0.2:"+port)
	if err != nil {
		t.Fatal(err)
	}
	look := &lookups{}
	d := &Dialer{Lookup: look.find}
	dial := func(n int) map[string]int {
		t.Helper()
		got := map[string]int{}
		for range n {
			conn, err := d.Dial(t.Context(), "office.example:"+port)
			if err != nil {
				got[err.Error()]++
				continue
			}
			host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
			got[host]++
			conn.Close()
		}
		return got
	}
	var op *net.OpError
	if _, err := d.Dial(t.Context(), "office.example:"+port); !errors.As(err, &op) || op.Op != "dial" || !strings.Contains(d.Problem(), "office.example cannot be found, and it cannot be called: no server answers") {
		t.Errorf("without an answer: %v; %s", err, d.Problem())
	}
	look.set("127.0.0.2", "127.0.0.1", "127.0.0.1")
	d.age("office.example")
	if got := dial(10); got["127.0.0.1"] != 5 || got["127.0.0.2"] != 5 || d.Problem() != "" {
		t.Errorf("two addresses: %v; %s", got, d.Problem())
	}
	other.Close()
	if got := dial(10); got["127.0.0.1"] != 10 {
		t.Errorf("one takes no connection: %v", got)
	}
	asked := look.asked
	look.set()
	look.addrs = nil
	d.age("office.example")
	if got := dial(10); got["127.0.0.1"] != 10 {
		t.Errorf("with the last good addresses: %v", got)
	}
	for end := time.Now().Add(5 * time.Second); !strings.Contains(d.Problem(), "its last addresses are used"); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(d.Problem())
		}
	}
	if n := look.asked - asked; n != 1 {
		t.Errorf("%d lookups for ten connections", n)
	}
	// An address that is gone is noticed by whoever keeps connections there.
	look.set("127.0.0.3")
	d.age("office.example")
	if !d.NameOf("office.example:" + port).Has(netip.MustParseAddr("127.0.0.1")) {
		t.Error("an address is gone before it was looked up")
	}
	if d.HasMoved() {
		t.Error("an address was gone before")
	}
	d.Look()
	for end := time.Now().Add(5 * time.Second); d.NameOf("office.example:" + port).Has(netip.MustParseAddr("127.0.0.1")); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("an address that is gone is not noticed")
		}
	}
	for i := range 2 * maxNames {
		d.Dial(t.Context(), strings.Repeat("x", i%50+1)+"-"+string(rune('a'+i%26))+".example:1")
	}
	if n := len(d.names); n > maxNames {
		t.Errorf("%d names are known", n)
	}
}

// authority signs certificates.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pem  []byte
}

func newAuthority(t *testing.T) authority {
	t.Helper()
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "own"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	c, _ = x509.ParseCertificate(der)
	return authority{c, key, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}
}

func (a authority) issue(t *testing.T, name string) (cert, key []byte) {
	t.Helper()
	k, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	c := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotAfter: time.Now().Add(time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, a.cert, k.Public(), a.key)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := x509.MarshalPKCS8PrivateKey(k)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: text})
}

// TestTLS: each service has its authority, certificate and name; changed files are taken into
// use, and those that are broken are not.
func TestTLS(t *testing.T) {
	dir := t.TempDir()
	own, other := newAuthority(t), newAuthority(t)
	write := func(name string, text []byte) {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cert, key := own.issue(t, "kiosk")
	write("own.pem", own.pem)
	write("kiosk.pem", cert)
	write("kiosk.key", key)
	serverCert, serverKey := own.issue(t, "office.example")
	pair, err := tls.X509KeyPair(serverCert, serverKey)
	if err != nil {
		t.Fatal(err)
	}
	clients := x509.NewCertPool()
	clients.AddCert(own.cert)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}, ClientCAs: clients, ClientAuth: tls.RequireAndVerifyClientCert})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if s := c.(*tls.Conn); s.Handshake() == nil {
					s.Write([]byte(s.ConnectionState().PeerCertificates[0].Subject.CommonName))
				}
			}()
		}
	}()
	d := &Dialer{Dir: dir}
	follow := func(w rules.ServiceTLS) {
		d.Follow(&rules.Rules{Services: []*rules.Service{{Name: "office", TLS: &w}, {Name: "plain"}}})
	}
	ask := func(service string) string {
		conn, err := d.Dial(t.Context(), l.Addr().String())
		if err != nil {
			return err.Error()
		}
		s, err := d.Secure(t.Context(), conn, service, l.Addr().String())
		if err != nil {
			return err.Error()
		}
		defer s.Close()
		s.SetDeadline(time.Now().Add(5 * time.Second))
		var b [100]byte
		n, err := s.Read(b[:])
		if n == 0 {
			return err.Error()
		}
		return string(b[:n])
	}
	check := func(what, service, want string) {
		t.Helper()
		if got := ask(service); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %q", what, got, want)
		}
	}
	whole := rules.ServiceTLS{Authority: "own.pem", Cert: "kiosk.pem", Key: "kiosk.key", Name: "office.example"}
	follow(whole)
	check("as the rules say", "office", "kiosk")
	check("another service", "plain", "x509")
	unnamed := whole
	unnamed.Name = ""
	follow(unnamed)
	check("for another name", "office", "cannot validate certificate for 127.0.0.1")
	mute := whole
	mute.Cert, mute.Key = "", ""
	follow(mute)
	check("without a certificate", "office", "certificate required")
	follow(whole)
	cert, key = own.issue(t, "kiosk-2")
	write("kiosk.pem", cert)
	d.Refresh()
	check("half changed", "office", "kiosk")
	if !strings.Contains(d.Problem(), "TLS of service office: kiosk.pem and kiosk.key") {
		t.Error(d.Problem())
	}
	write("kiosk.key", key)
	d.Refresh()
	check("changed", "office", "kiosk-2")
	if d.Problem() != "" {
		t.Error(d.Problem())
	}
	write("own.pem", other.pem)
	d.Refresh()
	check("of another authority", "office", "unknown authority")
	missing := whole
	missing.Authority = "nowhere.pem"
	d = &Dialer{Dir: dir}
	follow(missing)
	check("files that there are not", "office", "cannot be used")
	if !strings.Contains(d.Problem(), "nowhere.pem") {
		t.Error(d.Problem())
	}
	follow(rules.ServiceTLS{Name: "office.example"})
	d.Follow(&rules.Rules{})
	if d.Problem() != "" {
		t.Error(d.Problem())
	}
}
