// Package identity is who the members of a mesh are: their names, the certificates
// that prove them, and the TLS by which they speak to each other.
//
// A name is a SPIFFE ID (https://spiffe.io, SPIFFE-ID and X509-SVID) in the mesh's
// trust domain: spiffe://DOMAIN/service/NAME, spiffe://DOMAIN/gateway/NAME,
// spiffe://DOMAIN/crossing/SITE or spiffe://DOMAIN/node/NAME. What else a certificate vouches for, the instance, its
// version and its site, is in the subject, since a certificate may hold one URI alone.
package identity

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"github.com/spiffe/go-spiffe/v2/spiffeid"
	"github.com/spiffe/go-spiffe/v2/svid/x509svid"
)

// DefaultDomain is the trust domain when nobody names one.
const DefaultDomain = "nightjar.internal"

// Kinds of members.
const (
	Service  = "service"  // a proxy beside a workload
	Gateway  = "gateway"  // a proxy at an edge
	Crossing = "crossing" // a proxy that carries what comes from other sites; its name is the site
	Node     = "node"     // the service itself
)

// Name is the name of a service, a gateway, a crossing or a node.
type Name struct{ Kind, Name string }

// String is the name as access rules write it: NAME, gateway/NAME, crossing/SITE or node/NAME.
func (n Name) String() string {
	if n.Kind == Service || n.Kind == "" {
		return n.Name
	}
	return n.Kind + "/" + n.Name
}

// Path is the name in a SPIFFE ID, after the trust domain.
func (n Name) Path() string { return "/" + n.Kind + "/" + n.Name }

// Member is what a certificate vouches for.
type Member struct {
	Name
	Domain  string // trust domain
	ID      string // unique name of the proxy and of the instance beside it
	Version string // of the workload; empty: none
	Site    string // place where it runs; empty: none
}

// URI is the SPIFFE ID.
func (m Member) URI() string { return "spiffe://" + m.Domain + m.Path() }

// shape is that of all names, of proxies with colons besides.
var (
	shape   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
	idShape = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:-]{0,126}$`)
)

// Check tells what is wrong with the names of a member.
func (m Member) Check() error {
	switch m.Kind {
	case Service, Gateway, Node:
	case Crossing:
		if m.Site != m.Name.Name || m.Version != "" {
			return fmt.Errorf("the crossing of site %s is at site %q, version %q: it is at its own site, and has no version",
				m.Name.Name, m.Site, m.Version)
		}
	default:
		return fmt.Errorf("%q is not a kind of member: expected service, gateway, crossing or node", m.Kind)
	}
	if !shape.MatchString(m.Name.Name) {
		return fmt.Errorf("%q cannot be a %s: use letters, digits, dots and hyphens", m.Name.Name, m.Kind)
	}
	if !idShape.MatchString(m.ID) {
		return fmt.Errorf("%q cannot be the name of a proxy: use letters, digits, dots, colons and hyphens", m.ID)
	}
	for what, v := range map[string]string{"version": m.Version, "site": m.Site} {
		if v != "" && !shape.MatchString(v) {
			return fmt.Errorf("%q cannot be a %s: use letters, digits, dots and hyphens", v, what)
		}
	}
	return nil
}

// CheckDomain tells what is wrong with a trust domain.
func CheckDomain(domain string) error {
	if _, err := spiffeid.TrustDomainFromString(domain); err != nil || strings.Contains(domain, "://") {
		return fmt.Errorf("%q cannot be a trust domain: use small letters, digits, dots and hyphens, such as %s",
			domain, DefaultDomain)
	}
	return nil
}

// Subject is where a certificate has what its URI does not say: the instance as common
// name, the version as organizational unit, the site as locality.
func (m Member) Subject() pkix.Name {
	s := pkix.Name{CommonName: m.ID}
	if m.Version != "" {
		s.OrganizationalUnit = []string{m.Version}
	}
	if m.Site != "" {
		s.Locality = []string{m.Site}
	}
	return s
}

// URL is the SPIFFE ID.
func (m Member) URL() *url.URL { return &url.URL{Scheme: "spiffe", Host: m.Domain, Path: m.Path()} }

// MemberOf reads what a certificate says, whoever signed it.
func MemberOf(leaf *x509.Certificate) (Member, error) {
	id, err := x509svid.IDFromCert(leaf)
	switch {
	case len(leaf.URIs) == 0:
		return Member{}, errors.New("the certificate has no SPIFFE ID")
	case len(leaf.URIs) > 1:
		return Member{}, fmt.Errorf("the certificate has %d URIs instead of one SPIFFE ID", len(leaf.URIs))
	case err != nil:
		return Member{}, fmt.Errorf("the URI of the certificate is not a SPIFFE ID: %w", err)
	}
	kind, name, ok := strings.Cut(strings.TrimPrefix(id.Path(), "/"), "/")
	if !ok || strings.Contains(name, "/") {
		return Member{}, fmt.Errorf("%s is not the name of a service, a gateway, a crossing or a node", id)
	}
	m := Member{
		Name:    Name{Kind: kind, Name: name},
		Domain:  id.TrustDomain().Name(),
		ID:      leaf.Subject.CommonName,
		Version: first(leaf.Subject.OrganizationalUnit),
		Site:    first(leaf.Subject.Locality),
	}
	if err := m.Check(); err != nil {
		return Member{}, fmt.Errorf("the certificate: %w", err)
	}
	return m, nil
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}
