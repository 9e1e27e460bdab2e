package proxy

import (
	"context"
	"crypto/tls"
	"fmt"

	"nightjar/core/rules"
	"nightjar/proxy/carry"
	"nightjar/proxy/process"
)

// gatewayName begins the name of a gateway's listener, which goes on with its address.
const gatewayName = "gateway at "

// gateway is the listener of a gateway.
type gateway struct {
	*carry.Listener
	listen string // as the rules wrote it
}

// openGateway listens where the rules want the gateway to, with the certificates
// that they name. The old listener stays until the new one is open; rules that do
// not name the gateway leave it open, and it refuses requests with a reason. While
// the listeners are handed to another process, that one follows the rules.
func (p *Proxy) openGateway(rs *rules.Rules) error {
	if p.cfg.Gateway == "" || rs == nil {
		return nil
	}
	g := rs.Gateway(p.cfg.Gateway)
	if g == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.isLeaving || p.isHandingOver {
		return nil
	}
	if err := p.certs.Use(p.cfg.TLSDir, g.TLS); err != nil {
		return fmt.Errorf("gateway %s: %w", g.Name, err)
	}
	if p.gateway != nil && p.gateway.listen == g.Listen {
		return nil
	}
	name := gatewayName + g.Listen
	l, err := p.cfg.Before.Listen(name, g.Listen)
	if err != nil {
		return fmt.Errorf("gateway %s: %w", g.Name, err)
	}
	if old := p.gateway; old != nil {
		p.closing.Go(func() { old.Drain(0, p.cfg.Drain) })
	}
	o := p.listen(name, l, p.router)
	config := p.certs.Config()
	o.TLS = func() *tls.Config { // rules can bring certificates and take them away without closing the listener
		if p.certs.Empty() {
			return nil
		}
		return config
	}
	p.gateway = &gateway{o, g.Listen}
	p.closing.Go(func() {
		if err := o.Serve(); err != nil {
			p.log.Error("the gateway's listener broke", "error", err)
		}
	})
	return nil
}

// watchCertificates takes changed files into use, until ctx is done.
func (p *Proxy) watchCertificates(ctx context.Context) {
	told := ""
	process.Every(ctx, certificateTick, func() {
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
