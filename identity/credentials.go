package identity

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Credentials are what a member shows and what it accepts. They are swapped while
// connections stay open. It is safe for concurrent use; its zero value has none yet.
type Credentials struct {
	own   atomic.Pointer[tls.Certificate]
	trust atomic.Pointer[Trust]
	count atomic.Uint64 // of changes of trust

	mu       sync.Mutex // guards what follows
	verified map[[sha256.Size]byte]Peer
	of       *Trust // whom verified is of
}

// Peer is the member at the other end of a connection.
type Peer struct {
	Member
	Expires time.Time // when its certificate runs out
	Serial  string    // of its certificate
	Trusted uint64    // see Credentials.Trusted, when it was verified
}

// Set takes a certificate and authorities into use; nil leaves what there is.
func (c *Credentials) Set(own *tls.Certificate, trust *Trust) {
	if own != nil {
		c.own.Store(own)
	}
	if trust != nil && !trust.IsSame(c.trust.Load()) {
		c.trust.Store(trust)
		c.count.Add(1)
	} else if trust != nil {
		c.trust.Store(trust)
	}
}

// Own is the certificate that is shown; nil: there is none yet.
func (c *Credentials) Own() *tls.Certificate { return c.own.Load() }

// Trust is the authorities that are accepted; nil: there are none yet.
func (c *Credentials) Trust() *Trust { return c.trust.Load() }

// Trusted counts the changes of the authorities. A connection whose Peer was verified
// under another count is to end with its next response.
func (c *Credentials) Trusted() uint64 { return c.count.Load() }

// IsReady tells whether there are both.
func (c *Credentials) IsReady() bool { return c.own.Load() != nil && c.trust.Load() != nil }

// IsGood tells whether a connection to a peer may go on: the authorities are those it
// was verified by, and its certificate has not run out.
func (c *Credentials) IsGood(p *Peer, now time.Time) bool {
	return p.Trusted == c.count.Load() && now.Before(p.Expires.Add(Skew))
}

// maxVerified is how many verified certificates are remembered.
const maxVerified = 4096

// Verify tells whom a chain of certificates vouches for. A certificate that was
// verified under the same authorities is not verified again before it runs out.
func (c *Credentials) Verify(chain []*x509.Certificate, now time.Time) (Peer, error) {
	if len(chain) == 0 {
		return Peer{}, ErrNoIdentity
	}
	trust, count := c.trust.Load(), c.count.Load()
	if trust == nil {
		return Peer{}, errors.New("there are no authorities to trust yet")
	}
	hash := sha256.New()
	for _, one := range chain {
		hash.Write(one.Raw)
	}
	var key [sha256.Size]byte
	hash.Sum(key[:0])
	c.mu.Lock()
	known, isKnown := c.verified[key]
	isKnown = isKnown && c.of == trust
	c.mu.Unlock()
	if isKnown && now.Before(known.Expires) {
		known.Trusted = count
		return known, nil
	}
	m, err := trust.Verify(chain, now)
	if err != nil {
		return Peer{}, err
	}
	p := Peer{Member: m, Expires: chain[0].NotAfter, Serial: chain[0].SerialNumber.Text(16), Trusted: count}
	c.mu.Lock()
	if c.verified == nil || c.of != trust || len(c.verified) >= maxVerified {
		c.verified, c.of = map[[sha256.Size]byte]Peer{}, trust
	}
	c.verified[key] = p
	c.mu.Unlock()
	return p, nil
}

// config is what both ends have in common. There are no session tickets: connections
// are kept, and a resumed session would show an old certificate.
func (c *Credentials) config() *tls.Config {
	return &tls.Config{
		MinVersion:                  tls.VersionTLS13,
		SessionTicketsDisabled:      true,
		DynamicRecordSizingDisabled: true,
		NextProtos:                  []string{"h2", "http/1.1", "http/1.0"},
	}
}

// ServerConfig is for connections from members. With isOptional it lets callers in
// that show no certificate; one that they show must be good in any case.
func (c *Credentials) ServerConfig(isOptional bool) *tls.Config {
	cfg := c.config()
	cfg.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.shown() }
	cfg.ClientAuth = tls.RequestClientCert // VerifyConnection refuses those that show none
	cfg.VerifyConnection = func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 && isOptional {
			return nil
		}
		_, err := c.Verify(s.PeerCertificates, time.Now())
		return err
	}
	return cfg
}

func (c *Credentials) shown() (*tls.Certificate, error) {
	if own := c.own.Load(); own != nil {
		return own, nil
	}
	return nil, errors.New("there is no certificate to show yet")
}

// ControlProtocol is what proxies offer when they connect to the service (RFC 7301), so
// that it tells them from people at the same port. What is spoken is HTTP/1.1.
const ControlProtocol = "nightjar-mesh"

// ClientConfig is for connections to a member. Its name must be want, or one of its
// kind when want has no name.
func (c *Credentials) ClientConfig(want Name) *tls.Config {
	cfg := c.config()
	cfg.NextProtos = nil
	if want.Kind == Node {
		cfg.NextProtos = []string{ControlProtocol, "http/1.1"}
	}
	cfg.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return c.shown() }
	cfg.InsecureSkipVerify = true // names are SPIFFE IDs: VerifyConnection verifies them
	cfg.VerifyConnection = func(s tls.ConnectionState) error {
		p, err := c.Verify(s.PeerCertificates, time.Now())
		if err != nil {
			return err
		}
		return expect(want, p.Member)
	}
	return cfg
}

// WrongPeer means that the other end is another member than the one that was wanted.
type WrongPeer struct {
	Want Name
	Got  Member
}

func (e WrongPeer) Error() string { return fmt.Sprintf("it is %s, not %s", e.Got.Name, e.Want) }

func expect(want Name, got Member) error {
	if got.Kind != want.Kind || want.Name != "" && got.Name != want {
		return WrongPeer{want, got}
	}
	return nil
}

// Client makes a connection to a member secure, and tells who it is. server is the server
// name that is sent (RFC 6066, section 3); empty: none.
func (c *Credentials) Client(ctx context.Context, conn net.Conn, want Name, server string) (*tls.Conn, Peer, error) {
	cfg := c.ClientConfig(want)
	cfg.ServerName = server
	t := tls.Client(conn, cfg)
	if err := t.HandshakeContext(ctx); err != nil {
		return nil, Peer{}, err
	}
	p, err := c.Verify(t.ConnectionState().PeerCertificates, time.Now())
	if err != nil {
		return nil, Peer{}, err
	}
	return t, p, nil
}
