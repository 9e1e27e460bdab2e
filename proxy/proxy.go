// Package proxy is the data plane: one proxy beside each workload instance and
// one at each edge. It asks the engine where every request goes and carries it
// there; the rules come from the service as snapshots.
package proxy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"slices"
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
	Token   string // that the service wants to see; empty: none
	Service string
	Version string
	Site    string
	Gateway string // name of the gateway to serve

	App      string // host:port of the workload; empty: it takes no calls
	Inbound  string // address to take calls for the workload; "127.0.0.1:0" when empty
	Outbound string // address where the workload calls others; "127.0.0.1:0" when empty
	// Ports are addresses where the workload calls one service each, by its
	// name: for clients that cannot name a host, and for services that speak TCP.
	Ports map[string]string

	State   string // file in which what the proxy knows is kept, for a start without the service; empty: none
	TLSDir  string // directory from which the names of TLS files count; the working directory when empty
	Program string // version of this program
	// Caller is the name by which calls are counted when there is no Service.
	Caller string
	// LogShare of the requests, 0 to 1, are written to LogTo as lines of JSON.
	// With LogTrouble all that did not succeed are.
	LogShare   float64
	LogTrouble bool
	LogTo      io.Writer
	Metrics    string    // host:port for /metrics, /healthz and /readyz; empty: none
	Before     *Handover // what the process before hands over; nil: this is the first
	// Snapshots, when set, are what the proxy follows in place of a service, which
	// hears nothing of it then: neither that it is there nor what it counts.
	Snapshots <-chan wire.Snapshot
	Log       *slog.Logger
	Drain     time.Duration // how long requests may take to finish at the end; 5s when 0
}

// Proxy is a running proxy. Make one with New, then call Run.
type Proxy struct {
	cfg       Config
	log       *slog.Logger
	epoch     time.Time
	nonce     string
	started   time.Time
	force     atomic.Pointer[inForce]
	recorder  *recorder
	carrier   *carrier
	feed      *feed
	spans     *spans
	transport *transports
	racks     *racks
	inbound   *port
	outbound  *port
	services  []*port   // one for a service each
	watchers  *watchers // nil: there are none
	ready     chan struct{}
	readyOnce sync.Once
	handed    chan struct{} // closed when another process took over
	handOnce  sync.Once
	unkept    chan struct{}             // what is known is not on disk yet
	stale     atomic.Pointer[time.Time] // see StaleSince

	mu        sync.Mutex // guards what follows; never held by a request
	known     known
	rules     *rules.Rules // of known
	edge      *edge        // the gateway's port, once the rules name it
	certs     certs.Set
	leaving   bool                   // no new port is to be opened
	drillEnds map[string]time.Time   // of the drills that were heard of
	unwell    atomic.Pointer[string] // why the workload is; empty: it is not
	closing   sync.WaitGroup         // ports that were replaced
}

