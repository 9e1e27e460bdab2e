// Package certs reads the certificates that gateways show, and notices when
// their files change.
package certs

import (
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// load reads one pair of PEM files. Relative names count from dir.
func load(dir string, c rules.Certificate) (*tls.Certificate, error) {
	cert, err := os.ReadFile(under(dir, c.Cert))
	if err != nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	key, err := os.ReadFile(under(dir, c.Key))
	if err != nil {
		return nil, fmt.Errorf("key: %w", err)
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("%s and %s: %w", c.Cert, c.Key, err)
	}
	return &pair, nil
}

func under(dir, name string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(dir, name)
	}
	if abs, err := filepath.Abs(name); err == nil {
		return abs // an error then says where the file was looked for
	}
	return name
}

// Look returns a function that tells the checker how certificate files are.
func Look(dir string) func(rules.Certificate) (rules.CertificateState, error) {
	return func(c rules.Certificate) (rules.CertificateState, error) {
		var state rules.CertificateState
		pair, err := load(dir, c)
		if err != nil {
			return state, err
		}
		state.Names = slices.Clone(pair.Leaf.DNSNames)
		for _, ip := range pair.Leaf.IPAddresses {
			state.Names = append(state.Names, ip.String())
		}
		if time.Now().After(pair.Leaf.NotAfter) {
			state.Expired = pair.Leaf.NotAfter.UTC().Format(time.DateOnly)
		}
		return state, nil
	}
}

// Set is the certificates that a listener chooses from. Its zero value is
// empty; it is safe for concurrent use.
type Set struct {
	chosen atomic.Pointer[[]*tls.Certificate] // nil or empty: none
	mu     sync.Mutex
	dir    string
	of     []rules.Certificate
	stamps []time.Time
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
	return s.use(dir, pairs)
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
			if info, err := os.Stat(under(dir, name)); err == nil {
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
	if len(s.of) == 0 || slices.EqualFunc(stampsOf(s.dir, s.of), s.stamps, time.Time.Equal) {
		return false, nil
	}
	err = s.use(s.dir, s.of)
	return err == nil, err
}

// Empty tells whether there is no certificate to show.
func (s *Set) Empty() bool {
	all := s.chosen.Load()
	return all == nil || len(*all) == 0
}

// Config is a configuration that chooses by the name that the caller asks for
// (RFC 6066, section 3), and shows the first certificate when none fits.
func (s *Set) Config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: s.get}
}

func (s *Set) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	all := s.chosen.Load()
	if all == nil || len(*all) == 0 {
		return nil, errors.New("no certificate")
	}
	for _, pair := range *all {
		if hello.SupportsCertificate(pair) == nil {
			return pair, nil
		}
	}
	return (*all)[0], nil
}
