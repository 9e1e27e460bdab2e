package standin

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/examples"
	"nightjar/proxy"
	"nightjar/service"
)

// Mesh is the sample mesh as it runs beside a service, in the same process but
// over real sockets: a stand-in and a proxy for every instance, and the gateway.
type Mesh struct {
	Gateway string // host:port of the gateway front-door
	Outside string // host:port of the harbour office
	Program string
	Log     *slog.Logger
	Drain   time.Duration
}

// GatewayName and Host are the sample's gateway and the host that it serves.
const (
	GatewayName = "front-door"
	Host        = "tickets.ferry.example"
)

// Ports are the addresses of gateway and harbour office beside a service at
// addr: 80 and 90 ports further.
func Ports(addr string) (gateway, outside string, err error) {
	host, port, err := net.SplitHostPort(addr)
	n, perr := strconv.Atoi(port)
	if err != nil || perr != nil || n < 1 || n+90 > 65535 {
		return "", "", fmt.Errorf(
			"--listen %q: write HOST:PORT with a port from 1 to 65445; the sample's gateway listens 80 ports further",
			addr,
		)
	}
	return net.JoinHostPort(host, strconv.Itoa(n+80)), net.JoinHostPort(host, strconv.Itoa(n+90)), nil
}

// Rules is the sample's rule file, with the addresses of this mesh.
func (m Mesh) Rules() []rules.File {
	text := strings.NewReplacer("127.0.0.1:7680", m.Gateway, "127.0.0.1:7690", m.Outside).Replace(examples.FerryRules)
	return []rules.File{{Name: examples.FerryName, Text: text}}
}

// Run starts the mesh beside a service, publishes its rules when nothing is in force
// yet, calls started, and runs until ctx is done. Everything that it started has ended
// when it returns.
func (m Mesh) Run(ctx context.Context, s *service.Service, started func(context.Context)) error {
	if err := m.checkAddresses(); err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	r := &running{mesh: m, service: s, ctx: ctx, failed: make(chan error, 1)}
	defer func() {
		end()
		r.proxies.Wait() // first: they let requests finish
		for _, stop := range r.stops {
			stop()
		}
	}()
	if err := r.startInstances(s); err != nil {
		return err
	}
	edge := proxy.Config{ID: GatewayName + "-a", Gateway: GatewayName, Site: "north-quay"}
	if _, err := r.startProxy(edge); err != nil {
		return err
	}
	if err := r.awaitReady(); err != nil || ctx.Err() != nil {
		return err
	}
	if err := m.publish(ctx, s.Control().Revisions); err != nil {
		return err
	}
	r.proxies.Go(func() { started(ctx) })
	select {
	case <-ctx.Done():
		return nil
	case err := <-r.failed:
		return err
	}
}

// checkAddresses tells whether the addresses that the mesh needs are free.
func (m Mesh) checkAddresses() error {
	for _, address := range []string{m.Gateway, m.Outside} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return fmt.Errorf("the sample needs %s, which is in use: free it, or choose other ports with --addr (%w)",
				address, err)
		}
		l.Close()
	}
	return nil
}

// running is a mesh that runs.
type running struct {
	mesh    Mesh
	service *service.Service
	ctx     context.Context
	proxies sync.WaitGroup
	all     []*proxy.Proxy
	stops   []func()   // of the workloads
	failed  chan error // the first failure of a part
}

func (r *running) fail(err error) {
	select {
	case r.failed <- err:
	default:
	}
}

// startInstances starts the workloads and the proxies beside them.
func (r *running) startInstances(s *service.Service) error {
	group := &Group{journal: s.Control().Journal}
	for _, in := range Ferry() {
		address := "127.0.0.1:0"
		if in.Outside {
			address = r.mesh.Outside
		}
		l, err := net.Listen("tcp", address)
		if err != nil {
			return fmt.Errorf("stand-in %s: %w", in.ID, err)
		}
		outbound := "" // an outside service calls nobody
		if !in.Outside {
			cfg := proxy.Config{
				ID:      in.ID,
				Service: in.Service,
				Version: in.Version,
				Site:    in.Site,
				App:     l.Addr().String(),
			}
			p, err := r.startProxy(cfg)
			if err != nil {
				l.Close()
				return err
			}
			outbound = p.Outbound()
		}
		one := New(in.Service, in.Version, in.ID, in.Site, outbound, in.Profile)
		group.all = append(group.all, one)
		r.serve(l, one)
	}
	s.SetStandIns(group)
	return nil
}

// serve serves a workload until the mesh ends.
func (r *running) serve(l net.Listener, h http.Handler) {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			r.fail(err)
		}
	}()
	r.stops = append(r.stops, func() { s.Close(); <-done })
}

// startProxy starts a proxy, which ends with the mesh.
func (r *running) startProxy(cfg proxy.Config) (*proxy.Proxy, error) {
	m := r.mesh
	token, err := r.service.Join()
	if err != nil {
		return nil, err
	}
	cfg.Server, cfg.Join, cfg.Program, cfg.Log, cfg.Drain = token.Server, r.service.Join, m.Program, m.Log, m.Drain
	p, err := proxy.New(cfg)
	if err != nil {
		return nil, err
	}
	r.all = append(r.all, p)
	r.proxies.Go(func() {
		if err := p.Run(r.ctx); err != nil {
			r.fail(fmt.Errorf("proxy %s: %w", cfg.ID, err))
		}
	})
	return p, nil
}

// awaitReady waits until every proxy has rules in force, or the mesh ends.
func (r *running) awaitReady() error {
	late := time.After(30 * time.Second)
	for _, p := range r.all {
		select {
		case <-p.Ready():
		case <-late:
			return errors.New("a proxy of the sample has no rules in force after 30 s: its reason is logged above")
		case <-r.ctx.Done():
			return nil
		case err := <-r.failed:
			return err
		}
	}
	return nil
}

// publish publishes the rules of the sample when nothing is in force yet.
func (m Mesh) publish(ctx context.Context, r *revisions.Revisions) error {
	if r.Current().Revision.Number > 0 {
		return nil
	}
	out, err := r.Publish(ctx, revisions.Publication{
		Bundle:  model.MainBundle,
		Files:   m.Rules(),
		Author:  "demo",
		Message: "the night ferry line",
		Wait:    5 * time.Second,
	})
	if err != nil {
		return fmt.Errorf("publishing the sample rules: %w", err)
	}
	if missing := out.Rollout.Missing; len(missing) > 0 && ctx.Err() == nil {
		return fmt.Errorf(
			"the sample rules are not in force in %s: free that address, or choose another one with --addr",
			strings.Join(missing, ", "),
		)
	}
	return nil
}
