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
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"nightjar/api"
	"nightjar/console"
	"nightjar/control"
	"nightjar/control/fleet"
	"nightjar/control/follows"
	"nightjar/control/people"
	"nightjar/control/retention"
	"nightjar/control/signon"
	"nightjar/control/trials"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/local"
	"nightjar/proxy"
	"nightjar/store"
	"nightjar/traces"
)

// ProbeID is the id of the service's own proxy, by which requests that people ask for
// enter the mesh.
const ProbeID = "nightjar-probe"

const startTime = 5 * time.Second // for a local proxy

// Config of the service.
type Config struct {
	Addr string // host:port of API and console; other machines reach it by TLS alone
	// TLSCert and TLSKey are files with the certificate that people are shown; empty: the
	// authority signs one, for the machine's addresses and for Names.
	TLSCert, TLSKey string
	Names           []string
	Data            string // directory of the records
	Mesh            string // host:port for proxies of other machines, besides Addr; empty: there are none
	Domain          string // trust domain; identity.DefaultDomain when empty
	CACert          string // file with a certificate that signs others; empty: the mesh has an authority of its own
	CAKey           string // file with its key
	// Life of the certificates of proxies; authority.DefaultLife when 0
	Life    time.Duration
	Program string  // version of this program
	Traced  float64 // share of the requests without a trace context that are traced, 0 to 1
	OTLP    string  // URL that spans are exported to; empty: they are not
	Log     *slog.Logger
	SignOn  string        // file about a provider of identities; empty: none
	Follow  string        // file about bundles that follow a branch of a repository; empty: none
	Drain   time.Duration // how long requests may take to finish at shutdown
	// Keep is how long records are kept; nil: retention.Defaults.
	Keep retention.Times
}

// Service is a service that listens and is not yet running.
type Service struct {
	cfg      Config
	listener net.Listener
	proxies  net.Listener // nil: proxies of this machine alone
	local    net.Listener // the socket of this machine; nil: there is none
	store    *store.Store
	node     *identity.Credentials // of the service itself
	control  *control.Control
	server   *api.Server
}

// Open listens and opens the records.
func Open(ctx context.Context, cfg Config) (*Service, error) {
	if _, _, err := net.SplitHostPort(cfg.Addr); err != nil {
		return nil, fmt.Errorf("--listen %q: write HOST:PORT, such as 127.0.0.1:7600", cfg.Addr)
	}
	l, err := net.Listen("tcp", cfg.Addr)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf(
			"%s is in use, perhaps by another Nightjar: stop that one, or choose another address with --listen",
			cfg.Addr,
		)
	}
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w", cfg.Addr, err)
	}
	var proxies net.Listener
	if cfg.Mesh != "" {
		if proxies, err = net.Listen("tcp", cfg.Mesh); err != nil {
			l.Close()
			return nil, fmt.Errorf("cannot listen on --mesh-addr %s: %w", cfg.Mesh, err)
		}
	}
	s := &Service{cfg: cfg, listener: l, proxies: proxies}
	if err := s.open(ctx); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// open opens the records and makes what works on them.
func (s *Service) open(ctx context.Context) (err error) {
	if s.store, err = store.Open(s.cfg.Data, "serve at "+s.listener.Addr().String()); err != nil {
		return err
	}
	ca, err := authority.Open(authority.Config{
		Dir:    filepath.Join(s.cfg.Data, "authority"),
		Domain: s.cfg.Domain,
		Life:   s.cfg.Life,
		Cert:   s.cfg.CACert,
		Key:    s.cfg.CAKey,
	})
	if err != nil {
		return fmt.Errorf("the authority: %w", err)
	}
	s.node = &identity.Credentials{}
	c := control.Config{
		Store:     s.store,
		Authority: ca,
		Node:      s.node,
		Self: identity.Member{
			Name:   identity.Name{Kind: identity.Node, Name: fleet.ServiceCaller},
			Domain: ca.Domain(),
			ID:     ProbeID,
		},
		Program:    s.cfg.Program,
		Traced:     s.cfg.Traced,
		Log:        s.cfg.Log,
		Keep:       s.cfg.Keep,
		Archive:    filepath.Join(s.cfg.Data, "archive"),
		Dir:        s.cfg.Data,
		StartProxy: s.startProxy,
	}
	if c.Key, err = signingKey(filepath.Join(s.cfg.Data, "notify.key")); err != nil {
		return err
	}
	if s.cfg.SignOn != "" {
		if c.SignOn, err = signon.Read(s.cfg.SignOn); err != nil {
			return fmt.Errorf("--sign-on: %w", err)
		}
	}
	if s.cfg.Follow != "" {
		if c.Follows, err = follows.ReadConfig(s.cfg.Follow); err != nil {
			return fmt.Errorf("--follow: %w", err)
		}
	}
	if s.cfg.OTLP != "" {
		if c.Exporter, err = traces.NewExporter(s.cfg.OTLP, s.cfg.Log); err != nil {
			return fmt.Errorf("--otlp: %w", err)
		}
	}
	if s.control, err = control.New(ctx, c); err != nil {
		return err
	}
	s.server = api.New(s.control, console.Files(), s.listener.Addr(), s.cfg.Log)
	shown, err := newCertificate(s.cfg, ca, s.listener.Addr())
	if err != nil {
		return err
	}
	s.server.SetCertificate(shown.get)
	s.server.SetTokens(s.reachable, s.JoinToken)
	if err := s.writeJoinFile(); err != nil {
		return err
	}
	return s.openSocket()
}

