package proxy

import (
	"context"
	"crypto/tls"
	"math"
	"net"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/carry"
	"nightjar/proxy/process"
	"nightjar/wire"
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
// the listeners are handed to another process, that one follows the rules. What
// cannot be is a problem of this proxy, and is tried again.
func (p *Proxy) openGateway(rs *rules.Rules) {
	if p.cfg.Gateway == "" || rs == nil {
		return
	}
	g := rs.Gateway(p.cfg.Gateway)
	if g == nil {
		p.setProblem(wire.ProblemListener, "")
		p.setProblem(wire.ProblemCertificate, "")
		return
	}
	p.leastRate.Store(math.Float64bits(g.LeastRate))
	p.setProblem(wire.ProblemKeys, p.tokens.Problem())
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.isLeaving || p.isHandingOver {
		return
	}
	err := p.certs.Use(p.cfg.TLSDir, g.TLS)
	p.setProblem(wire.ProblemCertificate, p.certs.Problem(g.Hosts, time.Now()))
	if err != nil || p.gateway != nil && p.gateway.listen == g.Listen {
		if err == nil {
			p.setProblem(wire.ProblemListener, "")
		}
		return
	}
	l, err := p.cfg.Before.Listen(gatewayName+g.Listen, g.Listen)
	if err != nil {
		p.setProblem(wire.ProblemListener, "gateway "+g.Name+" does not listen at "+g.Listen+": "+err.Error())
		return
	}
	deferAccept(l)
	p.setProblem(wire.ProblemListener, "")
	if old := p.gateway; old != nil {
		p.closing.Go(func() { old.Drain(0, p.cfg.Drain) })
	}
	o := p.listen(gatewayName+g.Listen, l, p.router)
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
			p.setProblem(wire.ProblemListener, "the listener of gateway "+g.Name+" broke: "+err.Error())
		}
	})
}

// prepare has ready what requests need beside the table, before rules and instances come
// into force.
func (p *Proxy) prepare(rs *rules.Rules, instances []engine.Instance) {
	p.outside.Follow(rs)
	p.prepareEdge(rs)
	p.learn(instances)
}

// adopted makes the listeners follow rules that have just come into force.
func (p *Proxy) adopted(rs *rules.Rules) {
	p.openGateway(rs)
	p.followSite(rs)
}

// watchOutside takes changed files of TLS to outside instances into use, until ctx is done.
func (p *Proxy) watchOutside(ctx context.Context) {
	process.Every(ctx, certificateTick, func() {
		p.outside.Refresh()
		p.outside.Look()
		p.setProblem(wire.ProblemOutside, p.outside.Problem())
	})
}

// prepareEdge has what the gateway asks of outsiders ready before rules come into force.
func (p *Proxy) prepareEdge(rs *rules.Rules) {
	if p.cfg.Gateway == "" || rs == nil {
		return
	}
	if g := rs.Gateway(p.cfg.Gateway); g != nil {
		e := p.tokens.Follow(g)
		p.edge.Store(e)
		p.callers.Bound(e.Limits.Connections, e.Limits.PerAddress)
	}
}

// silence is for how long a connection on which nothing was said may be the
// system's alone.
const silence = 5 * time.Second

// deferAccept has the system keep connections to itself on which nothing was said
// yet: those who only open some cost nothing here (tcp(7), TCP_DEFER_ACCEPT). Callers
// of a gateway speak first, in whatever protocol. Where it cannot be set, it is not.
func deferAccept(l net.Listener) {
	t, ok := l.(*net.TCPListener)
	if !ok {
		return
	}
	if raw, err := t.SyscallConn(); err == nil {
		raw.Control(func(fd uintptr) {
			syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_DEFER_ACCEPT, int(silence/time.Second))
		})
	}
}

// watchCertificates takes changed files into use, until ctx is done.
func (p *Proxy) watchCertificates(ctx context.Context) {
	process.Every(ctx, certificateTick, func() {
		rs := p.follower.Rules()
		if rs == nil {
			return
		}
		if g := rs.Gateway(p.cfg.Gateway); g != nil {
			if isChanged, _ := p.certs.Refresh(); isChanged {
				p.log.Info("certificates were read again")
			}
			p.openGateway(rs)
		}
	})
}
