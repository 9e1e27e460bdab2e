// Package proxy is the data plane: one proxy beside each workload instance and
// one at each edge. This package puts a proxy together of its parts: carry sees
// requests through, by the policy of forward; follow keeps it in step with the
// service; observe counts and records; health asks workloads how they are; process
// is about the process.
package proxy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/certs"
	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/metrics"
	"nightjar/proxy/carry"
	"nightjar/proxy/follow"
	"nightjar/proxy/forward"
	"nightjar/proxy/health"
	"nightjar/proxy/observe"
	"nightjar/proxy/process"
	"nightjar/wire"
)

// Config of a proxy. Either Service and Version are set, beside a workload, or
// Gateway, or neither: a proxy that only makes calls.
type Config struct {
	ID      string // unique name; also the name of the instance beside it
	Server  string // URL of the service, https://HOST:PORT
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

	// Join is what the proxy joins the mesh with, read anew for each attempt. Key is the
	// file in which its key and certificate are kept; empty: it joins at each start.
	Join func() (identity.Token, error)
	Key  string
	// Credentials, in place of Join, are looked after elsewhere in this process.
	Credentials *identity.Credentials

	State   string // file in which what the proxy knows is kept, for a start without the service; empty: none
	TLSDir  string // directory from which the names of TLS files count; the working directory when empty
	Program string // version of this program
	// Caller is the name by which calls are counted when there is no Service.
	Caller string
	// LogShare of the requests, 0 to 1, are written to LogTo as lines of JSON.
	// With LogFailures all that did not succeed are.
	LogShare    float64
	LogFailures bool
	LogTo       io.Writer
	Metrics     string            // host:port for /metrics, /healthz and /readyz; empty: none
	Before      *process.Handover // what the process before hands over; nil: this is the first
	// Snapshots, when set, are what the proxy follows in place of a service, which
	// hears nothing of it then: neither that it is there nor what it counts.
	Snapshots <-chan wire.Snapshot
	Log       *slog.Logger
	Drain     time.Duration // how long requests may take to finish at the end; 5s when 0
}

// Proxy is a running proxy. Make one with New, then call Run.
type Proxy struct {
	cfg        Config
	log        *slog.Logger
	epoch      time.Time
	nonce      string
	recorder   *observe.Recorder
	observer   *observe.Observer
	follower   *follow.Follower
	shown      *identity.Credentials // to other proxies
	handshakes carry.Handshakes
	watched    watched
	member     *follow.Membership
	session    *follow.Session
	checks     *health.Checks
	reach      *health.Reach
	router     *carry.Router
	transport  *carry.Transports
	pools      *carry.Pools
	callers    *carry.Callers
	inbound    *carry.Listener
	beside     *carry.Inbound // nil: no workload
	outbound   *carry.Listener
	services   []*carry.Listener // one for a service each
	status     *process.Status   // nil: there is none
	handed     chan struct{}     // closed when another process took over
	ends       chan error        // why the proxy cannot go on
	handOnce   sync.Once

	mu            sync.Mutex // guards what follows; never held by a request
	gateway       *gateway   // once the rules name it
	isLeaving     bool       // no new listener is to be opened
	isHandingOver bool       // nor while another process is given those that there are
	current       problems
	leastRate     atomic.Uint64 // bits of rules.Gateway.LeastRate
	certs         certs.Set
	closing       sync.WaitGroup // listeners that were replaced
}

const (
	certificateTick = time.Second     // how often the files of certificates are looked at
	sweepTick       = 5 * time.Second // how often kept connections are looked at
	noService       = time.Second     // without news for so long at the start, what is kept on disk counts
	firstRules      = 5 * time.Second // how long early callers wait for the first rules

	// How long it takes until every proxy knows that an instance was withdrawn.
	withdrawPropagation = 250 * time.Millisecond

	shards = 8 // of what is counted: more than the processors of most machines that run one proxy
)

