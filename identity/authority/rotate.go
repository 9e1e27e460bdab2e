package authority

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"nightjar/identity"
)

// Status is the authority as people see it.
type Status struct {
	Domain     string
	Generation uint64 // of the trust
	Phase      string // steady, announcing, signing or retiring
	Since      time.Time
	Life       time.Duration // of members' certificates
	Roots      []Root
	Signer     *x509.Certificate
	IsPending  bool // a signing request was made and no certificate installed yet
}

// Root is an authority that members trust.
type Root struct {
	*x509.Certificate
	Fingerprint string
	Signs       bool // new certificates are below it
	HasKey      bool // its key is here
}

// Status tells how the authority is.
func (a *Authority) Status() Status {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := Status{
		Domain:     a.state.Domain,
		Generation: a.state.Generation,
		Phase:      a.state.Phase,
		Since:      a.state.Since,
		Life:       a.life,
		Signer:     a.signer.chain[0],
	}
	_, err := os.Stat(a.path(pendingKey))
	s.IsPending = err == nil
	for _, r := range a.trust.Roots {
		print := identity.Fingerprint(r)
		_, err := os.Stat(a.path("root-" + print[:16] + ".key"))
		s.Roots = append(s.Roots, Root{r, print, r.Equal(a.signer.root), err == nil})
	}
	return s
}

// ErrRotating means that a rotation is under way.
var ErrRotating = errors.New("the authority is being replaced: wait until that is done (nightjar ca show)")

// Rotate begins to replace the authority by a new one of its own making.
func (a *Authority) Rotate() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.state.Phase != Steady {
		return ErrRotating
	}
	s, err := a.newRoot()
	if err != nil {
		return err
	}
	return a.follow(s)
}

// follow makes a signer the next one. Below the same root it signs at once, since
// members trust that already; else it is announced first. The caller holds mu, or is
// alone.
func (a *Authority) follow(s *signer) error {
	if a.state.Phase != Steady {
		return ErrRotating
	}
	if err := a.keep(s); err != nil {
		return err
	}
	next := a.state
	next.Roots = slices.Clone(a.state.Roots)
	if print := identity.Fingerprint(s.root); !slices.Contains(next.Roots, print) {
		next.Roots = append(next.Roots, print)
		next.Next, next.Phase, next.Since = s.name, Announcing, a.now().UTC()
		next.Generation++
	} else {
		next.Signer = s.name
	}
	return a.save(next)
}

// Advance goes on to the next phase of a rotation, when all members are as far.
func (a *Authority) Advance() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	next := a.state
	next.Since = a.now().UTC()
	switch a.state.Phase {
	case Announcing:
		next.Phase, next.Signer, next.Next = Signing, a.state.Next, ""
	case Signing:
		next.Phase, next.Roots = Retiring, []string{identity.Fingerprint(a.signer.root)}
		next.Generation++
	case Retiring:
		next.Phase = Steady
	default:
		return nil
	}
	return a.save(next)
}

// IsByCurrent tells whether a certificate is below the authority that signs now.
//
// The chain was verified before, so the names of keys tell as much as their signatures.
func (a *Authority) IsByCurrent(chain []*x509.Certificate) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	last, root := chain[len(chain)-1], a.signer.root
	if last.Equal(root) {
		return true
	}
	if len(last.AuthorityKeyId) > 0 && len(root.SubjectKeyId) > 0 {
		return bytes.Equal(last.AuthorityKeyId, root.SubjectKeyId)
	}
	roots := x509.NewCertPool()
	roots.AddCert(a.signer.root)
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err := chain[0].Verify(x509.VerifyOptions{
		Roots:         roots,
		Intermediates: between,
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		CurrentTime:   earlier(a.now(), chain[0].NotAfter),
	})
	return err == nil
}

// Tend renews the signer when half of its life is over and the root's key is here. It
// returns what a person has to look after; empty: nothing.
func (a *Authority) Tend() (warning string, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	own := a.signer.chain[0]
	half := own.NotBefore.Add(own.NotAfter.Sub(own.NotBefore) / 2)
	if a.state.Phase != Steady || a.now().Before(half) {
		return "", nil
	}
	print := identity.Fingerprint(a.signer.root)
	text, err := os.ReadFile(a.path("root-" + print[:16] + ".key"))
	if errors.Is(err, fs.ErrNotExist) {
		left := own.NotAfter.Sub(a.now()).Round(time.Hour)
		return fmt.Sprintf("the authority's certificate runs out in %s: nightjar ca request makes a signing "+
			"request for the next one", left), nil
	}
	if err != nil {
		return "", err
	}
	if !a.signer.root.NotAfter.After(own.NotAfter) {
		return "the root runs out with its signer: replace it (nightjar ca rotate)", nil
	}
	key, err := identity.DecodeKey(text)
	if err != nil {
		return "", err
	}
	s, err := a.newSigner(a.signer.root, key)
	if err != nil {
		return "", err
	}
	return "", a.follow(s)
}

const pendingKey = "pending.key"

// Request makes a key for a signer, and the request by which an authority elsewhere
// signs it, in PEM. The key stays here.
func (a *Authority) Request() ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	key, err := identity.NewKey()
	if err != nil {
		return nil, err
	}
	text, err := identity.EncodeKey(key)
	if err != nil {
		return nil, err
	}
	der, err := identity.NewSignerRequest(key, a.state.Domain)
	if err != nil {
		return nil, err
	}
	if err := identity.WriteFile(a.path(pendingKey), text); err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}

// Install takes the certificate for the request into use: the signer's first, those
// above it, the root last, in PEM.
func (a *Authority) Install(chain []byte) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	text, err := os.ReadFile(a.path(pendingKey))
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("there is no signing request: make one with nightjar ca request")
	}
	if err != nil {
		return err
	}
	key, err := identity.DecodeKey(text)
	if err != nil {
		return err
	}
	s, err := a.signerOf(chain, key)
	if err != nil {
		return err
	}
	if err := a.follow(s); err != nil {
		return err
	}
	return os.Remove(a.path(pendingKey))
}
