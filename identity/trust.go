package identity

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"time"
)

// Skew is how far apart the clocks of two members may be.
const Skew = 10 * time.Minute

// Trust is the authorities whose certificates members accept. It does not change; a
// rotation makes another one with the next generation.
type Trust struct {
	Domain     string // trust domain of the members
	Generation uint64 // rises with every change
	Roots      []*x509.Certificate

	pool *x509.CertPool
}

// MaxRoots is how many authorities a mesh may trust at once.
const MaxRoots = 8

// NewTrust makes a Trust.
func NewTrust(domain string, generation uint64, roots []*x509.Certificate) (*Trust, error) {
	if err := CheckDomain(domain); err != nil {
		return nil, err
	}
	if len(roots) == 0 || len(roots) > MaxRoots {
		return nil, fmt.Errorf("%d authorities to trust: expected 1 to %d", len(roots), MaxRoots)
	}
	t := &Trust{Domain: domain, Generation: generation, Roots: roots, pool: x509.NewCertPool()}
	for _, r := range roots {
		if !r.IsCA {
			return nil, fmt.Errorf("the certificate of %s is not one of an authority", r.Subject)
		}
		t.pool.AddCert(r)
	}
	return t, nil
}

// PEM is the authorities as text.
func (t *Trust) PEM() []byte { return EncodeCertificates(t.Roots) }

// With is the authorities of both, under the domain of t. It may be called with nil.
func (t *Trust) With(other *Trust) *Trust {
	if other == nil || t.Domain != other.Domain {
		return t
	}
	all := t.Roots[:len(t.Roots):len(t.Roots)]
	for _, r := range other.Roots {
		if !t.has(r) && len(all) < MaxRoots {
			all = append(all, r)
		}
	}
	joint, err := NewTrust(t.Domain, t.Generation, all)
	if err != nil {
		return t
	}
	return joint
}

func (t *Trust) has(root *x509.Certificate) bool {
	for _, r := range t.Roots {
		if r.Equal(root) {
			return true
		}
	}
	return false
}

// IsSame tells whether two trust the same authorities.
func (t *Trust) IsSame(other *Trust) bool {
	return t != nil && other != nil && t.Domain == other.Domain && bytes.Equal(t.PEM(), other.PEM())
}

// Errors of Verify that callers tell apart.
var (
	ErrNoIdentity = errors.New("no identity: it showed no certificate")
	ErrExpired    = errors.New("its certificate ran out")
	ErrUnknown    = errors.New("its certificate is of an authority that this mesh does not trust")
)

// Verify tells whom a chain of certificates vouches for, the leaf first. The clock of
// whoever made it may be Skew off.
func (t *Trust) Verify(chain []*x509.Certificate, now time.Time) (Member, error) {
	if len(chain) == 0 {
		return Member{}, ErrNoIdentity
	}
	leaf := chain[0]
	m, err := MemberOf(leaf)
	if err != nil {
		return Member{}, err
	}
	if m.Domain != t.Domain {
		return Member{}, fmt.Errorf("its trust domain is %s, not %s", m.Domain, t.Domain)
	}
	if leaf.IsCA || leaf.KeyUsage&(x509.KeyUsageCertSign|x509.KeyUsageCRLSign) != 0 {
		return Member{}, errors.New("its certificate is one of an authority, not of a member")
	}
	switch {
	case now.After(leaf.NotAfter.Add(Skew)):
		return Member{}, fmt.Errorf("%w on %s; it is %s here", ErrExpired, stamp(leaf.NotAfter), stamp(now))
	case now.Before(leaf.NotBefore.Add(-Skew)):
		return Member{}, fmt.Errorf("its certificate is not good before %s, and it is %s here: compare the clocks",
			stamp(leaf.NotBefore), stamp(now))
	case now.After(leaf.NotAfter):
		now = leaf.NotAfter
	case now.Before(leaf.NotBefore):
		now = leaf.NotBefore
	}
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err = leaf.Verify(x509.VerifyOptions{
		Roots:         t.pool,
		Intermediates: between,
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		CurrentTime:   now,
	})
	if err != nil {
		var unknown x509.UnknownAuthorityError
		if errors.As(err, &unknown) {
			return Member{}, ErrUnknown
		}
		return Member{}, fmt.Errorf("its certificate is not valid: %w", err)
	}
	return m, nil
}

func stamp(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 MST") }

// Fingerprint is what an authority is known by: the SHA-256 of its public key.
func Fingerprint(root *x509.Certificate) string {
	sum := sha256.Sum256(root.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}

const maxPEM = 256 << 10 // bytes of certificates as text

// EncodeCertificates is certificates as text.
func EncodeCertificates(list []*x509.Certificate) []byte {
	var out []byte
	for _, c := range list {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return out
}

// DecodeCertificates reads certificates from text, of which there must be one at least.
func DecodeCertificates(text []byte) ([]*x509.Certificate, error) {
	if len(text) > maxPEM {
		return nil, fmt.Errorf("more than %d bytes of certificates", maxPEM)
	}
	var out []*x509.Certificate
	for {
		block, rest := pem.Decode(text)
		if block == nil {
			break
		}
		if text = rest; block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("found %s where a CERTIFICATE was expected", block.Type)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, errors.New("there is no certificate in PEM")
	}
	return out, nil
}
