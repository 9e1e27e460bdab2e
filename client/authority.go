package client

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"net/url"
)

// fingerprintOf is SHA-256 of the public key of a certificate, in hexadecimal.
func fingerprintOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}

// trustFingerprint has a client trust a server whose chain leads to the authority with a
// fingerprint, and whose certificate is for host, a name or an IP address.
func trustFingerprint(cfg *tls.Config, fingerprint, host string) {
	cfg.InsecureSkipVerify = true // VerifyConnection verifies by the fingerprint
	cfg.VerifyConnection = func(s tls.ConnectionState) error {
		root, between := x509.NewCertPool(), x509.NewCertPool()
		isThere := false
		for _, c := range s.PeerCertificates {
			if fingerprintOf(c) == fingerprint {
				root.AddCert(c)
				isThere = true
			}
			between.AddCert(c)
		}
		if !isThere {
			return errOtherService
		}
		_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: host, Roots: root, Intermediates: between})
		return err
	}
}

// errOtherService means that a service has another authority than the one that is trusted.
var errOtherService = errors.New("its authority is another one than you trust: it is another service, somebody " +
	"answers in its place, or its authority was replaced (nightjar ca show on its machine has the fingerprint)")

// IsUntrusted tells whether a call failed because nobody vouches for the service's
// certificate.
func IsUntrusted(err error) bool {
	var gone *Unreachable
	return errors.As(err, &gone) && isUntrusted(gone.Err)
}

func isUntrusted(err error) bool {
	return errors.As(err, new(x509.UnknownAuthorityError)) || errors.As(err, new(x509.HostnameError)) ||
		errors.As(err, new(x509.CertificateInvalidError)) || errors.Is(err, errOtherService)
}

// ShownAuthority is the fingerprint of the authority that a service shows, which proves
// nothing: somebody else can show it too. Compare it with what is known otherwise.
func ShownAuthority(ctx context.Context, server string) (string, error) {
	u, err := url.Parse(server)
	if err != nil {
		return "", err
	}
	d := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}}
	conn, err := d.DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	chain := conn.(*tls.Conn).ConnectionState().PeerCertificates
	return fingerprintOf(chain[len(chain)-1]), nil
}
