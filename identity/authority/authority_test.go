package authority

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightjar/identity"
)

var kiosk = identity.Member{Name: identity.Name{Kind: identity.Service, Name: "kiosk"}, Domain: identity.DefaultDomain, ID: "kiosk-1"}

func open(t *testing.T, cfg Config) *Authority {
	t.Helper()
	a, err := Open(cfg)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// chain signs a certificate for a member with a key of its own.
func chain(t *testing.T, a *Authority) []*x509.Certificate {
	t.Helper()
	key, err := identity.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	ask, err := identity.NewRequest(key, kiosk)
	if err != nil {
		t.Fatal(err)
	}
	out, err := a.Sign(ask, kiosk)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestRotation: whatever phase it is in, also after a restart, members with certificates
// of the phase before and of this one know each other.
func TestRotation(t *testing.T) {
	cfg := Config{Dir: filepath.Join(t.TempDir(), "authority")}
	a := open(t, cfg)
	old, before := chain(t, a), a.Trust()
	if err := a.Rotate(); err != nil {
		t.Fatal(err)
	}
	if err := a.Rotate(); !errors.Is(err, ErrRotating) {
		t.Errorf("a second one: %v", err)
	}
	now := time.Now()
	for _, c := range []struct {
		phase             string
		roots             int
		signsNew, oldGood bool
	}{
		{Announcing, 2, false, true},
		{Signing, 2, true, true},
		{Retiring, 1, true, false},
		{Steady, 1, true, false},
	} {
		a = open(t, cfg) // as after a restart
		s := a.Status()
		if s.Phase != c.phase || len(s.Roots) != c.roots {
			t.Fatalf("%s, %d roots: want %+v", s.Phase, len(s.Roots), c)
		}
		made := chain(t, a)
		if _, err := a.Trust().Verify(made, now); err != nil {
			t.Errorf("%s: its own certificate: %v", c.phase, err)
		}
		if _, err := before.Verify(made, now); (err == nil) == c.signsNew {
			t.Errorf("%s: who trusts the old root alone: %v", c.phase, err)
		}
		if _, err := a.Trust().Verify(old, now); (err == nil) != c.oldGood {
			t.Errorf("%s: the old certificate: %v", c.phase, err)
		}
		if a.IsByCurrent(old) == c.signsNew || !a.IsByCurrent(made) {
			t.Errorf("%s: which certificate is to be renewed", c.phase)
		}
		if err := a.Advance(); err != nil {
			t.Fatal(err)
		}
	}
	if s := a.Status(); s.Phase != Steady || s.Generation != 3 {
		t.Errorf("at the end: %+v", s)
	}
}

// TestKeysStayPrivate: only their owner reads them, and they are all that is secret.
func TestKeysStayPrivate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "authority")
	a := open(t, Config{Dir: dir})
	if err := a.Rotate(); err != nil {
		t.Fatal(err)
	}
	list, err := os.ReadDir(dir)
	if err != nil || len(list) < 7 {
		t.Fatal(list, err)
	}
	for _, e := range list {
		info, err := e.Info()
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", e.Name(), info.Mode(), err)
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if hasKey := strings.Contains(string(text), "PRIVATE KEY"); err != nil || hasKey != strings.HasSuffix(e.Name(), ".key") {
			t.Errorf("%s has a key: %t, %v", e.Name(), hasKey, err)
		}
	}
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Error(info.Mode(), err)
	}
}

