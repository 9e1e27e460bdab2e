// Package certs reads the certificates that gateways show, and notices when
// their files change.
package certs

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// load reads one pair of PEM files. Relative names count from dir.
func load(dir string, c rules.Certificate) (*tls.Certificate, error) {
	cert, err := os.ReadFile(Under(dir, c.Cert))
	if err != nil {
		return nil, err
	}
	key, err := os.ReadFile(Under(dir, c.Key))
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("%s and %s: %w", c.Cert, c.Key, err)
	}
	return &pair, nil
}

// Under is the absolute path of a file whose name counts from dir, unless it is absolute.
func Under(dir, name string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(dir, name)
	}
	if abs, err := filepath.Abs(name); err == nil {
		return abs // an error then says where the file was looked for
	}
	return name
}

// Set is the certificates that a listener chooses from. Its zero value is
// empty; it is safe for concurrent use.
type Set struct {
	chosen atomic.Pointer[[]*tls.Certificate] // nil or empty: none
	mu     sync.Mutex
	dir    string
	of     []rules.Certificate
	stamps []time.Time
	failed error // why the files are not in use as they are now; nil: they are
}

// Use reads the pairs and offers them from now on. On an error the ones before
// stay. Pairs that are in use already are Refresh's to look after.
func (s *Set) Use(dir string, pairs []rules.Certificate) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	same := func(a, b rules.Certificate) bool { return a.Cert == b.Cert && a.Key == b.Key }
	if s.dir == dir && slices.EqualFunc(s.of, pairs, same) {
		return nil
	}
	s.failed = s.use(dir, pairs)
	return s.failed
}

// Problem is what is wrong with the certificates, for a gateway of these hosts: its
// files cannot be used as they are now, one ran out, or none covers a host. Empty:
// nothing is.
func (s *Set) Problem(hosts []string, now time.Time) string {
	s.mu.Lock()
	failed := s.failed
	s.mu.Unlock()
	if failed != nil {
		return failed.Error()
	}
	all := s.chosen.Load()
	if all == nil || len(*all) == 0 {
		return ""
	}
	for _, pair := range *all {
		if now.After(pair.Leaf.NotAfter) {
			return fmt.Sprintf(
				"the certificate for %s ran out on %s",
				strings.Join(names(pair.Leaf), ", "),
				pair.Leaf.NotAfter.UTC().Format(time.DateOnly),
			)
		}
	}
	for _, h := range hosts {
		if h != "*" && !slices.ContainsFunc(*all, func(pair *tls.Certificate) bool { return covers(pair.Leaf, h) }) {
			return "no certificate covers host " + h
		}
	}
	return ""
}

// names are the hosts that a certificate is for.
func names(leaf *x509.Certificate) []string {
	out := slices.Clone(leaf.DNSNames)
	for _, ip := range leaf.IPAddresses {
		out = append(out, ip.String())
	}
	return out
}

// covers tells whether a certificate is good for a host of a gateway, or for all of
// a suffix *.example (RFC 6125, section 6.4.3).
func covers(leaf *x509.Certificate, host string) bool {
	suffix, isWild := strings.CutPrefix(host, "*")
	if !isWild {
		return leaf.VerifyHostname(host) == nil
	}
	return slices.ContainsFunc(leaf.DNSNames, func(n string) bool {
		return strings.EqualFold(n, "*"+suffix)
	})
}

func (s *Set) use(dir string, pairs []rules.Certificate) error {
	stamps := stampsOf(dir, pairs) // before reading: a change in between is seen next time
	var all []*tls.Certificate
	for _, c := range pairs {
		pair, err := load(dir, c)
		if err != nil {
			return err
		}
		all = append(all, pair)
	}
	s.dir, s.of, s.stamps = dir, pairs, stamps
	s.chosen.Store(&all)
	return nil
}

func stampsOf(dir string, pairs []rules.Certificate) []time.Time {
	var out []time.Time
	for _, c := range pairs {
		for _, name := range []string{c.Cert, c.Key} {
			var at time.Time
			if info, err := os.Stat(Under(dir, name)); err == nil {
				at = info.ModTime()
			}
			out = append(out, at)
		}
	}
	return out
}

// Refresh reads the files again when they changed. While they do not fit
// together, as between the writing of the one and the other, the ones before
// stay, and the error says so.
func (s *Set) Refresh() (changed bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed == nil && (len(s.of) == 0 || slices.EqualFunc(stampsOf(s.dir, s.of), s.stamps, time.Time.Equal)) {
		return false, nil
	}
	s.failed = s.use(s.dir, s.of)
	return s.failed == nil, s.failed
}

// Empty tells whether there is no certificate to show.
func (s *Set) Empty() bool {
	all := s.chosen.Load()
	return all == nil || len(*all) == 0
}

// First is the first certificate, whatever name is asked for.
func (s *Set) First() (*tls.Certificate, error) { return s.get(nil) }

// Config is a configuration that chooses by the name that the caller asks for
// (RFC 6066, section 3), and shows the first certificate when none fits.
func (s *Set) Config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1", "http/1.0"}, GetCertificate: s.get}
}

func (s *Set) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	all := s.chosen.Load()
	if all == nil || len(*all) == 0 {
		return nil, errors.New("no certificate")
	}
	for _, pair := range *all {
		if hello != nil && hello.SupportsCertificate(pair) == nil {
			return pair, nil
		}
	}
	return (*all)[0], nil
}
