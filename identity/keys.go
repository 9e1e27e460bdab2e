package identity

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
)

const (
	maxRequest = 16 << 10 // bytes of a signing request
	leastRSA   = 3072     // bits
)

// NewKey makes a key (ECDSA, P-256).
func NewKey() (*ecdsa.PrivateKey, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

// NewRequest makes a signing request for a member, in DER.
func NewRequest(key crypto.Signer, m Member) ([]byte, error) {
	ask := &x509.CertificateRequest{Subject: m.Subject()}
	if m.Domain != "" {
		ask.URIs = []*url.URL{m.URL()}
	}
	return x509.CreateCertificateRequest(rand.Reader, ask, key)
}

// ReadRequest reads a signing request in DER. It must be signed by its own key, which
// must be strong, and ask for nothing but, at most, the one URI of a member.
func ReadRequest(der []byte) (*x509.CertificateRequest, error) {
	if len(der) > maxRequest {
		return nil, fmt.Errorf("the signing request has %d bytes: at most %d are read", len(der), maxRequest)
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, fmt.Errorf("the signing request cannot be read: %w", err)
	}
	if err := r.CheckSignature(); err != nil {
		return nil, fmt.Errorf("the signing request is not signed by its own key: %w", err)
	}
	if err := checkKey(r.PublicKey); err != nil {
		return nil, err
	}
	if len(r.DNSNames)+len(r.IPAddresses)+len(r.EmailAddresses) > 0 || len(r.URIs) > 1 {
		return nil, errors.New("the signing request asks for more than one SPIFFE ID: " +
			"leave out other names and addresses")
	}
	return r, nil
}

// checkKey tells whether a public key is too weak, or of another kind than members use.
func checkKey(key any) error {
	switch k := key.(type) {
	case *ecdsa.PublicKey:
		if k.Curve != elliptic.P256() && k.Curve != elliptic.P384() && k.Curve != elliptic.P521() {
			return fmt.Errorf("the key is on curve %s: use P-256", k.Curve.Params().Name)
		}
	case ed25519.PublicKey:
	case *rsa.PublicKey:
		if k.Size()*8 < leastRSA {
			return fmt.Errorf("the RSA key has %d bits: use ECDSA with P-256, or %d bits", k.Size()*8, leastRSA)
		}
	default:
		return fmt.Errorf("the key is of a kind that is not used here (%T): use ECDSA with P-256", key)
	}
	return nil
}

// Certificate is a chain with its key, ready to be shown.
func Certificate(chain []*x509.Certificate, key crypto.Signer) *tls.Certificate {
	c := &tls.Certificate{PrivateKey: key, Leaf: chain[0]}
	for _, one := range chain {
		c.Certificate = append(c.Certificate, one.Raw)
	}
	return c
}

// EncodeKey is a private key as text (PKCS #8).
func EncodeKey(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// DecodeKey reads a private key from text: PKCS #8, or SEC 1 as some tools write it.
func DecodeKey(text []byte) (crypto.Signer, error) {
	for {
		block, rest := pem.Decode(text)
		if block == nil {
			return nil, errors.New("there is no private key in PEM")
		}
		text = rest
		switch block.Type {
		case "PRIVATE KEY":
			any, err := x509.ParsePKCS8PrivateKey(block.Bytes)
			if err != nil {
				return nil, err
			}
			key, ok := any.(crypto.Signer)
			if !ok {
				return nil, errors.New("the private key cannot sign")
			}
			return key, nil
		case "EC PRIVATE KEY":
			return x509.ParseECPrivateKey(block.Bytes)
		}
	}
}

// WriteFile writes a file that only its owner reads, whole or not at all. It makes the
// directory, if need be.
func WriteFile(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*") // made with 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // of no effect after the rename
	if _, err = f.Write(content); err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}

// NewSignerRequest makes a request for the certificate of a signer, in DER.
func NewSignerRequest(key crypto.Signer, domain string) ([]byte, error) {
	return x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{Organization: []string{domain}, CommonName: "signer"},
	}, key)
}
