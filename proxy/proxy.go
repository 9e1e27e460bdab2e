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
	"math/rand/v2"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/certs"
	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/proxy/carry"
	"nightjar/proxy/edge"
	"nightjar/proxy/follow"
	"nightjar/proxy/health"
	"nightjar/proxy/observe"
	"nightjar/proxy/outside"
	"nightjar/proxy/process"
	"nightjar/wire"
)

// Config of a proxy. Either Service and Version are set, beside a workload, or
// Gateway, or Crossing, or none: a proxy that only makes calls.
type Config struct {
	ID      string // unique name; also the name of the instance beside it
	Server  string // URL of the service, https://HOST:PORT
	Service string
	Version string
	Site    string
	Gateway string // name of the gateway to serve
	// Crossing is the site to whose instances it carries what comes from others; Site is the
	// same then.
	Crossing string

	App      string // host:port of the workload; empty: it takes no calls
	Inbound  string // address to take calls for the workload, or for a site; "127.0.0.1:0" when empty
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
	// Start is how the program of this process was started; nil: it cannot be started again.
	Start *Start
	// Snapshots, when set, are what the proxy follows in place of a service, which
	// hears nothing of it then: neither that it is there nor what it counts.
	Snapshots <-chan wire.Snapshot
	Log       *slog.Logger
	Drain     time.Duration // how long requests may take to finish at the end; 5s when 0
}

// Start is how a program was started.
type Start struct {
	Program string   // file
	Args    []string // the first is its name
	// Programs is the directory for programs that the service offers; empty: none is taken.
	Programs string
}

// Proxy is a running proxy. Make one with New, then call Run.
type Proxy struct {
	cfg           Config
	log           *slog.Logger
	epoch         time.Time
	nonce         string
	recorder      *observe.Recorder
	observer      *observe.Observer
	follower      *follow.Follower
	shown         *identity.Credentials // to other proxies
	handshakes    carry.Handshakes
	watched       observe.Tally[wire.Watched]
	unproven      observe.Tally[string] // by IP address
	undeclared    observe.Tally[string] // requests to hosts that nothing declares, by host
	undeclaredAll atomic.Uint64
	undeclaredAt  time.Time // when they were last told of; see news
	member        *follow.Membership
	session       *follow.Session
	checks        *health.Checks
	reach         *health.Reach
	router        *carry.Router
	transport     *carry.Transports
	pools         *carry.Pools
	callers       *carry.Callers
	inbound       *carry.Listener
	beside        *carry.Inbound // nil: no workload
	outbound      *carry.Listener
	services      []*carry.Listener // one for a service each
	crossing      *crossing         // nil: it is none
	upgrade       upgrade
	status        *process.Status // nil: there is none
	handed        chan struct{}   // closed when another process took over
	ends          chan error      // why the proxy cannot go on
	handOnce      sync.Once

	mu            sync.Mutex // guards what follows; never held by a request
	gateway       *gateway   // once the rules name it
	isLeaving     bool       // no new listener is to be opened
	isHandingOver bool       // nor while another process is given those that there are
	current       problems
	leastRate     atomic.Uint64 // bits of rules.Gateway.LeastRate
	edge          atomic.Pointer[edge.Edge]
	tokens        edge.Keeper // of the gateway
	outside       outside.Dialer
	certs         certs.Set
	closing       sync.WaitGroup // listeners that were replaced
}

const (
	certificateTick = time.Second     // how often the files of certificates are looked at
	sweepTick       = 5 * time.Second // how often kept connections are looked at
	noService       = time.Second     // without news for so long at the start, what is kept on disk counts
	firstRules      = 5 * time.Second // how long early callers wait for the first rules

	// How long it takes until every proxy follows that an instance was withdrawn, when it is
	// sent to them.
	withdrawPropagation = 200 * time.Millisecond

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

		watched:    observe.Tally[wire.Watched]{Most: maxWatched, Other: wire.Watched{From: wire.Other}},
		unproven:   observe.Tally[string]{Most: maxUnproven, Other: wire.Other},
		undeclared: observe.Tally[string]{Most: maxUndeclared, Other: wire.Other},
	}
	p.assemble()
	if err := p.openListeners(); err != nil {
		for _, o := range p.listeners() {
			o.Listener.Close()
		}
		if p.crossing != nil {
			p.crossing.Listener.Close()
		}
		return nil, err
	}
	return p, nil
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
		Crossing: p.cfg.Crossing,
		Listens:  p.Crossing(),
		Inbound:  p.Inbound(),
		Outbound: p.Outbound(),
		Program:  p.cfg.Program,
		PID:      os.Getpid(),
		Started:  p.epoch,
		Vitals:   p.vitals(),
	}
	p.describe(&r)
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
	v := wire.Vitals{Memory: process.ResidentMemory(), Down: p.checks.Down(), Problems: p.problems(), Carried: p.carried()}
	for _, o := range p.listeners() {
		v.Connections += o.Connections()
	}
	if p.crossing != nil {
		v.Connections += p.crossing.Connections()
	}
	return v
}

// HandOver starts the program of this process again, as it is now at its path, and hands it
// the listeners. When it has rules in force, Run drains this proxy and returns. Until then,
// and after an error, this proxy goes on as ever. When ctx is done first, the program is
// stopped.
func (p *Proxy) HandOver(ctx context.Context) (pid int, err error) {
	if p.cfg.Start == nil {
		return 0, errors.New("the program to start is not known")
	}
	return p.handOver(ctx, process.Program{Path: p.cfg.Start.Program}, nil)
}

// handOver starts a program. before is what it can go back to; nil: there is none.
func (p *Proxy) handOver(ctx context.Context, program process.Program, before *process.Program) (pid int, err error) {
	if !p.upgrade.handing.TryLock() {
		return 0, errors.New("the listeners are being handed over already")
	}
	defer p.upgrade.handing.Unlock()
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
	if p.crossing != nil {
		listeners["crossing"] = p.crossing.Listener
	}
	if p.status != nil {
		listeners["metrics"] = p.status.Listener
	}
	if pid, err = process.HandOver(ctx, p.cfg.ID, p.nonce, listeners, program, before, p.cfg.Start.Args); err != nil {
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
