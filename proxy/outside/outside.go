// Package outside opens connections to instances outside the mesh: it looks their names up
// again and again, and speaks TLS as the rules say for their service.
package outside

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
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
	names map[string]*Name
	moved time.Time // when an address of a name was last gone

	files   sync.Mutex // guards what follows
	wanted  map[string]rules.ServiceTLS
	read    map[string][3]string // contents of the files of each service
	failed  string
	configs atomic.Pointer[map[string]*tls.Config] // by service
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
		if n.list() != nil {
			what = "its last addresses are used"
		}
		out = append(out, fmt.Sprintf("%s cannot be found, and %s: %s", host, what, n.failed))
	}
	d.mu.Unlock()
	slices.Sort(out)
	return strings.Join(out[:min(len(out), 3)], "; ")
}
