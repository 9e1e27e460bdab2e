package identity_test

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightjar/identity"
	"nightjar/identity/authority"
)

var sailings = identity.Member{
	Name:    identity.Name{Kind: identity.Service, Name: "sailings"},
	Domain:  identity.DefaultDomain,
	ID:      "sailings-v1-a",
	Version: "v1",
	Site:    "north-quay",
}

// newAuthority makes an authority whose clock says now.
func newAuthority(t testing.TB, now *time.Time) *authority.Authority {
	t.Helper()
	a, err := authority.Open(authority.Config{Dir: t.TempDir(), Now: func() time.Time { return *now }})
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func credentials(t testing.TB, a *authority.Authority, m identity.Member) *identity.Credentials {
	t.Helper()
	c := &identity.Credentials{}
	if err := a.Credentials(m, c); err != nil {
		t.Fatal(err)
	}
	return c
}

func chainOf(t testing.TB, c *identity.Credentials) (out []*x509.Certificate) {
	t.Helper()
	for _, der := range c.Own().Certificate {
		one, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, one)
	}
	return out
}

// TestVerify: a certificate says who somebody is, all of it, and only for its time; two
// clocks may be ten minutes apart.
func TestVerify(t *testing.T) {
	now := time.Now()
	a := newAuthority(t, &now)
	chain := chainOf(t, credentials(t, a, sailings))
	trust := a.Trust()
	if got, err := trust.Verify(chain, now); err != nil || got != sailings {
		t.Errorf("%+v, %v", got, err)
	}
	for _, c := range []struct {
		name string
		at   time.Duration
		why  string
	}{
		{"a clock that is ten minutes behind", -10 * time.Minute, ""},
		{"just run out, by a clock that is ahead", 24*time.Hour + 9*time.Minute, ""},
		{"run out", 24*time.Hour + 11*time.Minute, "ran out on"},
		{"a clock that is a day behind", -24 * time.Hour, "compare the clocks"},
	} {
		_, err := trust.Verify(chain, now.Add(c.at))
		if (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	elsewhere := newAuthority(t, &now)
	if _, err := trust.Verify(chainOf(t, credentials(t, elsewhere, sailings)), now); !errors.Is(err, identity.ErrUnknown) {
		t.Errorf("of another mesh: %v", err)
	}
	if _, err := trust.Verify(nil, now); !errors.Is(err, identity.ErrNoIdentity) {
		t.Errorf("none: %v", err)
	}
	if _, err := trust.Verify(chain[1:], now); err == nil {
		t.Error("the signer's own certificate is no member's")
	}
}

// TestOddCertificates are signed by whom they should be, and say something else than
// members do.
func TestOddCertificates(t *testing.T) {
	key, err := identity.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "root"}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	sign := func(c, parent *x509.Certificate) *x509.Certificate {
		t.Helper()
		c.SerialNumber, c.NotBefore, c.NotAfter = big.NewInt(2), root.NotBefore, root.NotAfter
		der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), key)
		if err != nil {
			t.Fatal(err)
		}
		out, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	root = sign(root, root)
	trust, err := identity.NewTrust("a.example", 1, []*x509.Certificate{root})
	if err != nil {
		t.Fatal(err)
	}
	uris := func(list ...string) (out []*url.URL) {
		for _, one := range list {
			u, err := url.Parse(one)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, u)
		}
		return out
	}
	name := pkix.Name{CommonName: "x-1"}
	for _, c := range []struct {
		name string
		leaf x509.Certificate
		why  string
	}{
		{"as it should be", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example/service/x")}, ""},
		{"no URI", x509.Certificate{Subject: name, DNSNames: []string{"x"}}, "no SPIFFE ID"},
		{"two URIs", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example/service/x", "spiffe://a.example/service/y")}, "2 URIs"},
		{"another scheme", x509.Certificate{Subject: name, URIs: uris("https://a.example/service/x")}, "not a SPIFFE ID"},
		{"another domain", x509.Certificate{Subject: name, URIs: uris("spiffe://b.example/service/x")}, "trust domain is b.example"},
		{"another kind", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example/user/x")}, "not a kind of member"},
		{"a longer path", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example/service/x/y")}, "not the name of"},
		{"no path", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example")}, "not the name of"},
		{"no instance", x509.Certificate{URIs: uris("spiffe://a.example/service/x")}, "cannot be the name of a proxy"},
		{"an authority", x509.Certificate{Subject: name, URIs: uris("spiffe://a.example/service/x"), IsCA: true, BasicConstraintsValid: true}, "one of an authority"},
	} {
		got, err := trust.Verify([]*x509.Certificate{sign(&c.leaf, root)}, time.Now())
		if (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %+v, %v", c.name, got, err)
		}
	}
}

// handshake has two members meet; client is told whom to expect.
func handshake(t *testing.T, server, client *identity.Credentials, want string) (clientErr, serverErr error) {
	t.Helper()
	a, b := net.Pipe()
	defer a.Close()
	defer b.Close()
	ended := make(chan error, 1)
	go func() {
		s := tls.Server(b, server.ServerConfig(false))
		err := s.Handshake()
		if err == nil {
			_, err = s.Write([]byte("x"))
		}
		ended <- err
		b.Close()
	}()
	ctx, stop := context.WithTimeout(t.Context(), 10*time.Second)
	defer stop()
	c, _, err := client.Client(ctx, a, identity.Name{Kind: identity.Service, Name: want}, "")
	if err == nil {
		_, err = c.Read(make([]byte, 1))
	}
	a.Close()
	return err, <-ended
}

// TestBothEndsProveWhoTheyAre.
func TestBothEndsProveWhoTheyAre(t *testing.T) {
	now := time.Now()
	a := newAuthority(t, &now)
	kiosk := sailings
	kiosk.Name.Name, kiosk.ID = "kiosk", "kiosk-1"
	server, client := credentials(t, a, sailings), credentials(t, a, kiosk)
	if c, s := handshake(t, server, client, "sailings"); c != nil || s != nil {
		t.Errorf("as it should be: %v, %v", c, s)
	}
	var wrong identity.WrongPeer
	if c, _ := handshake(t, server, client, "fares"); !errors.As(c, &wrong) {
		t.Errorf("another service than was wanted: %v", c)
	}
	stranger := credentials(t, newAuthority(t, &now), kiosk)
	if _, s := handshake(t, server, stranger, "sailings"); s == nil {
		t.Error("a stranger was let in")
	}
	mixed := &identity.Credentials{} // a stranger that trusts whom it calls
	mixed.Set(stranger.Own(), a.Trust())
	if c, s := handshake(t, server, mixed, "sailings"); c == nil || !errors.Is(s, identity.ErrUnknown) {
		t.Errorf("of another mesh: %v, %v", c, s)
	}
	past := now.Add(-48 * time.Hour)
	old := newAuthority(t, &past)
	late := &identity.Credentials{}
	late.Set(credentials(t, old, kiosk).Own(), a.Trust())
	trusting := &identity.Credentials{}
	trusting.Set(server.Own(), a.Trust().With(old.Trust()))
	if _, s := handshake(t, trusting, late, "sailings"); !errors.Is(s, identity.ErrExpired) {
		t.Errorf("one that ran out: %v", s)
	}
}

// TestConnectionsOutliveNothing: what was verified under other authorities is not good
// any more, nor a certificate that ran out.
func TestConnectionsOutliveNothing(t *testing.T) {
	now := time.Now()
	a := newAuthority(t, &now)
	c := credentials(t, a, sailings)
	p, err := c.Verify(chainOf(t, c), now)
	if err != nil || !c.IsGood(&p, now) || c.IsGood(&p, now.Add(25*time.Hour)) {
		t.Errorf("%+v, %v", p, err)
	}
	c.Set(nil, a.Trust())
	if !c.IsGood(&p, now) {
		t.Error("nothing changed")
	}
	c.Set(nil, newAuthority(t, &now).Trust())
	if c.IsGood(&p, now) {
		t.Error("its authority is not trusted any more")
	}
	if _, err := c.Verify(chainOf(t, c), now); !errors.Is(err, identity.ErrUnknown) {
		t.Errorf("remembered beyond its authority: %v", err)
	}
}

// TestTokens: a token comes back as it was, and the service that it names must be of its
// authority.
func TestTokens(t *testing.T) {
	now := time.Now()
	a := newAuthority(t, &now)
	token := identity.Token{Server: "https://10.0.0.1:7601", Authority: a.Status().Roots[0].Fingerprint, Secret: "s"}
	if got, err := identity.ParseToken(" " + token.Text() + "\n"); err != nil || got != token {
		t.Errorf("%+v, %v", got, err)
	}
	for _, bad := range []string{"", "x", token.Text()[:70], token.Text() + "é", strings.Repeat("x", 1<<20)} {
		if _, err := identity.ParseToken(bad); err == nil {
			t.Errorf("taken: %.80q", bad)
		}
	}
	node := identity.Member{Name: identity.Name{Kind: identity.Node, Name: "n"}, Domain: identity.DefaultDomain, ID: "n"}
	meet := func(server *identity.Credentials) error {
		x, y := net.Pipe()
		defer x.Close()
		go func() {
			cfg := server.ServerConfig(true)
			tls.Server(y, cfg).Handshake()
			y.Close()
		}()
		x.SetDeadline(time.Now().Add(10 * time.Second))
		return tls.Client(x, token.Config()).Handshake()
	}
	if err := meet(credentials(t, a, node)); err != nil {
		t.Errorf("its own service: %v", err)
	}
	if err := meet(credentials(t, newAuthority(t, &now), node)); !errors.Is(err, identity.ErrOtherAuthority) {
		t.Errorf("an impostor: %v", err)
	}
	if err := meet(credentials(t, a, sailings)); err == nil {
		t.Error("a member in the place of the service")
	}
}

// FuzzToken: no text makes reading a token panic, and what is read is written as it was.
func FuzzToken(f *testing.F) {
	f.Add(identity.Token{Server: "https://a:1", Authority: strings.Repeat("a", 64), Secret: "s"}.Text())
	f.Add("nightjar-join-e30")
	f.Fuzz(func(t *testing.T, text string) {
		if token, err := identity.ParseToken(text); err == nil {
			if again, err := identity.ParseToken(token.Text()); err != nil || again != token {
				t.Errorf("%+v became %+v, %v", token, again, err)
			}
		}
	})
}

// FuzzMember: whatever a certificate or a signing request says, reading it does not panic,
// and a member that is read is one that could have been signed.
func FuzzMember(f *testing.F) {
	key, err := identity.NewKey()
	if err != nil {
		f.Fatal(err)
	}
	der, err := identity.NewRequest(key, sailings)
	if err != nil {
		f.Fatal(err)
	}
	now := time.Now()
	f.Add(der, "spiffe://nightjar.internal/service/sailings", "a")
	f.Add(chainOf(f, credentials(f, newAuthority(f, &now), sailings))[0].Raw, "spiffe://x/node/%2e%2e", "")
	f.Fuzz(func(t *testing.T, der []byte, uri, id string) {
		if _, err := identity.ReadRequest(der); err == nil && len(der) > 16<<10 {
			t.Error("a huge request was read")
		}
		if c, err := x509.ParseCertificate(der); err == nil {
			identity.MemberOf(c)
		}
		u, err := url.Parse(uri)
		if err != nil {
			return
		}
		m, err := identity.MemberOf(&x509.Certificate{URIs: []*url.URL{u}, Subject: pkix.Name{CommonName: id}})
		if err == nil && (m.Check() != nil || identity.CheckDomain(m.Domain) != nil || m.URL().String() != m.URI()) {
			t.Errorf("%q was read as %+v", uri, m)
		}
	})
}

// BenchmarkHandshake is one full mutual handshake of two members that met before, both
// ends on one processor.
func BenchmarkHandshake(b *testing.B) {
	now := time.Now()
	a := newAuthority(b, &now)
	kiosk := sailings
	kiosk.Name.Name, kiosk.ID = "kiosk", "kiosk-1"
	server, client := credentials(b, a, sailings), credentials(b, a, kiosk)
	config := server.ServerConfig(false)
	b.ReportAllocs()
	for b.Loop() {
		x, y := net.Pipe()
		ended := make(chan error, 1)
		go func() { ended <- tls.Server(y, config).Handshake() }()
		if _, _, err := client.Client(context.Background(), x, sailings.Name, ""); err != nil {
			b.Fatal(err)
		}
		if err := <-ended; err != nil {
			b.Fatal(err)
		}
		x.Close()
		y.Close()
	}
}

// TestWriteFile: it makes its directory, nobody else may read it, and it is replaced whole.
func TestWriteFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "of", "a-proxy.identity")
	for _, text := range []string{"a key", "another"} {
		if err := identity.WriteFile(path, []byte(text)); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != text {
			t.Errorf("%q, %v", got, err)
		}
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	if list, _ := os.ReadDir(filepath.Dir(path)); len(list) != 1 {
		t.Errorf("%v are left over", list)
	}
}
