package proxy

import (
	"context"
	"crypto/tls"
	"fmt"
)

// edgeName begins the name of a gateway's port, which goes on with its address.
const edgeName = "gateway at "

// edge is the port of a gateway.
type edge struct {
	*port
	listen string // as the rules wrote it
}

// openEdge listens where the rules in force want the gateway to, with the
// certificates that they name. The old port stays until the new one is open;
// rules that do not name the gateway leave it open, and it refuses requests
// with a reason.
func (p *Proxy) openEdge() error {
	if p.cfg.Gateway == "" {
		return nil
	}
	g := p.rules.Gateway(p.cfg.Gateway)
	if g == nil || p.leaving {
		return nil
	}
	if err := p.certs.Use(p.cfg.TLSDir, g.TLS); err != nil {
		return fmt.Errorf("gateway %s: %w", g.Name, err)
	}
	if p.edge != nil && p.edge.listen == g.Listen {
		return nil
	}
	l, err := p.cfg.Before.listen(edgeName+g.Listen, g.Listen)
	if err != nil {
		return fmt.Errorf("gateway %s: %w", g.Name, err)
	}
	if old := p.edge; old != nil {
		p.closing.Go(func() { old.drain(0, p.cfg.Drain) })
	}
	o := p.port(edgeName+g.Listen, l, p.carrier, p.carrier)
	config := p.certs.Config()
	o.tls = func() *tls.Config { // rules can bring certificates and take them away without closing the port
		if p.certs.Empty() {
			return nil
		}
		return config
	}
	p.edge = &edge{o, g.Listen}
	p.closing.Go(func() {
		if err := o.serve(); err != nil {
			p.log.Error("the gateway's listener broke", "error", err)
		}
	})
	return nil
}

// watchCertificates takes changed files into use, until ctx is done.
func (p *Proxy) watchCertificates(ctx context.Context) {
	told := ""
	every(ctx, certificateTick, func() {
		switch changed, err := p.certs.Refresh(); {
		case err != nil && err.Error() != told:
			told = err.Error()
			p.log.Warn("changed certificate files are not usable; the ones before stay", "error", err)
		case changed:
			told = ""
			p.log.Info("certificates were read again")
		}
	})
}
