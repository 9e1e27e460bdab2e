// Package signon signs people in by a provider of identities (OpenID Connect Core 1.0):
// a browser by the code flow with PKCE (RFC 7636), a command by the device flow (RFC 8628).
// What a person may do comes from their groups at the provider.
package signon

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"nightjar/control/people"
	"nightjar/local"
)

const (
	maxFile  = 64 << 10 // of the configuration, in bytes
	callTime = 10 * time.Second
)

// Config is what the service knows of a provider.
type Config struct {
	Issuer     string              `yaml:"issuer"`      // its URL
	Client     string              `yaml:"client"`      // id of Nightjar there
	SecretFile string              `yaml:"secret-file"` // file with the secret of the client; empty: it is a public client
	URL        string              `yaml:"url"`         // where browsers reach the console
	Scopes     []string            `yaml:"scopes"`      // besides openid, email and profile
	Name       string              `yaml:"name"`        // claim with the name of who signs in; empty: email
	Groups     string              `yaml:"groups"`      // claim with their groups; empty: groups
	Roles      map[string][]string `yaml:"roles"`       // groups of each role; anyone: everybody who can sign in
	Teams      map[string][]string `yaml:"teams"`       // groups of each team of the rules, to which their people are limited
	CAFile     string              `yaml:"ca-file"`     // certificates that vouch for the provider; empty: the system's

	secret string
	client *http.Client
}

// anyone stands for everybody who can sign in, in place of a group.
const anyone = "anyone"

// Read reads a configuration.
func Read(path string) (*Config, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxFile {
		return nil, fmt.Errorf("%s has %d bytes: expected at most %d", path, info.Size(), maxFile)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var c Config
	if err := yaml.Load(text, &c, yaml.WithKnownFields()); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if err := c.check(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if err := c.open(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &c, nil
}

// check tells what is wrong with a configuration by itself.
func (c *Config) check() error {
	for name, text := range map[string]string{"issuer": c.Issuer, "url": c.URL} {
		u, err := url.Parse(text)
		if err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" || !isSafe(u) {
			return fmt.Errorf("%s: %q is no https:// URL (http:// is for this machine alone)", name, text)
		}
	}
	if c.Client == "" {
		return errors.New("client: the id is missing that Nightjar has at the provider")
	}
	if len(c.Roles) == 0 {
		return errors.New("roles: nobody could do anything: name groups for viewer, editor or admin")
	}
	for role, groups := range c.Roles {
		if _, err := people.ParseRole(role); err != nil {
			return fmt.Errorf("roles: %w", err)
		}
		if role == string(people.Admin) && slices.Contains(groups, anyone) {
			return errors.New("roles.admin: anyone would be an admin: name groups")
		}
	}
	c.URL = strings.TrimSuffix(c.URL, "/")
	return nil
}

// isSafe tells whether what goes to a URL is safe on its way.
func isSafe(u *url.URL) bool {
	return u.Scheme == "https" || u.Scheme == "http" && local.IsLoopback(u.Hostname())
}

// open reads the files that a configuration names.
func (c *Config) open() error {
	if c.SecretFile != "" {
		text, err := os.ReadFile(c.SecretFile)
		if err != nil {
			return fmt.Errorf("secret-file: %w", err)
		}
		if c.secret = strings.TrimSpace(string(text)); c.secret == "" {
			return fmt.Errorf("secret-file: %s is empty", c.SecretFile)
		}
	}
	tr := &http.Transport{Proxy: nil, TLSHandshakeTimeout: callTime, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute}
	if c.CAFile != "" {
		text, err := os.ReadFile(c.CAFile)
		if err != nil {
			return fmt.Errorf("ca-file: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(text) {
			return fmt.Errorf("ca-file: %s has no certificate in PEM", c.CAFile)
		}
		tr.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	c.client = &http.Client{Transport: tr, Timeout: callTime}
	return nil
}

// roleOf is the highest role of somebody in groups; empty: none.
func (c *Config) roleOf(groups []string) people.Role {
	best := people.Role("")
	for role, of := range c.Roles {
		isIn := slices.ContainsFunc(of, func(g string) bool { return g == anyone || slices.Contains(groups, g) })
		if r := people.Role(role); isIn && (best == "" || r.May(best)) {
			best = r
		}
	}
	return best
}

// teamsOf are the teams of somebody in groups; an admin has none.
func (c *Config) teamsOf(role people.Role, groups []string) []string {
	if role == people.Admin {
		return nil
	}
	var out []string
	for _, team := range slices.Sorted(maps.Keys(c.Teams)) {
		if slices.ContainsFunc(c.Teams[team], func(g string) bool { return slices.Contains(groups, g) }) {
			out = append(out, team)
		}
	}
	return out
}

// Provider is what people know the provider by: its host.
func (c *Config) Provider() string {
	u, err := url.Parse(c.Issuer)
	if err != nil {
		return c.Issuer
	}
	return u.Host
}
