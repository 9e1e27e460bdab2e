package proxy

import (
	"cmp"
	"sync/atomic"
	"time"

	"nightjar/identity"
	"nightjar/metrics"
)

// identity is who this proxy is; the trust domain is the service's.
func (p *Proxy) identity() identity.Member {
	name := identity.Name{Kind: identity.Service, Name: cmp.Or(p.cfg.Service, p.cfg.Caller)}
	if p.cfg.Gateway != "" {
		name = identity.Name{Kind: identity.Gateway, Name: p.cfg.Gateway}
	}
	if p.cfg.Crossing != "" {
		name = identity.Name{Kind: identity.Crossing, Name: p.cfg.Crossing}
	}
	return identity.Member{Name: name, ID: p.cfg.ID, Version: p.cfg.Version, Site: p.cfg.Site}
}

// isNode tells whether credentials are those of the service itself.
func isNode(c *identity.Credentials) bool {
	own := c.Own()
	if own == nil {
		return false
	}
	m, err := identity.MemberOf(own.Leaf)
	return err == nil && m.Kind == identity.Node
}

// identitiesTo are the SPIFFE IDs of this proxy and of a service that it calls by mutual
// TLS; empty before it has joined.
func (p *Proxy) identitiesTo(service string) (own, called string) {
	shown, trust := p.shown.Own(), p.shown.Trust()
	if shown == nil || trust == nil {
		return "", ""
	}
	if len(shown.Leaf.URIs) > 0 {
		own = shown.Leaf.URIs[0].String()
	}
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: service}, Domain: trust.Domain}
	return own, who.URI()
}

// identityGauges are the figures of /metrics about identities.
func (p *Proxy) identityGauges() []metrics.Value {
	h := &p.handshakes
	out := []metrics.Value{{
		Name: "nightjar_certificate_left_seconds",
		Unit: "seconds",
		Help: "Time until the certificate of this proxy runs out.",
		Read: func() float64 {
			own := p.shown.Own()
			if own == nil {
				return 0
			}
			return time.Until(own.Leaf.NotAfter).Seconds()
		},
	}}
	for _, one := range []struct {
		result string
		count  *atomic.Uint64
	}{
		{"mutual-tls", &h.Done}, {"plain", &h.Plain}, {"no-certificate", &h.None}, {"expired", &h.Expired},
		{"unknown-authority", &h.Unknown}, {"other-failure", &h.Otherwise},
	} {
		out = append(out, metrics.Value{
			Name:    "nightjar_handshakes_total",
			Help:    "Connections of callers, by how they proved who they are, or why they did not.",
			Counter: true,
			Labels:  map[string]string{"result": one.result},
			Read:    func() float64 { return float64(one.count.Load()) },
		})
	}
	return out
}