const (
	certificateTick = time.Second            // how often the files of certificates are looked at
	sweepTick       = 5 * time.Second        // how often kept connections are looked at
	freshTick       = 10 * time.Second       // how often the file of what is known is marked as up to date
	noService       = time.Second            // without news for so long at the start, what is kept on disk counts
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
		nonce: fmt.Sprintf("%016x", rand.Uint64()), recorder: newRecorder(8), ready: make(chan struct{}), handed: make(chan struct{}), unkept: make(chan struct{}, 1), rules: &rules.Rules{}}
	p.known.Server = cfg.Server
	p.log = p.log.With("proxy", cfg.ID)
	empty, err := engine.Compile(p.rules, nil, engine.Options{})
	if err != nil {
		return nil, err
	}
	p.force.Store(&inForce{table: empty})
	p.transport, p.racks = newTransports(), &racks{epoch: p.epoch}
	p.feed, p.spans = newFeed(), &spans{}
	p.carrier = &carrier{name: cfg.ID, caller: cmp.Or(cfg.Gateway, cfg.Service, cfg.Caller), callerVersion: cfg.Version, gateway: cfg.Gateway, site: cfg.Site, epoch: p.epoch,
		force: &p.force, recorder: p.recorder, mirrors: newMirrors(p.transport.http1), requests: newRequestLog(cfg.LogTo, cfg.LogShare, cfg.LogTrouble), feed: p.feed, spans: p.spans}
	p.carrier.callerValue = []string{p.carrier.caller}
	p.recorder.caller = p.carrier.caller
	var opened []*port
	open := func(name, address string, h handler, by *carrier) (*port, error) {
		l, err := cfg.Before.listen(name, cmp.Or(address, "127.0.0.1:0"))
		if err != nil {
			for _, o := range opened {
				o.listener.Close()
			}
			return nil, fmt.Errorf("listener %s: %w", name, err)
		}
		if name == "inbound" && l.Addr().(*net.TCPAddr).IP.IsUnspecified() {
			l.Close()
			err := fmt.Errorf("inbound %s says not where others reach the workload: name an address of this machine, such as 10.0.0.2:9301", address)
			for _, o := range opened {
				o.listener.Close()
			}
			return nil, err
		}
		o := p.port(name, l, h, by)
		opened = append(opened, o)
		return o, nil
	}
	if cfg.App != "" {
		in := &inbound{carrier: carrier{name: cfg.ID, epoch: p.epoch, spans: p.spans}, self: p.self(), app: &engine.Instance{ID: cfg.App, Address: cfg.App, Outside: true}, grpc: func() bool { return p.speaks() == "grpc" }}
		if p.inbound, err = open("inbound", cfg.Inbound, in, &in.carrier); err != nil {
			return nil, err
		}
		p.inbound.relay = func() func(*net.TCPConn) {
			if p.speaks() == "tcp" {
				return p.toApp
			}
			return nil
		}
	}
	if cfg.Gateway == "" {
		if p.outbound, err = open("outbound", cfg.Outbound, p.carrier, p.carrier); err != nil {
			return nil, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(cfg.Ports)) {
		c := *p.carrier
		c.service = name
		o, err := open(name, cfg.Ports[name], &c, &c)
		if err != nil {
			return nil, err
		}
		t := &tcp{carrier: p.carrier, service: name, port: o}
		o.relay = func() func(*net.TCPConn) {
			if p.force.Load().table.Protocol(name) == "tcp" {
				return t.relay
			}
			return nil
		}
		p.services = append(p.services, o)
	}
	if err := p.openWatchers(cfg.Metrics); err != nil {
		for _, o := range opened {
			o.listener.Close()
		}
		return nil, err
	}
	return p, nil
}

// port makes a port of this proxy on an open listener.
func (p *Proxy) port(name string, l net.Listener, h handler, by *carrier) *port {
	o := &port{name: name, listener: l, handler: h, by: by, racks: p.racks, recorder: p.recorder, log: p.log}
	o.open(p.transport)
	return o
}

// self is the instance beside this proxy, by its names.
func (p *Proxy) self() engine.Instance {
	return engine.Instance{ID: p.cfg.ID, Service: p.cfg.Service, Version: p.cfg.Version, Site: p.cfg.Site}
}

// speaks is the protocol of the workload.
func (p *Proxy) speaks() string { return p.force.Load().table.Protocol(p.cfg.Service) }

