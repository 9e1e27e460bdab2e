// Package proxy is the data plane: one proxy beside each workload instance and
// one at each edge. It asks the engine where every request goes and carries it
// there; the rules come from the service as snapshots.
package proxy

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/certs"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// Config of a proxy. Either Service and Version are set, beside a workload, or
// Gateway, or neither: a proxy that only makes calls.
type Config struct {
	ID      string // unique name; also the name of the instance beside it
	Server  string // URL of the service
	Service string
	Version string
	Site    string
	Gateway string // name of the gateway to serve

	App      string // host:port of the workload; empty: it takes no calls
	Inbound  string // address to take calls for the workload; "127.0.0.1:0" when empty
	Outbound string // address where the workload calls others; "127.0.0.1:0" when empty

	TLSDir  string // directory from which the names of TLS files count; the working directory when empty
	Program string // version of this program
	// Caller is the name by which calls are counted when there is no Service.
	Caller string
	Log    *slog.Logger
	Drain  time.Duration // how long requests may take to finish at the end; 5s when 0
}

// Proxy is a running proxy. Make one with New, then call Run.
type Proxy struct {
	cfg      Config
	log      *slog.Logger
	epoch    time.Time
	nonce    string
	started  time.Time
	force    atomic.Pointer[inForce]
	recorder *recorder
	carrier  *carrier
	pool     *http.Transport
	inbound  net.Listener
	outbound net.Listener
	ready    chan struct{}

	mu        sync.Mutex // guards what follows; never held by a request
	rules     *rules.Rules
	instances []engine.Instance
	edge      *edge // the gateway's listener, once the rules name it
	certs     certs.Set
	leaving   bool // no new listener is to be opened
}

// Limits of every listener of a proxy.
const (
	headerTimeout   = 10 * time.Second
	idleTimeout     = 2 * time.Minute
	maxHeader       = 64 << 10
	certificateTick = time.Second            // how often the files of certificates are looked at
	firstRules      = 5 * time.Second        // how long early callers wait for the first rules
	hearsay         = 250 * time.Millisecond // how long it takes until everybody knows that an instance left
)

// New opens the listeners of a proxy, so that their addresses are known.
func New(cfg Config) (*Proxy, error) {
	if cfg.Gateway == "" && cfg.App != "" && (cfg.Service == "" || cfg.Version == "") {
		return nil, errors.New("a proxy beside a workload needs the workload's service and version")
	}
	if cfg.Drain == 0 {
		cfg.Drain = 5 * time.Second
	}
	p := &Proxy{cfg: cfg, log: cmp.Or(cfg.Log, slog.New(slog.DiscardHandler)), epoch: time.Now(), started: time.Now(),
		nonce: fmt.Sprintf("%016x", rand.Uint64()), recorder: newRecorder(8), ready: make(chan struct{}), rules: &rules.Rules{}}
	p.log = p.log.With("proxy", cfg.ID)
	empty, err := engine.Compile(p.rules, nil, engine.Options{})
	if err != nil {
		return nil, err
	}
	p.force.Store(&inForce{table: empty})
	p.pool = &http.Transport{Proxy: nil, DisableCompression: true, MaxIdleConns: 0, MaxIdleConnsPerHost: 512, IdleConnTimeout: 30 * time.Second,
		DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext, WriteBufferSize: 16 << 10, ReadBufferSize: 16 << 10, MaxResponseHeaderBytes: maxHeader}
	p.carrier = &carrier{name: cfg.ID, caller: cmp.Or(cfg.Gateway, cfg.Service, cfg.Caller), gateway: cfg.Gateway, site: cfg.Site, epoch: p.epoch,
		force: &p.force, transport: p.pool, recorder: p.recorder, mirrors: newMirrors(p.pool)}
	p.carrier.callerValue = []string{p.carrier.caller}
	if cfg.App != "" {
		if p.inbound, err = net.Listen("tcp", cmp.Or(cfg.Inbound, "127.0.0.1:0")); err != nil {
			return nil, fmt.Errorf("inbound listener: %w", err)
		}
	}
	if cfg.Gateway == "" {
		if p.outbound, err = net.Listen("tcp", cmp.Or(cfg.Outbound, "127.0.0.1:0")); err != nil {
			if p.inbound != nil {
				p.inbound.Close()
			}
			return nil, fmt.Errorf("outbound listener: %w", err)
		}
	}
	return p, nil
}

