// Package authority signs the certificates of a mesh. Its keys are files in a directory
// of their own, which only their owner can read, and never leave it.
package authority

import (
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nightjar/identity"
)

// Lives of certificates.
const (
	DefaultLife = 24 * time.Hour // of a member's
	LeastLife   = time.Hour
	MostLife    = 7 * 24 * time.Hour

	rootLife   = 10 * 365 * 24 * time.Hour
	signerLife = 365 * 24 * time.Hour
	backdated  = 15 * time.Minute // a clock that is behind must find a new certificate good
)

// Phases of a rotation.
const (
	Steady     = "steady"     // no rotation is under way
	Announcing = "announcing" // members are told to trust the new authority too
	Signing    = "signing"    // members get certificates of the new one
	Retiring   = "retiring"   // members are told to forget the old one
)

// Config of an authority.
type Config struct {
	Dir    string        // directory of the keys; it is made when it is not there
	Domain string        // trust domain; identity.DefaultDomain when empty
	Life   time.Duration // of members' certificates; DefaultLife when 0
	// Cert and Key are files with a signer that an authority elsewhere made: its
	// certificate and those up to the root, and its private key. Empty: the mesh makes
	// an authority of its own.
	Cert, Key string
	Now       func() time.Time // nil: time.Now
}

// Authority signs certificates. It is safe for concurrent use.
type Authority struct {
	dir  string
	life time.Duration
	now  func() time.Time

	mu     sync.Mutex // guards what follows
	state  state
	trust  *identity.Trust
	signer *signer
}

// state is what is kept in a file, beside keys and certificates.
type state struct {
	Domain     string    `json:"domain"`
	Generation uint64    `json:"generation"` // of the trust
	Phase      string    `json:"phase"`
	Since      time.Time `json:"since"`          // of the phase
	Roots      []string  `json:"roots"`          // fingerprints of the trusted authorities, the one that signs last
	Signer     string    `json:"signer"`         // name of the signer in use
	Next       string    `json:"next,omitempty"` // of the one to come, while a rotation announces it
}

// signer is what signs: a certificate below a root, and its key.
type signer struct {
	name  string
	chain []*x509.Certificate // its own first, without the root
	root  *x509.Certificate
	key   crypto.Signer
}

// Open opens the authority of a directory, or makes one.
func Open(cfg Config) (*Authority, error) {
	a := &Authority{dir: cfg.Dir, life: cfg.Life, now: cfg.Now}
	if a.now == nil {
		a.now = time.Now
	}
	if a.life == 0 {
		a.life = DefaultLife
	}
	if a.life < LeastLife || a.life > MostLife {
		return nil, fmt.Errorf("certificates that live %s: expected %s to %s", a.life, LeastLife, MostLife)
	}
	if cfg.Domain != "" {
		if err := identity.CheckDomain(cfg.Domain); err != nil {
			return nil, err
		}
	}
	if (cfg.Cert == "") != (cfg.Key == "") {
		return nil, errors.New("a certificate of an authority needs its key, and the key its certificate")
	}
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return nil, err
	}
	text, err := os.ReadFile(a.path("state.json"))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := a.create(cfg); err != nil {
			return nil, fmt.Errorf("making an authority: %w", err)
		}
		return a, nil
	case err != nil:
		return nil, err
	}
	if err := json.Unmarshal(text, &a.state); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", a.path("state.json"), err)
	}
	if cfg.Domain != "" && cfg.Domain != a.state.Domain {
		return nil, fmt.Errorf("the trust domain of this mesh is %s: it cannot be changed to %s, since all "+
			"certificates name it; start without --trust-domain, or with another directory", a.state.Domain, cfg.Domain)
	}
	if err := a.load(); err != nil {
		return nil, err
	}
	if cfg.Cert != "" {
		return a, a.bring(cfg)
	}
	return a, nil
}

func (a *Authority) path(name string) string { return filepath.Join(a.dir, name) }

// create makes the first authority.
func (a *Authority) create(cfg Config) (err error) {
	a.state = state{Domain: cfg.Domain, Generation: 1, Phase: Steady, Since: a.now().UTC()}
	if a.state.Domain == "" {
		a.state.Domain = identity.DefaultDomain
	}
	var s *signer
	if cfg.Cert != "" {
		s, err = a.read(cfg.Cert, cfg.Key)
	} else {
		s, err = a.newRoot()
	}
	if err != nil {
		return err
	}
	if err := a.keep(s); err != nil {
		return err
	}
	a.state.Roots, a.state.Signer = []string{identity.Fingerprint(s.root)}, s.name
	return a.save(a.state)
}

// bring takes a signer that was made elsewhere into use, if it is not yet.
func (a *Authority) bring(cfg Config) error {
	s, err := a.read(cfg.Cert, cfg.Key)
	if err != nil || s.name == a.signer.name || s.name == a.state.Next {
		return err
	}
	return a.follow(s)
}

