// Package outside opens connections to instances outside the mesh: it looks their names up
// again and again, and speaks TLS as the rules say for their service.
package outside

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// Times and bounds of names.
const (
	lookEvery = 5 * time.Second  // for how long addresses are good
	lookTime  = 5 * time.Second  // for finding them
	badTime   = 10 * time.Second // for which an address is tried last that took no connection
	maxNames  = 4096             // that are known; one that was not used for longest goes first
	maxTries  = 3                // addresses for one connection
)

// Dialer opens connections. The zero value does so as the system does; nil does, too. It is
// safe for concurrent use.
type Dialer struct {
	Timeout time.Duration // of one connection; 0: none of its own
	Default *tls.Config   // for services of which the rules say nothing; nil: what the machine trusts
	Dir     string        // from which the paths of files count; empty: the working directory
	// Lookup finds the addresses of a name; nil: as the system does.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)

	mu    sync.Mutex // guards what follows
	names map[string]*name
	moved time.Time // when an address of a name was last gone

	files   sync.Mutex // guards what follows
	wanted  map[string]rules.ServiceTLS
	read    map[string][3]string // contents of the files of each service
	failed  string
	configs atomic.Pointer[map[string]*tls.Config] // by service
}

// name is a host, and its addresses as they were found last.
type name struct {
	addrs   []netip.Addr
	found   time.Time
	used    time.Time
	failed  string        // why they cannot be found now; empty: they can
	looking chan struct{} // closed when somebody has looked; nil: nobody looks
	bad     map[netip.Addr]time.Time
	turn    int
}

// IsName tells whether the host of an address, HOST:PORT, is a name.
func IsName(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	_, err = netip.ParseAddr(host)
	return err != nil
}

// Dial opens a connection to HOST:PORT. A name with several addresses is tried at up to three
// of them, in turn, those last that took no connection just now.
func (d *Dialer) Dial(ctx context.Context, address string) (net.Conn, error) {
	system := net.Dialer{}
	if d == nil {
		return system.DialContext(ctx, "tcp", address)
	}
	system.Timeout = d.Timeout
	if !IsName(address) {
		return system.DialContext(ctx, "tcp", address)
	}
	host, port, _ := net.SplitHostPort(address)
	addrs, err := d.find(ctx, host)
	if err != nil {
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: err}
	}
	addrs = addrs[:min(len(addrs), maxTries)]
	for i, a := range addrs {
		try, stop := ctx, context.CancelFunc(func() {})
		if end, has := ctx.Deadline(); has && i < len(addrs)-1 { // time is left for the others
			try, stop = context.WithTimeout(ctx, time.Until(end)/time.Duration(len(addrs)-i))
		}
		var conn net.Conn
		conn, err = system.DialContext(try, "tcp", net.JoinHostPort(a.String(), port))
		stop()
		if err == nil {
			d.took(host, a, true)
			return conn, nil
		}
		if ctx.Err() != nil {
			break
		}
		d.took(host, a, false)
	}
	return nil, err
}

