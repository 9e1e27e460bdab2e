// Package service puts the parts of the service together: records, control,
// API, console, and a proxy of its own for calls that people ask for.
package service

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"nightjar/api"
	"nightjar/console"
	"nightjar/control"
	"nightjar/proxy"
	"nightjar/store"
	"nightjar/traces"
)

// ProbeID is the name of the service's own proxy, and Caller the name under
// which its requests are counted.
const (
	ProbeID = "nightjar-probe"
	Caller  = "nightjar"
)

// Config of the service.
type Config struct {
	Addr    string  // host:port of API and console; the host is a loopback address
	Data    string  // directory of the records
	Proxies string  // host:port where proxies of other machines are let in, besides Addr; empty: none are
	Token   string  // that those proxies have to bring; at least 16 characters
	Program string  // version of this program
	Traced  float64 // share of the requests without a trace context that are traced, 0 to 1
	OTLP    string  // URL of a receiver of spans; empty: none
	Log     *slog.Logger
	Drain   time.Duration // how long requests may take to finish at the end
}

// Service is a service that listens and is not yet running.
type Service struct {
	cfg      Config
	listener net.Listener
	proxies  net.Listener // nil: proxies of this machine alone
	store    *store.Store
	control  *control.Control
}

// Open listens and opens the records.
func Open(ctx context.Context, cfg Config) (*Service, error) {
	host, _, err := net.SplitHostPort(cfg.Addr)
	if err != nil {
		return nil, fmt.Errorf("--addr %q: write HOST:PORT, such as 127.0.0.1:7600", cfg.Addr)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("--addr %s would let other machines in, and there is no sign-in yet: use 127.0.0.1, and a tunnel from elsewhere", cfg.Addr)
	}
	l, err := net.Listen("tcp", cfg.Addr)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is taken, perhaps by another Nightjar: stop it, or choose another address with --addr", cfg.Addr)
	}
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w", cfg.Addr, err)
	}
	var proxies net.Listener
	if cfg.Proxies != "" {
		if len(cfg.Token) < 16 {
			err = fmt.Errorf("--proxies lets other machines in, and needs a token of 16 characters or more: --token-file FILE")
		} else if proxies, err = net.Listen("tcp", cfg.Proxies); err != nil {
			err = fmt.Errorf("cannot listen on --proxies %s: %w", cfg.Proxies, err)
		}
		if err != nil {
			l.Close()
			return nil, err
		}
	}
	st, err := store.Open(cfg.Data)
	if err != nil {
		l.Close()
		return nil, err
	}
	c, err := control.New(ctx, st, cfg.Program)
	if err != nil {
		l.Close()
		st.Close()
		return nil, err
	}
	c.Log = cfg.Log
	if c.Key, err = noticeKey(filepath.Join(cfg.Data, "notify.key")); err != nil {
		l.Close()
		st.Close()
		return nil, err
	}
	c.Trace(cfg.Traced)
	if cfg.OTLP != "" {
		if c.Traces.Exporter, err = traces.NewExporter(cfg.OTLP, cfg.Log); err != nil {
			l.Close()
			st.Close()
			return nil, fmt.Errorf("--otlp: %w", err)
		}
	}
	c.Beside = beside(cfg)
	return &Service{cfg, l, proxies, st, c}, nil
}

// beside starts proxies of this process that no other knows of.
func beside(cfg Config) func(context.Context, control.Beside) (string, func(), error) {
	return func(ctx context.Context, b control.Beside) (string, func(), error) {
		p, err := proxy.New(proxy.Config{ID: ProbeID, Caller: b.Caller, Gateway: b.Gateway, Site: b.Site, Snapshots: b.Snapshots, Program: cfg.Program, Log: cfg.Log, Drain: time.Second})
		if err != nil {
			return "", nil, err
		}
		ended := make(chan error, 1)
		go func() { ended <- p.Run(ctx) }()
		wait := func() { <-ended }
		select {
		case <-p.Ready():
			return p.Outbound(), wait, nil
		case err := <-ended:
			return "", nil, errors.Join(err, ctx.Err())
		case <-time.After(5 * time.Second):
			return "", nil, errors.New("after 5 s it has no rules in force")
		}
	}
}

// URL is the address of API and console.
func (s *Service) URL() string { return "http://" + s.listener.Addr().String() }

// Control is the service's inner part.
func (s *Service) Control() *control.Control { return s.control }

// Run serves until ctx is done. within, when given, runs beside it with a
// context that ends first, so that what it starts can still reach the service
// while it ends.
func (s *Service) Run(ctx context.Context, within func(context.Context) error) error {
	defer s.store.Close()
	serving, endServing := context.WithCancel(context.WithoutCancel(ctx))
	defer endServing()
	inner, endInner := context.WithCancel(ctx)
	defer endInner()
	var outer sync.WaitGroup
	var serveErr, innerErr error
	server := api.New(s.control, console.Files(), s.cfg.Log)
	outer.Go(func() {
		serveErr = server.Serve(serving, s.listener, s.cfg.Drain)
		endInner()
	})
	if s.proxies != nil {
		outer.Go(func() {
			if err := server.ServeProxies(serving, s.proxies, s.cfg.Token, s.cfg.Drain); err != nil {
				s.cfg.Log.Error("proxies of other machines are not let in any more", "error", err)
			}
		})
	}
	outer.Go(func() { s.control.Run(serving) })
	outer.Go(func() { s.control.Traces.Exporter.Run(serving) })

	probe, err := proxy.New(proxy.Config{ID: ProbeID, Server: s.URL(), Caller: Caller, Program: s.cfg.Program, Log: s.cfg.Log, Drain: s.cfg.Drain})
	if err == nil {
		var beside sync.WaitGroup
		beside.Go(func() {
			if err := probe.Run(inner); err != nil {
				s.cfg.Log.Error("the service's own proxy ended", "error", err)
			}
		})
		if within != nil {
			innerErr = within(inner)
			endInner()
		}
		<-inner.Done()
		beside.Wait()
	}
	endServing()
	outer.Wait()
	return errors.Join(err, serveErr, innerErr)
}

// noticeKey reads the key that signs what receivers are told, or makes it.
func noticeKey(path string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(nil)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		return key, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
	}
	if err != nil {
		return nil, err
	}
	if block, _ := pem.Decode(text); block != nil {
		if any, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
			if key, ok := any.(ed25519.PrivateKey); ok {
				return key, nil
			}
		}
	}
	return nil, fmt.Errorf("%s is not an Ed25519 key in PEM: put the right one there, or take the file away and a new one is made", path)
}