// TestBrought: an authority elsewhere signs the mesh's own, at any time; what does not fit
// changes nothing.
func TestBrought(t *testing.T) {
	a := open(t, Config{Dir: t.TempDir()})
	if err := a.Install([]byte("x")); err == nil || !strings.Contains(err.Error(), "ca request") {
		t.Errorf("nothing was asked for: %v", err)
	}
	text, err := a.Request()
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(text)
	ask, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil || ask.CheckSignature() != nil {
		t.Fatal(err)
	}
	key, err := identity.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	issued := func(c *x509.Certificate, parent *x509.Certificate, public any) *x509.Certificate {
		t.Helper()
		c.SerialNumber, c.BasicConstraintsValid = big.NewInt(7), true
		c.NotBefore, c.NotAfter = time.Now().Add(-time.Hour), time.Now().Add(48*time.Hour)
		if parent == nil {
			parent = c
		}
		der, err := x509.CreateCertificate(rand.Reader, c, parent, public, key)
		if err != nil {
			t.Fatal(err)
		}
		out, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	root := issued(&x509.Certificate{Subject: pkix.Name{CommonName: "corporate"}, IsCA: true, KeyUsage: x509.KeyUsageCertSign}, nil, key.Public())
	mine := issued(&x509.Certificate{Subject: pkix.Name{CommonName: "mesh"}, IsCA: true, KeyUsage: x509.KeyUsageCertSign}, root, ask.PublicKey)
	weak := issued(&x509.Certificate{Subject: pkix.Name{CommonName: "mesh"}}, root, ask.PublicKey)
	other := issued(&x509.Certificate{Subject: pkix.Name{CommonName: "mesh"}, IsCA: true, KeyUsage: x509.KeyUsageCertSign}, root, key.Public())
	for _, bad := range []struct {
		name  string
		chain []*x509.Certificate
		why   string
	}{
		{"of another key", []*x509.Certificate{other, root}, "the key is not that"},
		{"one that may not sign", []*x509.Certificate{weak, root}, "may not sign"},
		{"without its root", []*x509.Certificate{mine}, "add the root"},
		{"another root", []*x509.Certificate{mine, a.Trust().Roots[0]}, "does not lead to its root"},
	} {
		if err := a.Install(identity.EncodeCertificates(bad.chain)); err == nil || !strings.Contains(err.Error(), bad.why) {
			t.Errorf("%s: %v", bad.name, err)
		}
	}
	if err := a.Install(identity.EncodeCertificates([]*x509.Certificate{mine, root})); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if err := a.Advance(); err != nil {
			t.Fatal(err)
		}
	}
	s := a.Status()
	if s.Phase != Steady || len(s.Roots) != 1 || !s.Roots[0].Equal(root) || s.Roots[0].HasKey || s.IsPending {
		t.Errorf("%+v", s)
	}
	if leaf := chain(t, a); !a.IsByCurrent(leaf) || leaf[0].NotAfter.After(mine.NotAfter) {
		t.Error("certificates are below it, and do not outlive it")
	}
}

// TestTheSignerIsRenewed at half of its life, below the same root; where the root's key is
// elsewhere, a person is told.
func TestTheSignerIsRenewed(t *testing.T) {
	now := time.Now()
	cfg := Config{Dir: t.TempDir(), Now: func() time.Time { return now }}
	a := open(t, cfg)
	first, trust := a.Status().Signer, a.Trust()
	if warning, err := a.Tend(); warning != "" || err != nil || !a.Status().Signer.Equal(first) {
		t.Errorf("too early: %q, %v", warning, err)
	}
	now = now.Add(200 * 24 * time.Hour)
	if warning, err := a.Tend(); warning != "" || err != nil || a.Status().Signer.Equal(first) || a.Trust().Generation != trust.Generation {
		t.Errorf("at half of its life: %q, %v", warning, err)
	}
	if _, err := trust.Verify(chain(t, a), now); err != nil {
		t.Errorf("who trusts the root trusts it: %v", err)
	}
	keys, _ := filepath.Glob(filepath.Join(cfg.Dir, "root-*.key"))
	if len(keys) != 1 || os.Remove(keys[0]) != nil {
		t.Fatal(keys)
	}
	now = now.Add(200 * 24 * time.Hour)
	if warning, err := a.Tend(); err != nil || !strings.Contains(warning, "runs out in") {
		t.Errorf("%q, %v", warning, err)
	}
}

func TestBadSettings(t *testing.T) {
	dir := t.TempDir()
	open(t, Config{Dir: dir, Domain: "ferry.example"})
	for _, c := range []struct {
		cfg Config
		why string
	}{
		{Config{Dir: dir, Domain: "other.example"}, "cannot be changed"},
		{Config{Dir: dir, Life: time.Minute}, "expected 1h0m0s to 168h0m0s"},
		{Config{Dir: t.TempDir(), Domain: "Not A Domain"}, "cannot be a trust domain"},
		{Config{Dir: t.TempDir(), Cert: "x.pem"}, "needs its key"},
		{Config{Dir: t.TempDir(), Cert: "x.pem", Key: "x.key"}, "no such file"},
	} {
		if _, err := Open(c.cfg); err == nil || !strings.Contains(err.Error(), c.why) {
			t.Errorf("%+v: %v", c.cfg, err)
		}
	}
	if a := open(t, Config{Dir: dir}); a.Domain() != "ferry.example" {
		t.Errorf("its domain is %s", a.Domain())
	}
}