// New opens the listeners of a proxy, so that their addresses are known.
func New(cfg Config) (*Proxy, error) {
	if cfg.Gateway == "" && cfg.App != "" && (cfg.Service == "" || cfg.Version == "") {
		return nil, errors.New("a proxy beside a workload needs the workload's service and version")
	}
	if cfg.Drain == 0 {
		cfg.Drain = 5 * time.Second
	}
	p := &Proxy{
		cfg:    cfg,
		log:    cmp.Or(cfg.Log, slog.New(slog.DiscardHandler)).With("proxy", cfg.ID),
		epoch:  time.Now(),
		nonce:  fmt.Sprintf("%016x", rand.Uint64()),
		handed: make(chan struct{}),
		ends:   make(chan error, 1),
	}
	p.assemble()
	if err := p.openListeners(); err != nil {
		for _, o := range p.listeners() {
			o.Listener.Close()
		}
		return nil, err
	}
	return p, nil
}

// assemble makes the parts that need no address.
func (p *Proxy) assemble() {
	cfg := &p.cfg
	if p.shown = cfg.Credentials; p.shown == nil {
		p.shown = &identity.Credentials{}
	}
	caller := cmp.Or(cfg.Gateway, cfg.Service, cfg.Caller)
	p.recorder = observe.NewRecorder(shards, caller)
	p.observer = &observe.Observer{
		Proxy:         cfg.ID,
		Caller:        caller,
		CallerVersion: cfg.Version,
		IsGateway:     cfg.Gateway != "",
		Epoch:         p.epoch,
		Log:           observe.NewRequestLog(cfg.LogTo, cfg.LogShare, cfg.LogFailures),
		Feed:          observe.NewFeed(),
		Spans:         &observe.Spans{},
	}
	p.follower = follow.New(follow.Config{
		Server:  cfg.Server,
		Site:    cfg.Site,
		Caller:  caller,
		State:   cfg.State,
		Epoch:   p.epoch,
		Log:     p.log,
		Feed:    p.observer.Feed,
		Spans:   p.observer.Spans,
		Self:    p.self,
		Adopted: p.openGateway,
	})
	p.transport, p.pools = carry.NewTransports(p.shown), &carry.Pools{Epoch: p.epoch, Shown: p.shown}
	most, ofOne := carry.MaxCallers(), 0
	if cfg.Gateway != "" { // where outsiders come, one of them is not to take the place of all
		ofOne = max(most/2, 1)
	}
	p.callers = carry.NewCallers(most, ofOne, p.epoch)
	party := engine.NewParty(caller, cfg.Gateway != "", cfg.Site)
	party.IsNode = cfg.Credentials != nil && cfg.Service == "" && cfg.Gateway == "" && isNode(cfg.Credentials)
	p.router = carry.NewRouter(carry.Router{
		Source: carry.Source{
			Proxy:   cfg.ID,
			Hop:     forward.Hop{Caller: caller, IsGateway: cfg.Gateway != ""},
			Site:    cfg.Site,
			Epoch:   p.epoch,
			Observe: p.observer,
			Party:   party,
		},
		Gateway: cfg.Gateway,
		Table:   &p.follower.Table,
		Key:     p.follower.Key,
	}, p.transport)
	p.member = follow.NewMembership(follow.MembershipConfig{
		Member: p.identity(),
		Server: cfg.Server,
		Token:  cfg.Join,
		File:   cfg.Key,
		Shown:  p.shown,
		Log:    p.log,
	})
	p.session = follow.NewSession(follow.SessionConfig{
		ID:            cfg.ID,
		Nonce:         p.nonce,
		Server:        cfg.Server,
		Membership:    p.member,
		CallerVersion: cfg.Version,
		Log:           p.log,
		Recorder:      p.recorder,
		Registration:  p.registration,
		Problems:      p.problems,
		Outbound:      p.Outbound,
		Self:          p.self(),
		News:          p.news,
		Taken:         func(err error) { p.ends <- err },
	}, p.follower)
	now := func() time.Duration { return time.Since(p.epoch) }
	p.reach = &health.Reach{Table: p.follower.Table.Load, Now: now}
	p.checks = &health.Checks{
		Service: cfg.Service,
		App:     cfg.App,
		Table:   p.follower.Table.Load,
		Now:     now,
		For:     p.transport.For,
		Log:     p.log,
		Changed: p.session.Hasten,
	}
}