// find is the addresses of a host, in the order in which to try them.
func (d *Dialer) find(ctx context.Context, host string) ([]netip.Addr, error) {
	d.mu.Lock()
	n := d.names[host]
	if n == nil {
		n = d.add(host)
	}
	now := time.Now()
	n.used = now
	if n.looking == nil && now.Sub(n.found) > lookEvery {
		n.looking = make(chan struct{})
		go d.look(host, n)
	}
	looking := n.looking
	if len(n.addrs) == 0 && looking != nil {
		d.mu.Unlock()
		select {
		case <-looking:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		d.mu.Lock()
	}
	defer d.mu.Unlock()
	if len(n.addrs) == 0 {
		return nil, &net.DNSError{Err: n.failed, Name: host, IsNotFound: true}
	}
	n.turn++
	out := make([]netip.Addr, 0, len(n.addrs))
	for i := range n.addrs {
		out = append(out, n.addrs[(n.turn+i)%len(n.addrs)])
	}
	slices.SortStableFunc(out, func(a, b netip.Addr) int { return n.rank(a, now) - n.rank(b, now) })
	return out, nil
}

// rank puts addresses last that took no connection just now.
func (n *name) rank(a netip.Addr, now time.Time) int {
	if at, isBad := n.bad[a]; isBad && now.Sub(at) < badTime {
		return 1
	}
	return 0
}

// add makes room for a name. The caller holds mu.
func (d *Dialer) add(host string) *name {
	if len(d.names) >= maxNames {
		oldest := ""
		for h, n := range d.names {
			if n.looking == nil && (oldest == "" || n.used.Before(d.names[oldest].used)) {
				oldest = h
			}
		}
		delete(d.names, oldest)
	}
	n := &name{bad: map[netip.Addr]time.Time{}}
	if d.names == nil {
		d.names = map[string]*name{}
	}
	d.names[host] = n
	return n
}

// look finds the addresses of a host. It ends within lookTime, whoever waits for it.
func (d *Dialer) look(host string, n *name) {
	ctx, stop := context.WithTimeout(context.Background(), lookTime)
	defer stop()
	lookup := d.Lookup
	if lookup == nil {
		lookup = func(ctx context.Context, host string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		}
	}
	addrs, err := lookup(ctx, host)
	for i := range addrs {
		addrs[i] = addrs[i].Unmap()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	n.found = time.Now() // or not: it is tried again when that is over
	switch {
	case err != nil:
		n.failed = err.Error()
	case len(addrs) == 0:
		n.failed = "it has no address"
	default:
		if slices.ContainsFunc(n.addrs, func(a netip.Addr) bool { return !slices.Contains(addrs, a) }) {
			d.moved = n.found
		}
		slices.SortFunc(addrs, netip.Addr.Compare)
		n.addrs, n.failed = slices.Compact(addrs), ""
		for a := range n.bad {
			if !slices.Contains(n.addrs, a) {
				delete(n.bad, a)
			}
		}
	}
	close(n.looking)
	n.looking = nil
}

// took notes whether an address took a connection.
func (d *Dialer) took(host string, a netip.Addr, did bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.names[host]
	switch {
	case n == nil:
	case did:
		delete(n.bad, a)
	default:
		n.bad[a] = time.Now()
	}
}

// usedFor is for how long names are looked up again that nobody asks for.
const usedFor = 30 * time.Minute

// Look has names looked up again whose addresses are old, for the sake of connections that
// are kept.
func (d *Dialer) Look() {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	for host, n := range d.names {
		switch {
		case n.looking != nil || now.Sub(n.found) <= lookEvery:
		case now.Sub(n.used) > usedFor:
			delete(d.names, host)
		default:
			n.looking = make(chan struct{})
			go d.look(host, n)
		}
	}
}

// HasMoved tells whether an address of a name was gone in the last minute, so that connections
// that are kept may lead nowhere.
func (d *Dialer) HasMoved() bool {
	if d == nil {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return !d.moved.IsZero() && time.Since(d.moved) < time.Minute
}

// Has tells whether a connection to HOST:PORT that goes to ip is still at one of its
// addresses.
func (d *Dialer) Has(address string, ip netip.Addr) bool {
	if d == nil || !IsName(address) {
		return true
	}
	host, _, _ := net.SplitHostPort(address)
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.names[host]
	if n == nil || len(n.addrs) == 0 {
		return true
	}
	return slices.Contains(n.addrs, ip.Unmap())
}

// Problem tells which names cannot be found, and which files of TLS cannot be used; empty:
// all can.
func (d *Dialer) Problem() string {
	var out []string
	d.files.Lock()
	if d.failed != "" {
		out = append(out, d.failed)
	}
	d.files.Unlock()
	d.mu.Lock()
	for host, n := range d.names {
		if n.failed == "" || time.Since(n.used) > time.Minute {
			continue
		}
		what := "it cannot be called"
		if len(n.addrs) > 0 {
			what = "its last addresses are used"
		}
		out = append(out, fmt.Sprintf("%s cannot be found, and %s: %s", host, what, n.failed))
	}
	d.mu.Unlock()
	slices.Sort(out)
	return strings.Join(out[:min(len(out), 3)], "; ")
}

// Follow takes what rules say about TLS into use.
func (d *Dialer) Follow(rs *rules.Rules) {
	wanted := map[string]rules.ServiceTLS{}
	if rs != nil {
		for _, s := range rs.Services {
			if s.TLS != nil {
				wanted[s.Name] = *s.TLS
			}
		}
	}
	d.files.Lock()
	d.wanted = wanted
	d.files.Unlock()
	d.Refresh()
}

// Refresh reads the files again. Those that cannot be used leave the last good ones in use.
func (d *Dialer) Refresh() {
	d.files.Lock()
	defer d.files.Unlock()
	if len(d.wanted) == 0 {
		d.failed, d.read = "", nil
		if d.configs.Load() != nil {
			d.configs.Store(nil)
		}
		return
	}
	var failed []error
	configs, read := map[string]*tls.Config{}, map[string][3]string{}
	for service, w := range d.wanted {
		text, err := d.texts(&w)
		var cfg *tls.Config
		if all := d.configs.Load(); all != nil {
			cfg = (*all)[service]
		}
		if isSame := cfg != nil && d.read[service] == text && cfg.ServerName == w.Name; err == nil && !isSame {
			var made *tls.Config
			if made, err = newConfig(&w, text); err == nil {
				cfg = made
			}
		}
		if cfg != nil {
			configs[service], read[service] = cfg, text
		}
		if err != nil {
			text = d.read[service] // so that it is tried, and told of, again
			read[service] = text
			failed = append(failed, fmt.Errorf("TLS of service %s: %w", service, err))
		}
	}
	d.failed = ""
	if len(failed) > 0 {
		slices.SortFunc(failed, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
		d.failed = errors.Join(failed...).Error()
	}
	d.read = read
	d.configs.Store(&configs)
}

const maxFile = 1 << 20

func (d *Dialer) texts(w *rules.ServiceTLS) (out [3]string, err error) {
	for i, file := range []string{w.Authority, w.Cert, w.Key} {
		if file == "" {
			continue
		}
		if !filepath.IsAbs(file) {
			file = filepath.Join(d.Dir, file)
		}
		info, err := os.Stat(file)
		if err == nil && info.Size() > maxFile {
			err = fmt.Errorf("%s is longer than %d bytes", file, maxFile)
		}
		if err != nil {
			return out, err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return out, err
		}
		out[i] = string(text)
	}
	return out, nil
}

func newConfig(w *rules.ServiceTLS, text [3]string) (*tls.Config, error) {
	cfg := &tls.Config{ServerName: w.Name, MinVersion: tls.VersionTLS12}
	if w.Authority != "" {
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM([]byte(text[0])) {
			return nil, fmt.Errorf("there is no certificate in PEM in %s", w.Authority)
		}
	}
	if w.Cert != "" {
		pair, err := tls.X509KeyPair([]byte(text[1]), []byte(text[2]))
		if err != nil {
			return nil, fmt.Errorf("%s and %s: %w", w.Cert, w.Key, err)
		}
		cfg.Certificates = []tls.Certificate{pair}
	}
	return cfg, nil
}

// errNoFiles is why a service cannot be called whose files were never good.
var errNoFiles = errors.New("its certificates cannot be used: see the problems of this proxy")

// Config is how TLS is spoken to an instance of a service. protocols are offered by ALPN;
// none: nothing is.
func (d *Dialer) Config(service, address string, protocols ...string) (*tls.Config, error) {
	cfg := &tls.Config{}
	if d != nil {
		if d.Default != nil {
			cfg = d.Default.Clone()
		}
		if all := d.configs.Load(); all != nil {
			if own := (*all)[service]; own != nil {
				cfg = own.Clone()
			} else if d.wants(service) {
				return nil, &tls.CertificateVerificationError{Err: errNoFiles}
			}
		}
	}
	if cfg.ServerName == "" {
		cfg.ServerName, _, _ = net.SplitHostPort(address)
	}
	cfg.NextProtos = protocols
	return cfg, nil
}

func (d *Dialer) wants(service string) bool {
	d.files.Lock()
	defer d.files.Unlock()
	_, does := d.wanted[service]
	return does
}

// Secure speaks TLS on a connection to an instance of a service, and closes it if that fails.
func (d *Dialer) Secure(ctx context.Context, conn net.Conn, service, address string, protocols ...string) (*tls.Conn, error) {
	cfg, err := d.Config(service, address, protocols...)
	if err != nil {
		conn.Close()
		return nil, err
	}
	t := tls.Client(conn, cfg)
	if err := t.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	return t, nil
}