// Outbound is the address where the workload calls others; empty at a gateway
// whose rules have not come yet.
func (p *Proxy) Outbound() string {
	if p.outbound != nil {
		return p.outbound.listener.Addr().String()
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
	return p.inbound.listener.Addr().String()
}

// Ports are the addresses where the workload calls one service each.
func (p *Proxy) Ports() map[string]string {
	out := map[string]string{}
	for _, o := range p.services {
		out[o.name] = o.listener.Addr().String()
	}
	return out
}

// Ready is closed when the first snapshot is in force.
func (p *Proxy) Ready() <-chan struct{} { return p.ready }

// Revision is the revision in force here.
func (p *Proxy) Revision() uint { return p.force.Load().revision }

// Run serves until ctx is done, then withdraws the instance and lets requests
// finish, for Config.Drain at most.
func (p *Proxy) Run(ctx context.Context) error {
	var ports []*port
	var running sync.WaitGroup
	failed := make(chan error, 2+len(p.services))
	start := func(o *port) {
		ports = append(ports, o)
		running.Go(func() {
			if err := o.serve(); err != nil {
				failed <- fmt.Errorf("listener %s: %w", o.name, err)
			}
		})
	}
	if p.inbound != nil {
		start(p.inbound)
	}
	defer p.carrier.mirrors.end()
	talk, hush := context.WithCancel(context.WithoutCancel(ctx))
	defer hush()
	if p.cfg.Gateway != "" {
		running.Go(func() { p.watchCertificates(talk) })
	}
	running.Go(func() { every(talk, sweepTick, func() { p.racks.sweep(p.carrier.now(), keptIdle) }) })
	session := newSession(p)
	alone := p.cfg.Snapshots != nil
	if alone {
		running.Go(func() { p.follow(talk) })
	} else {
		running.Go(func() { session.run(talk) })
	}
	if p.watchers != nil {
		running.Go(func() { p.watchers.run(talk) })
	}
	if p.cfg.LogTo != nil {
		running.Go(func() { p.carrier.requests.run(talk, p.cfg.LogTo) })
	}
	checks := &checks{p: p, changed: session.hasten}
	running.Go(func() { checks.run(talk) })
	if p.cfg.State != "" {
		running.Go(func() { p.keepKnown(talk) })
		early := time.AfterFunc(noService, p.recall)
		defer early.Stop()
	}

	// Callers that come before the rules wait in the listener's queue for a
	// while; after that they are refused with a reason.
	patience := time.NewTimer(firstRules)
	defer patience.Stop()
	calls := p.services
	if p.outbound != nil {
		calls = append(calls, p.outbound)
	}
	var err error
	select {
	case <-p.ready:
	case <-patience.C:
	case <-ctx.Done():
	case err = <-failed:
	}
	if err == nil && ctx.Err() == nil {
		for _, o := range calls {
			start(o)
		}
		select {
		case <-ctx.Done():
		case <-p.handed:
		case err = <-failed:
		}
	} else {
		for _, o := range calls {
			o.listener.Close()
		}
	}
	p.mu.Lock()
	p.leaving = true
	if p.edge != nil {
		ports = append(ports, p.edge.port)
	}
	p.mu.Unlock()
	grace := time.Duration(0)
	select {
	case <-p.handed:
		session.retire()
		grace = min(time.Second, p.cfg.Drain/2)
	default:
		if alone {
			break
		}
		if session.withdraw() && p.inbound != nil {
			<-time.After(min(hearsay, p.cfg.Drain/2)) // until no other proxy sends here any more
		}
	}
	for _, o := range ports {
		p.closing.Go(func() { o.drain(grace, p.cfg.Drain) })
	}
	p.closing.Wait()
	if !alone {
		session.collect()
		session.flush()
	}
	hush()
	running.Wait()
	p.transport.closeIdle()
	p.racks.closeIdle()
	return err
}

func (p *Proxy) registration() wire.Registration {
	r := wire.Registration{ID: p.cfg.ID, Nonce: p.nonce, Service: p.cfg.Service, Version: p.cfg.Version, Site: p.cfg.Site, Gateway: p.cfg.Gateway,
		Inbound: p.Inbound(), Outbound: p.Outbound(), Program: p.cfg.Program, PID: os.Getpid(), Started: p.started, Vitals: p.vitals()}
	if len(p.services) > 0 {
		r.Ports = p.Ports()
	}
	if p.cfg.Before != nil {
		r.Takes = p.cfg.Before.Nonce
	}
	return r
}

// vitals is how the proxy is doing.
func (p *Proxy) vitals() wire.Vitals {
	v := wire.Vitals{Memory: residentMemory()}
	if why := p.unwell.Load(); why != nil {
		v.Down = *why
	}
	for _, o := range p.ports() {
		v.Connections += o.connections()
	}
	return v
}