// Outbound is the address where the workload calls others; empty at a gateway
// whose rules have not come yet.
func (p *Proxy) Outbound() string {
	if p.outbound != nil {
		return p.outbound.Addr().String()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.edge != nil {
		return p.edge.listener.Addr().String()
	}
	return ""
}

// Inbound is the address where others call the workload; empty without one.
func (p *Proxy) Inbound() string {
	if p.inbound == nil {
		return ""
	}
	return p.inbound.Addr().String()
}

// Ready is closed when the first snapshot is in force.
func (p *Proxy) Ready() <-chan struct{} { return p.ready }

// Revision is the revision in force here.
func (p *Proxy) Revision() uint { return p.force.Load().revision }

// Run serves until ctx is done, then withdraws the instance and lets requests
// finish, for Config.Drain at most.
func (p *Proxy) Run(ctx context.Context) error {
	var servers []*http.Server
	var running sync.WaitGroup
	failed := make(chan error, 2)
	start := func(s *http.Server, l net.Listener) {
		servers = append(servers, s)
		running.Go(func() {
			if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				failed <- err
			}
		})
	}
	if p.inbound != nil {
		in := &inbound{carrier: carrier{name: p.cfg.ID, epoch: p.epoch, transport: p.pool}, app: &engine.Instance{ID: p.cfg.App, Address: p.cfg.App, Outside: true}}
		start(p.server(in), p.inbound)
	}
	defer p.carrier.mirrors.end()
	if p.cfg.Gateway != "" {
		running.Go(func() { p.watchCertificates(ctx) })
	}
	talk, hush := context.WithCancel(context.WithoutCancel(ctx))
	defer hush()
	session := newSession(p)
	running.Go(func() { session.run(talk) })

	// Callers that come before the rules wait in the listener's queue for a
	// while; after that they are refused with a reason.
	patience := time.NewTimer(firstRules)
	defer patience.Stop()
	var err error
	select {
	case <-p.ready:
	case <-patience.C:
	case <-ctx.Done():
	case err = <-failed:
	}
	if err == nil && ctx.Err() == nil {
		if p.outbound != nil {
			start(p.server(p.carrier), p.outbound)
		}
		select {
		case <-ctx.Done():
		case err = <-failed:
		}
	} else if p.outbound != nil {
		p.outbound.Close()
	}
	p.mu.Lock()
	p.leaving = true
	if p.edge != nil {
		servers = append(servers, p.edge.server)
	}
	p.mu.Unlock()
	if session.withdraw() && p.inbound != nil {
		<-time.After(min(hearsay, p.cfg.Drain/2)) // until no other proxy sends here any more
	}
	drain, stop := context.WithTimeout(context.WithoutCancel(ctx), p.cfg.Drain)
	defer stop()
	var closing sync.WaitGroup
	for _, s := range servers {
		closing.Go(func() {
			if s.Shutdown(drain) != nil {
				s.Close()
			}
		})
	}
	closing.Wait()
	session.collect()
	session.flush()
	hush()
	running.Wait()
	p.pool.CloseIdleConnections()
	return err
}

func (p *Proxy) server(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout, MaxHeaderBytes: maxHeader,
		ConnContext: p.carrier.connContext, ErrorLog: slog.NewLogLogger(p.log.Handler(), slog.LevelDebug)}
}

// apply puts a snapshot in force as one atomic swap.
func (p *Proxy) apply(s wire.Snapshot) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	old := p.force.Load()
	rs, instances, revision := p.rules, p.instances, old.revision
	if s.Rules != nil {
		rs, revision = s.Rules, s.Revision
	}
	if s.Instances != nil {
		if instances = *s.Instances; !s.Settled {
			instances = merge(instances, p.instances)
		}
	}
	table, err := engine.Compile(rs, instances, engine.Options{Previous: old.table, Seed: uint64(p.epoch.UnixNano())})
	if err != nil {
		return err
	}
	p.rules, p.instances = rs, instances
	p.force.Store(&inForce{table: table, revision: revision, known: true})
	return p.openEdge()
}

// merge adds to now the instances that were known before.
func merge(now, before []engine.Instance) []engine.Instance {
	known := map[string]bool{}
	for _, in := range now {
		known[in.ID] = true
	}
	out := now[:len(now):len(now)]
	for _, in := range before {
		if !known[in.ID] {
			out = append(out, in)
		}
	}
	return out
}

// edge is the listener of a gateway.
type edge struct {
	listen   string // as the rules wrote it
	listener net.Listener
	server   *http.Server
}

// openEdge listens where the rules in force want the gateway to, with the
// certificates that they name. The old listener stays until the new one is
// open; rules that do not name the gateway leave it open, and it refuses
// requests with a reason.
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
	l, err := net.Listen("tcp", g.Listen)
	if err != nil {
		return fmt.Errorf("gateway %s: %w", g.Name, err)
	}
	if old := p.edge; old != nil {
		go func() {
			ctx, stop := context.WithTimeout(context.Background(), p.cfg.Drain)
			defer stop()
			if old.server.Shutdown(ctx) != nil {
				old.server.Close()
			}
		}()
	}
	p.edge = &edge{listen: g.Listen, listener: l, server: p.server(p.carrier)}
	go p.edge.server.Serve(&maybeTLS{l, &p.certs, p.certs.Config()}) // ends when Run shuts the server down
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

// maybeTLS is a listener that speaks TLS as soon as there are certificates, so
// that rules can bring them and take them away without closing the port.
type maybeTLS struct {
	net.Listener
	certs  *certs.Set
	config *tls.Config
}

func (l *maybeTLS) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil || l.certs.Empty() {
		return c, err
	}
	return tls.Server(c, l.config), nil
}

func (p *Proxy) registration() wire.Registration {
	return wire.Registration{ID: p.cfg.ID, Nonce: p.nonce, Service: p.cfg.Service, Version: p.cfg.Version, Site: p.cfg.Site, Gateway: p.cfg.Gateway,
		Inbound: p.Inbound(), Outbound: p.Outbound(), Program: p.cfg.Program, PID: os.Getpid(), Started: p.started}
}