// openListeners opens all listeners but that of the gateway, which the rules name.
func (p *Proxy) openListeners() (err error) {
	cfg := &p.cfg
	if cfg.App != "" {
		l, err := p.open("inbound", cfg.Inbound)
		if err != nil {
			return err
		}
		if l.Addr().(*net.TCPAddr).IP.IsUnspecified() {
			l.Close()
			return fmt.Errorf(
				"inbound %s does not say where others reach the workload: name an address of this machine, "+
					"such as 10.0.0.2:9301",
				cfg.Inbound,
			)
		}
		in := &carry.Inbound{
			Source:  carry.Source{Proxy: cfg.ID, Epoch: p.epoch, Observe: p.observer},
			Self:    p.self(),
			App:     &engine.Instance{ID: cfg.App, Address: cfg.App, Outside: true},
			IsHTTP2: func() bool { return p.speaks(cfg.Service) == "grpc" },
			Table:   &p.follower.Table,
			Port:    portOf(cfg.App),
			Watched: p.watched.note,
			Identity: &carry.Identity{
				Credentials: p.shown,
				Mode:        func() string { return p.follower.Table.Load().Identity(cfg.Service) },
				Handshakes:  &p.handshakes,
			},
		}
		p.inbound, p.beside = p.listen("inbound", l, in), in
		p.inbound.RelayToApp(in, func() bool { return p.speaks(cfg.Service) == "tcp" })
	}
	if cfg.Gateway == "" {
		l, err := p.open("outbound", cfg.Outbound)
		if err != nil {
			return err
		}
		p.outbound = p.listen("outbound", l, p.router)
	}
	for _, name := range slices.Sorted(maps.Keys(cfg.Ports)) {
		l, err := p.open(name, cfg.Ports[name])
		if err != nil {
			return err
		}
		router := p.router.For(name)
		o := p.listen(name, l, router)
		o.RelayTo(router, func() bool { return p.speaks(name) == "tcp" })
		p.services = append(p.services, o)
	}
	return p.openStatus()
}

// open opens a listener, or takes over that of the process before.
func (p *Proxy) open(name, address string) (net.Listener, error) {
	l, err := p.cfg.Before.Listen(name, cmp.Or(address, "127.0.0.1:0"))
	if err != nil {
		return nil, fmt.Errorf("listener %s: %w", name, err)
	}
	return l, nil
}

// listen makes a listener whose requests go to a Router or an Inbound.
func (p *Proxy) listen(name string, l net.Listener, h carry.Handler) *carry.Listener {
	return carry.Open(
		carry.Config{
			Name:      name,
			Listener:  l,
			Pools:     p.pools,
			Transport: p.transport,
			Recorder:  p.recorder,
			Log:       p.log,
			Callers:   p.callers,
			LeastRate: func() float64 { return math.Float64frombits(p.leastRate.Load()) },
		},
		h,
	)
}

// openStatus opens the listener for those who look after the proxy, if one is
// wanted.
func (p *Proxy) openStatus() error {
	if p.cfg.Metrics == "" {
		return nil
	}
	l, err := p.open("metrics", p.cfg.Metrics)
	if err != nil {
		return err
	}
	totals := &metrics.Totals{}
	p.recorder.SetTotals(totals)
	p.status = process.NewStatus(l, metrics.Handler(totals, p.cfg.Program, p.gauges()...), p.follower.Ready())
	return nil
}

// gauges are the figures of /metrics beside those of requests.
func (p *Proxy) gauges() []metrics.Value {
	return append(p.identityGauges(), []metrics.Value{
		{
			Name: "nightjar_revision",
			Help: "Number of the revision in force in this proxy.",
			Read: func() float64 { return float64(p.Revision()) },
		}, {
			Name: "nightjar_proxy_connections",
			Help: "Open connections of callers.",
			Read: func() float64 { return float64(p.vitals().Connections) },
		}, {
			Name: "nightjar_proxy_stale_seconds",
			Unit: "seconds",
			Help: "Time since the connection to the service was lost; 0 while it is there.",
			Read: func() float64 {
				if at := p.StaleSince(); !at.IsZero() {
					return time.Since(at).Seconds()
				}
				return 0
			},
		}, {
			Name:    "nightjar_log_lines_dropped_total",
			Help:    "Lines of the request log that were dropped, because they were not read in time.",
			Counter: true,
			Read:    func() float64 { return float64(p.observer.Log.Lost()) },
		}, {
			Name:    "nightjar_other_requests_total",
			Help:    "Requests that were counted as other, because there were too many names.",
			Counter: true,
			Read:    func() float64 { return float64(p.recorder.Others()) },
		},
	}...)
}

