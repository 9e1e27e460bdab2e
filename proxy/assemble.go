package proxy

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/metrics"
	"nightjar/proxy/carry"
	"nightjar/proxy/follow"
	"nightjar/proxy/forward"
	"nightjar/proxy/health"
	"nightjar/proxy/observe"
	"nightjar/proxy/process"
)

// assemble makes the parts that need no address.
func (p *Proxy) assemble() {
	cfg := &p.cfg
	if p.shown = cfg.Credentials; p.shown == nil {
		p.shown = &identity.Credentials{}
	}
	caller := cmp.Or(cfg.Gateway, cfg.Service, cfg.Caller)
	if cfg.Crossing != "" {
		caller = p.identity().Name.String()
	}
	p.recorder = observe.NewRecorder(shards, caller)
	p.observer = &observe.Observer{
		Proxy:         cfg.ID,
		Caller:        caller,
		CallerVersion: cfg.Version,
		Site:          cfg.Site,
		IsGateway:     cfg.Gateway != "",
		Epoch:         p.epoch,
		Identities:    p.identitiesTo,
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
		IsAlone: cfg.Snapshots != nil,
		Prepare: p.prepare,
		Adopted: p.adopted,
	})
	p.assembleCarriers(caller)
	p.assembleSession()
	now := func() time.Duration { return time.Since(p.epoch) }
	p.reach = &health.Reach{Table: p.follower.Table.Load, Now: now, Try: p.pools.Try}
	p.checks = &health.Checks{
		Service: cfg.Service,
		App:     cfg.App,
		Table:   p.follower.Table.Load,
		Now:     now,
		To:      p.transport.To,
		Dial:    p.outside.Dial,
		Log:     p.log,
		Changed: p.session.Hasten,
	}
	p.checks.Addressed = carry.Addressed
}

// assembleCarriers makes what requests pass through.
func (p *Proxy) assembleCarriers(caller string) {
	cfg := &p.cfg
	p.transport, p.pools = carry.NewTransports(p.shown), &carry.Pools{Epoch: p.epoch, Shown: p.shown, Log: p.log}
	p.outside.Dir = cfg.TLSDir
	p.transport.Outside, p.pools.Outside = &p.outside, &p.outside
	most, ofOne := carry.MaxCallers(), 0
	if cfg.Crossing != "" {
		most /= 2 // each has one to its instance
	}
	if cfg.Gateway != "" || cfg.Crossing != "" { // where outsiders come, one of them is not to take the place of all
		ofOne = max(most/2, 1)
	}
	p.callers = carry.NewCallers(most, ofOne, p.epoch)
	p.tokens.Dir = cfg.TLSDir
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
		Undeclared: func(host string) {
			p.undeclaredAll.Add(1)
			p.undeclared.Add(strings.ToLower(strings.Clone(host[:min(len(host), maxHost)]))) // which is good during the call alone
		},
		Table: &p.follower.Table,
		Edge:  &p.edge,
		Key:   p.follower.Key,
	}, p.transport)
}

// assembleSession makes what keeps in touch with the service.
func (p *Proxy) assembleSession() {
	cfg := &p.cfg
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
		Offered:       p.offered,
		Taken:         func(err error) { p.ends <- err },
	}, p.follower)
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
			IsHTTP2: func() bool { return rules.SpeaksHTTP2(p.speaks(cfg.Service)) },
			Table:   &p.follower.Table,
			Port:    portOf(cfg.App),
			Watched: p.watch,
			Identity: &carry.Identity{
				Credentials: p.shown,
				Mode:        func() string { return p.follower.Table.Load().Identity(cfg.Service) },
				Handshakes:  &p.handshakes,
				Unproven:    p.unproven.Add,
			},
		}
		p.inbound, p.beside = p.listen("inbound", l, in), in
		p.inbound.RelayToApp(in, func() bool { return p.speaks(cfg.Service) == "tcp" })
	}
	if cfg.Crossing != "" {
		if err := p.openCrossing(); err != nil {
			return err
		}
		return p.openStatus()
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
			HTTP2:     &p.pools.HTTP2,
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
	return append(append(p.identityGauges(), p.crossingGauges()...), []metrics.Value{
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
			Name: "nightjar_http2_held_bytes",
			Unit: "bytes",
			Help: "Bytes of bodies that came by HTTP/2 and that nobody takes yet.",
			Read: func() float64 { return float64(p.pools.HTTP2.Held()) },
		}, {
			Name:    "nightjar_undeclared_requests_total",
			Help:    "Requests of the workload to hosts that no rule declares, which were refused.",
			Counter: true,
			Read:    func() float64 { return float64(p.undeclaredAll.Load()) },
		}, {
			Name:    "nightjar_http2_flooding_connections_total",
			Help:    "Connections of HTTP/2 that were ended, because their peers asked for too much.",
			Counter: true,
			Read:    func() float64 { return float64(p.pools.HTTP2.Flooding()) },
		}, {
			Name:    "nightjar_http2_broken_connections_total",
			Help:    "Connections of HTTP/2 that were ended, because their peers broke the protocol.",
			Counter: true,
			Read:    func() float64 { return float64(p.pools.HTTP2.Broken()) },
		}, {
			Name:    "nightjar_http2_refused_streams_total",
			Help:    "Streams of HTTP/2 that were refused, because there were too many at once.",
			Counter: true,
			Read:    func() float64 { return float64(p.pools.HTTP2.Refused()) },
		}, {
			Name:    "nightjar_http2_large_headers_total",
			Help:    "Header lists of HTTP/2 that were over the limit.",
			Counter: true,
			Read:    func() float64 { return float64(p.pools.HTTP2.TooLarge()) },
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