// load reads what the state names.
func (a *Authority) load() error {
	roots := make([]*x509.Certificate, len(a.state.Roots))
	for i, name := range a.state.Roots {
		text, err := os.ReadFile(a.path("root-" + name[:min(16, len(name))] + ".crt"))
		if err != nil {
			return err
		}
		list, err := identity.DecodeCertificates(text)
		if err != nil {
			return err
		}
		roots[i] = list[0]
	}
	trust, err := identity.NewTrust(a.state.Domain, a.state.Generation, roots)
	if err != nil {
		return err
	}
	s, err := a.read(a.path(a.state.Signer+".crt"), a.path(a.state.Signer+".key"))
	if err != nil {
		return err
	}
	a.trust, a.signer = trust, s
	return nil
}

// save puts a state in force, on disk first.
func (a *Authority) save(s state) error {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := identity.WriteFile(a.path("state.json"), append(text, '\n')); err != nil {
		return err
	}
	a.state = s
	return a.load()
}

// nameOf is the name of the files of a signer.
func nameOf(cert *x509.Certificate) string { return "signer-" + identity.Fingerprint(cert)[:16] }

// keep writes a signer and its root, without the root's key.
func (a *Authority) keep(s *signer) error {
	key, err := identity.EncodeKey(s.key)
	if err != nil {
		return err
	}
	root := identity.EncodeCertificates([]*x509.Certificate{s.root})
	if err := identity.WriteFile(a.path("root-"+identity.Fingerprint(s.root)[:16]+".crt"), root); err != nil {
		return err
	}
	chain := append(identity.EncodeCertificates(s.chain), root...)
	if err := identity.WriteFile(a.path(s.name+".key"), key); err != nil {
		return err
	}
	return identity.WriteFile(a.path(s.name+".crt"), chain)
}

// read reads a signer: its certificate, those above it, the root last, and its key.
func (a *Authority) read(certFile, keyFile string) (*signer, error) {
	chain, err := os.ReadFile(certFile)
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(keyFile)
	if err != nil {
		return nil, err
	}
	key, err := identity.DecodeKey(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", keyFile, err)
	}
	s, err := a.signerOf(chain, key)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", certFile, err)
	}
	return s, nil
}

// signerOf checks a chain, the signer first and its root last, and its key.
func (a *Authority) signerOf(text []byte, key crypto.Signer) (*signer, error) {
	list, err := identity.DecodeCertificates(text)
	if err != nil {
		return nil, err
	}
	own, root := list[0], list[len(list)-1]
	public, ok := key.Public().(interface{ Equal(crypto.PublicKey) bool })
	if !ok || !public.Equal(own.PublicKey) {
		return nil, errors.New("the key is not that of the first certificate")
	}
	if !own.IsCA || own.KeyUsage&x509.KeyUsageCertSign == 0 {
		return nil, fmt.Errorf("the certificate of %q may not sign others", own.Subject.CommonName)
	}
	if root.CheckSignatureFrom(root) != nil {
		return nil, errors.New("the last certificate is not a root, which signs itself: add the root at the end")
	}
	trust, between := x509.NewCertPool(), x509.NewCertPool()
	trust.AddCert(root)
	for _, c := range list[1:] {
		between.AddCert(c)
	}
	_, err = own.Verify(x509.VerifyOptions{
		Roots:         trust,
		Intermediates: between,
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		CurrentTime:   a.now(),
	})
	if err != nil {
		return nil, fmt.Errorf("the chain does not lead to its root: %w", err)
	}
	s := &signer{name: nameOf(own), chain: list[:len(list)-1], root: root, key: key}
	if len(list) == 1 {
		s.chain = list // a root that signs members itself
	}
	return s, nil
}

// newRoot makes a root, and a signer below it.
func (a *Authority) newRoot() (*signer, error) {
	key, err := identity.NewKey()
	if err != nil {
		return nil, err
	}
	now := a.now()
	root, err := sign(&x509.Certificate{
		Subject: pkix.Name{
			Organization: []string{a.state.Domain},
			CommonName:   "root of " + now.UTC().Format("2006-01-02 15:04"),
		},
		NotBefore:  now.Add(-backdated),
		NotAfter:   now.Add(rootLife),
		MaxPathLen: 2,
	}, nil, key.Public(), key)
	if err != nil {
		return nil, err
	}
	text, err := identity.EncodeKey(key)
	if err != nil {
		return nil, err
	}
	if err := identity.WriteFile(a.path("root-"+identity.Fingerprint(root)[:16]+".key"), text); err != nil {
		return nil, err
	}
	return a.newSigner(root, key)
}