// openSocket makes the socket by which the user of this machine needs no token.
func (s *Service) openSocket() error {
	l, err := local.Listen(s.cfg.Data)
	if err != nil {
		return fmt.Errorf("the socket of the data directory: %w", err)
	}
	s.local = api.Local(l, local.UserOf)
	if err := local.Publish(local.Socket, s.listener.Addr(), SocketFile(s.cfg.Data)); err != nil {
		s.cfg.Log.Warn("commands of this machine need --server unix:"+SocketFile(s.cfg.Data), "error", err)
	}
	return nil
}

// SocketFile is the socket of a data directory.
func SocketFile(data string) string { return filepath.Join(data, "socket") }

// close closes what Open opened.
func (s *Service) close() {
	s.listener.Close()
	if s.proxies != nil {
		s.proxies.Close()
	}
	if s.local != nil {
		s.local.Close()
	}
	if s.store != nil {
		s.store.Close()
	}
}

// JoinFile is the file of a data directory with which proxies of the same machine and
// the same user join.
func JoinFile(data string) string { return filepath.Join(data, "join") }

// JoinToken is what a proxy joins with that reaches the service at host:port.
func (s *Service) JoinToken(address, secret string) identity.Token {
	t := identity.Token{Server: "https://" + address, Secret: secret}
	for _, r := range s.control.Members.Authority.Status().Roots {
		if r.Signs {
			t.Authority = r.Fingerprint
		}
	}
	return t
}

// reachable is HOST:PORT where proxies of other machines reach the service, unless a
// person says where.
func (s *Service) reachable(said string) (string, error) {
	if said != "" {
		if _, _, err := net.SplitHostPort(said); err != nil {
			return "", fmt.Errorf(
				"%q is not where proxies reach the service: write HOST:PORT, such as 10.0.0.1:7601",
				said,
			)
		}
		return said, nil
	}
	l := s.proxies
	if l == nil {
		l = s.listener
	}
	at := l.Addr().(*net.TCPAddr)
	if at.IP.IsUnspecified() {
		return "", fmt.Errorf("the service listens on all addresses of its machine: say at which one the proxy "+
			"reaches it, such as --reach 10.0.0.1:%d", at.Port)
	}
	return at.String(), nil
}

// Join is what proxies in this process join with.
func (s *Service) Join() (identity.Token, error) {
	return s.JoinToken(s.listener.Addr().String(), s.control.Members.LocalSecret()), nil
}

// writeJoinFile writes the join file, which is good until the service ends.
func (s *Service) writeJoinFile() error {
	t, _ := s.Join()
	if err := identity.WriteFile(JoinFile(s.cfg.Data), []byte(t.Text()+"\n")); err != nil {
		return fmt.Errorf("the join file: %w", err)
	}
	if err := local.Publish(local.Join, s.listener.Addr(), JoinFile(s.cfg.Data)); err != nil {
		s.cfg.Log.Warn("proxies of this machine need --join "+JoinFile(s.cfg.Data), "error", err)
	}
	return nil
}

// ReadJoinFile reads the join file of the service at host:port, anew at each call.
func ReadJoinFile(address string) func() (identity.Token, error) {
	return func() (identity.Token, error) {
		link, err := local.Link(local.Join, address)
		if err != nil {
			return identity.Token{}, err
		}
		return identity.ReadToken(link)
	}
}