// self is the instance beside this proxy, by its names and where it listens.
func (p *Proxy) self() engine.Instance {
	return engine.Instance{
		ID:      p.cfg.ID,
		Service: p.cfg.Service,
		Version: p.cfg.Version,
		Site:    p.cfg.Site,
		Address: p.Inbound(),
		Member:  true,
	}
}

// identity is who this proxy is; the trust domain is the service's.
func (p *Proxy) identity() identity.Member {
	name := identity.Name{Kind: identity.Service, Name: cmp.Or(p.cfg.Service, p.cfg.Caller)}
	if p.cfg.Gateway != "" {
		name = identity.Name{Kind: identity.Gateway, Name: p.cfg.Gateway}
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

// portOf is the port of host:port; 0: it has none.
func portOf(address string) int {
	_, text, err := net.SplitHostPort(address)
	if err != nil {
		return 0
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return 0
	}
	return port
}

// speaks is the protocol of a service.
func (p *Proxy) speaks(service string) string { return p.follower.Table.Load().Protocol(service) }

// Outbound is the address where the workload calls others; empty at a gateway
// whose rules have not come yet.
func (p *Proxy) Outbound() string {
	if p.outbound != nil {
		return p.outbound.Addr().String()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.gateway != nil {
		return p.gateway.Addr().String()
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

// Ports are the addresses where the workload calls one service each.
func (p *Proxy) Ports() map[string]string {
	out := map[string]string{}
	for _, o := range p.services {
		out[o.Name] = o.Addr().String()
	}
	return out
}

// Metrics is the address of /metrics; empty without one.
func (p *Proxy) Metrics() string {
	if p.status == nil {
		return ""
	}
	return p.status.Listener.Addr().String()
}

// Ready is closed when the first snapshot is in force.
func (p *Proxy) Ready() <-chan struct{} { return p.follower.Ready() }

// Revision is the revision in force here.
func (p *Proxy) Revision() uint { return p.follower.Revision() }

// StaleSince is when what the proxy follows was last known to be what the
// service wants; zero: it follows the service now, or has never followed it.
func (p *Proxy) StaleSince() time.Time { return p.follower.StaleSince() }

// listeners are those that are open now.
func (p *Proxy) listeners() []*carry.Listener {
	out := append([]*carry.Listener(nil), p.services...)
	for _, o := range []*carry.Listener{p.inbound, p.outbound} {
		if o != nil {
			out = append(out, o)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.gateway != nil {
		out = append(out, p.gateway.Listener)
	}
	return out
}

func (p *Proxy) registration() wire.Registration {
	r := wire.Registration{
		ID:       p.cfg.ID,
		Nonce:    p.nonce,
		Service:  p.cfg.Service,
		Version:  p.cfg.Version,
		Site:     p.cfg.Site,
		Gateway:  p.cfg.Gateway,
		Inbound:  p.Inbound(),
		Outbound: p.Outbound(),
		Program:  p.cfg.Program,
		PID:      os.Getpid(),
		Started:  p.epoch,
		Vitals:   p.vitals(),
	}
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
	v := wire.Vitals{Memory: process.ResidentMemory(), Down: p.checks.Down(), Problems: p.problems()}
	for _, o := range p.listeners() {
		v.Connections += o.Connections()
	}
	return v
}

// HandOver starts a program, with arguments of which the first is its name, and
// hands it the listeners. When the program has rules in force, Run drains this
// proxy and returns. Until then, and after an error, this proxy goes on as ever.
// When ctx is done first, the program is stopped.
func (p *Proxy) HandOver(ctx context.Context, program string, args []string) (pid int, err error) {
	p.setHandingOver(true)
	defer func() {
		if err != nil {
			p.setHandingOver(false)
			p.openGateway(p.follower.Rules())
		}
	}()
	listeners := map[string]net.Listener{}
	for _, o := range p.listeners() {
		listeners[o.Name] = o.Listener
	}
	if p.status != nil {
		listeners["metrics"] = p.status.Listener
	}
	if pid, err = process.HandOver(ctx, p.cfg.ID, p.nonce, listeners, program, args); err != nil {
		return 0, err
	}
	p.handOnce.Do(func() { close(p.handed) })
	return pid, nil
}

func (p *Proxy) setHandingOver(is bool) {
	p.mu.Lock()
	p.isHandingOver = is
	p.mu.Unlock()
}
