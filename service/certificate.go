package service

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/certs"
	"nightjar/core/rules"
	"nightjar/identity/authority"
)

// look is how often files of a certificate are looked at.
const look = 10 * time.Second

// certificate is what people are shown: a pair of files that somebody brought, or one
// that the authority signs. It is safe for concurrent use.
type certificate struct {
	brought *certs.Set // nil: the authority signs
	ca      *authority.Authority
	hosts   []string

	mu     sync.Mutex // guards what follows
	own    *tls.Certificate
	signer string    // that signed it
	anew   time.Time // when it is looked at again
}

// newCertificate makes one for the hosts by which people reach the service.
func newCertificate(cfg Config, ca *authority.Authority, at net.Addr) (*certificate, error) {
	if (cfg.TLSCert == "") != (cfg.TLSKey == "") {
		return nil, fmt.Errorf("--tls-cert and --tls-key belong together: name both, or neither")
	}
	c := &certificate{ca: ca, hosts: hostsOf(cfg.Names, at)}
	if cfg.TLSCert == "" {
		return c, nil
	}
	c.brought = &certs.Set{}
	if err := c.brought.Use("", []rules.Certificate{{Cert: cfg.TLSCert, Key: cfg.TLSKey}}); err != nil {
		return nil, fmt.Errorf("--tls-cert, --tls-key: %w", err)
	}
	return c, nil
}

// get is the certificate to show now.
func (c *certificate) get() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	if c.brought != nil {
		if now.After(c.anew) {
			c.anew = now.Add(look)
			c.brought.Refresh() // files that do not fit together stay out of use
		}
		return c.brought.First()
	}
	signer := c.ca.Status().Signer
	if c.own != nil && now.Before(c.anew) && signer.Subject.String()+signer.SerialNumber.String() == c.signer {
		return c.own, nil
	}
	own, err := c.ca.ForPeople(c.hosts)
	if err != nil {
		return nil, err
	}
	c.own, c.signer = own, signer.Subject.String()+signer.SerialNumber.String()
	c.anew = now.Add(own.Leaf.NotAfter.Sub(now) / 2)
	return own, nil
}

// hostsOf are the names and addresses of the service: those that somebody named, that of
// the machine, and those where it listens.
func hostsOf(names []string, at net.Addr) []string {
	out := append(slices.Clone(names), "localhost", "127.0.0.1", "::1")
	if name, err := os.Hostname(); err == nil {
		out = append(out, name)
	}
	ips := []net.Addr{}
	if tcp, isTCP := at.(*net.TCPAddr); isTCP && !tcp.IP.IsUnspecified() {
		out = append(out, tcp.IP.String())
	} else if isTCP {
		ips, _ = net.InterfaceAddrs()
	}
	for _, a := range ips {
		if n, isNet := a.(*net.IPNet); isNet && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(h string) bool { return strings.TrimSpace(h) == "" })
}
