package identity

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"time"
)

// Program is a program that proxies are to run.
type Program struct {
	Hash string // SHA-256 of the file, in hexadecimal digits
	Size int64  // bytes
}

// digest is what is signed. Its beginning keeps it apart from everything else that is.
func (p Program) digest() []byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "a program for proxies\x00%s\x00%d", p.Hash, p.Size))
	return sum[:]
}

// SignProgram signs a program by the certificate of a node. chain is its certificates in PEM.
func SignProgram(p Program, by *tls.Certificate) (signature []byte, chain string, err error) {
	if by == nil || by.Leaf == nil {
		return nil, "", errors.New("there is no certificate to sign by")
	}
	key, ok := by.PrivateKey.(crypto.Signer)
	if !ok {
		return nil, "", errors.New("the key of the certificate cannot sign")
	}
	signature, err = key.Sign(rand.Reader, p.digest(), crypto.SHA256)
	if err != nil {
		return nil, "", err
	}
	var certs []*x509.Certificate
	for _, der := range by.Certificate {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, "", err
		}
		certs = append(certs, c)
	}
	return signature, string(EncodeCertificates(certs)), nil
}

// VerifyProgram tells why a program is not one that a node of the mesh has signed; nil: it is.
func VerifyProgram(p Program, signature []byte, chain string, trust *Trust, now time.Time) error {
	if trust == nil {
		return errors.New("this proxy trusts no authority yet")
	}
	certs, err := DecodeCertificates([]byte(chain))
	if err != nil {
		return err
	}
	who, err := trust.Verify(certs, now)
	if err != nil {
		return err
	}
	if who.Kind != Node {
		return fmt.Errorf("it is signed by %s, not by a node of the mesh", who.Name)
	}
	key, ok := certs[0].PublicKey.(*ecdsa.PublicKey)
	if !ok || !ecdsa.VerifyASN1(key, p.digest(), signature) {
		return errors.New("the signature is not that of this program")
	}
	return nil
}