// startProxy starts a proxy in this process that no other proxy knows of.
func (s *Service) startProxy(ctx context.Context, l trials.LocalProxy) (address string, wait func(), err error) {
	own := &identity.Credentials{}
	name := identity.Name{Kind: identity.Service, Name: l.Caller}
	switch {
	case l.Gateway == "" && l.Caller == fleet.ServiceCaller:
		name.Kind = identity.Node
	case l.Gateway != "":
		name = identity.Name{Kind: identity.Gateway, Name: l.Gateway}
	}
	ca := s.control.Members.Authority
	who := identity.Member{Name: name, Domain: ca.Domain(), ID: ProbeID, Site: l.Site}
	if err := ca.Credentials(who, own); err != nil {
		return "", nil, err
	}
	p, err := proxy.New(
		proxy.Config{
			ID:          ProbeID,
			Caller:      l.Caller,
			Gateway:     l.Gateway,
			Site:        l.Site,
			Snapshots:   l.Snapshots,
			Credentials: own,
			Program:     s.cfg.Program,
			Log:         s.cfg.Log,
			Drain:       time.Second,
		},
	)
	if err != nil {
		return "", nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- p.Run(ctx) }()
	wait = func() { <-ended }
	select {
	case <-p.Ready():
		return p.Outbound(), wait, nil
	case err := <-ended:
		return "", nil, errors.Join(err, ctx.Err())
	case <-time.After(startTime):
		return "", nil, fmt.Errorf("it has no rules in force after %s", startTime)
	}
}

// URL is the address of API and console.
func (s *Service) URL() string {
	at := s.listener.Addr().(*net.TCPAddr)
	switch {
	case at.IP.IsLoopback():
		return "http://" + at.String()
	case !at.IP.IsUnspecified():
		return "https://" + at.String()
	}
	host, err := os.Hostname()
	if len(s.cfg.Names) > 0 {
		host = s.cfg.Names[0]
	} else if err != nil {
		host = "127.0.0.1"
	}
	return "https://" + net.JoinHostPort(host, strconv.Itoa(at.Port))
}

// IsSecure tells whether people reach the service by TLS alone.
func (s *Service) IsSecure() bool { return !s.listener.Addr().(*net.TCPAddr).IP.IsLoopback() }

// Fingerprint is that of the authority, by which people of other machines know the
// service; empty: they know it by the certificate that somebody brought.
func (s *Service) Fingerprint() string {
	if s.cfg.TLSCert != "" {
		return ""
	}
	return s.JoinToken("", "").Authority
}

// ConsoleLink is the address of the console, which signs the user of this machine in
// once. life is how long it does.
func (s *Service) ConsoleLink(life time.Duration) string {
	name := strconv.Itoa(os.Geteuid())
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	who := people.Who{Name: name, Role: people.Admin, Credential: people.Local}
	l, err := s.server.SignInLink(who, life)
	if err != nil { // there are too many already
		return s.URL()
	}
	return s.URL() + l.Path
}

// Control is the service without its API.
func (s *Service) Control() *control.Control { return s.control }

// SetStandIns names the stand-ins that the API shows.
func (s *Service) SetStandIns(all api.StandIns) { s.server.SetStandIns(all) }

// Run serves until ctx is done. within, if it is not nil, runs meanwhile with a context
// that ends first, so that what it started can still reach the service while it ends.
func (s *Service) Run(ctx context.Context, within func(context.Context) error) error {
	defer s.store.Close()
	defer os.Remove(JoinFile(s.cfg.Data))
	serving, endServing := context.WithCancel(context.WithoutCancel(ctx))
	defer endServing()
	inner, endInner := context.WithCancel(ctx)
	defer endInner()
	var outer sync.WaitGroup
	var serveErr, innerErr error
	outer.Go(func() {
		serveErr = s.server.Serve(serving, s.listener, s.cfg.Drain)
		endInner()
	})
	outer.Go(func() {
		if err := s.server.ServeLocal(serving, s.local, s.cfg.Drain); err != nil {
			s.cfg.Log.Error("the socket of this machine does not answer any more", "error", err)
		}
	})
	if s.proxies != nil {
		outer.Go(func() {
			if err := s.server.ServeProxies(serving, s.proxies, s.cfg.Drain); err != nil {
				s.cfg.Log.Error("proxies of other machines cannot connect any more", "error", err)
			}
		})
	}
	outer.Go(func() { s.control.Run(serving) })
	outer.Go(func() { s.control.Traces.Exporter.Run(serving) })

	probe, err := proxy.New(
		proxy.Config{
			ID:          ProbeID,
			Server:      "https://" + s.listener.Addr().String(),
			Caller:      fleet.ServiceCaller,
			Credentials: s.node,
			Program:     s.cfg.Program,
			Log:         s.cfg.Log,
			Drain:       s.cfg.Drain,
		},
	)
	if err == nil {
		var background sync.WaitGroup
		background.Go(func() {
			if err := probe.Run(inner); err != nil {
				s.cfg.Log.Error("the service's own proxy ended", "error", err)
			}
		})
		if within != nil {
			innerErr = within(inner)
			endInner()
		}
		<-inner.Done()
		background.Wait()
	}
	endServing()
	outer.Wait()
	return errors.Join(err, serveErr, innerErr)
}

// signingKey reads the key that signs events, or makes it.
func signingKey(path string) (ed25519.PrivateKey, error) {
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
	return nil, fmt.Errorf(
		"%s is not an Ed25519 key in PEM: put the right key there, or remove the file to get a new one",
		path,
	)
}