// newSigner makes a signer below a root.
func (a *Authority) newSigner(root *x509.Certificate, rootKey crypto.Signer) (*signer, error) {
	key, err := identity.NewKey()
	if err != nil {
		return nil, err
	}
	now := a.now()
	cert, err := sign(&x509.Certificate{
		Subject: pkix.Name{
			Organization: []string{a.state.Domain},
			CommonName:   "signer of " + now.UTC().Format("2006-01-02 15:04"),
		},
		NotBefore:      now.Add(-backdated),
		NotAfter:       earlier(now.Add(signerLife), root.NotAfter),
		MaxPathLen:     0,
		MaxPathLenZero: true,
	}, root, key.Public(), rootKey)
	if err != nil {
		return nil, err
	}
	return &signer{name: nameOf(cert), chain: []*x509.Certificate{cert}, root: root, key: key}, nil
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// sign signs the certificate of an authority; without a parent it signs itself.
func sign(c, parent *x509.Certificate, public crypto.PublicKey, key crypto.Signer) (*x509.Certificate, error) {
	c.IsCA, c.BasicConstraintsValid = true, true
	c.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	if parent == nil {
		parent = c
	}
	return issue(c, parent, public, key)
}

func issue(c, parent *x509.Certificate, public crypto.PublicKey, key crypto.Signer) (*x509.Certificate, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	c.SerialNumber = serial.Add(serial, big.NewInt(1))
	der, err := x509.CreateCertificate(rand.Reader, c, parent, public, key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Domain is the trust domain.
func (a *Authority) Domain() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.state.Domain
}

// Trust is the authorities that members are to trust now.
func (a *Authority) Trust() *identity.Trust {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.trust
}

// Sign makes a certificate that vouches for a member, whose key a signing request
// holds, in DER. It returns the chain, without the root.
func (a *Authority) Sign(request []byte, m identity.Member) ([]*x509.Certificate, error) {
	ask, err := identity.ReadRequest(request)
	if err != nil {
		return nil, err
	}
	if len(ask.URIs) == 1 && ask.URIs[0].String() != m.URI() {
		return nil, fmt.Errorf("the signing request is for %s, and may be for %s only", ask.URIs[0], m.URI())
	}
	return a.sign(ask.PublicKey, m)
}

func (a *Authority) sign(public crypto.PublicKey, m identity.Member) ([]*x509.Certificate, error) {
	if err := m.Check(); err != nil {
		return nil, err
	}
	a.mu.Lock()
	s := a.signer
	a.mu.Unlock()
	now := a.now()
	until := earlier(now.Add(a.life), s.chain[0].NotAfter)
	if !until.After(now) {
		return nil, fmt.Errorf(
			"the authority's own certificate ran out on %s: install another one (nightjar ca request)",
			s.chain[0].NotAfter.UTC().Format(time.DateOnly),
		)
	}
	return s.leaf(&x509.Certificate{
		Subject:     m.Subject(),
		URIs:        []*url.URL{m.URL()},
		NotBefore:   now.Add(-backdated),
		NotAfter:    until,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}, public)
}

// leaf signs a certificate that signs no others, and returns its chain without the root.
func (s *signer) leaf(c *x509.Certificate, public crypto.PublicKey) ([]*x509.Certificate, error) {
	c.KeyUsage, c.BasicConstraintsValid = x509.KeyUsageDigitalSignature, true
	leaf, err := issue(c, s.chain[0], public, s.key)
	if err != nil {
		return nil, err
	}
	return append([]*x509.Certificate{leaf}, s.chain...), nil
}

// ForPeople makes a key and a certificate with which the service shows itself to people,
// by host names and IP addresses. It vouches for no member of the mesh. Its chain ends
// with the root, which people know by its fingerprint.
func (a *Authority) ForPeople(hosts []string) (*tls.Certificate, error) {
	key, err := identity.NewKey()
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	s := a.signer
	a.mu.Unlock()
	now := a.now()
	c := &x509.Certificate{
		Subject:     pkix.Name{CommonName: "Nightjar"},
		NotBefore:   now.Add(-backdated),
		NotAfter:    earlier(now.Add(a.life), s.chain[0].NotAfter),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, h)
		}
	}
	chain, err := s.leaf(c, key.Public())
	if err != nil {
		return nil, err
	}
	return identity.Certificate(append(chain, s.root), key), nil
}

// Credentials makes a key and a certificate for a member in this process, and puts
// them with the trusted authorities into use.
func (a *Authority) Credentials(m identity.Member, into *identity.Credentials) error {
	key, err := identity.NewKey()
	if err != nil {
		return err
	}
	chain, err := a.sign(key.Public(), m)
	if err != nil {
		return err
	}
	if m.Kind == identity.Node { // those who join know the root by its fingerprint
		a.mu.Lock()
		chain = append(chain, a.signer.root)
		a.mu.Unlock()
	}
	into.Set(identity.Certificate(chain, key), a.Trust())
	return nil
}
