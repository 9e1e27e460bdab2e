package outside

import (
	"context"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"
)

// Times and bounds of names.
const (
	lookEvery = 5 * time.Second  // for how long addresses are good
	lookTime  = 5 * time.Second  // for finding them
	badTime   = 10 * time.Second // for which an address is tried last that took no connection
	maxNames  = 4096             // that are known; one that was not used for longest goes first
	maxTries  = 3                // addresses for one connection
)

// Name is a host, and its addresses as they were found last.
type Name struct {
	addrs  atomic.Pointer[[]netip.Addr] // nil: none were found yet
	isUsed atomic.Bool                  // since it was last looked at

	// Guarded by the Dialer.
	found   time.Time
	used    time.Time
	failed  string        // why they cannot be found now; empty: they can
	looking chan struct{} // closed when somebody has looked; nil: nobody looks
	bad     map[netip.Addr]time.Time
	turn    int
}

func (n *Name) list() []netip.Addr {
	if p := n.addrs.Load(); p != nil {
		return *p
	}
	return nil
}

// Has tells whether a connection that goes to ip is still at one of the addresses. A nil Name
// is that of an address, which does not change.
func (n *Name) Has(ip netip.Addr) bool {
	if n == nil {
		return true
	}
	if !n.isUsed.Load() {
		n.isUsed.Store(true)
	}
	list := n.list()
	return len(list) == 0 || slices.Contains(list, ip)
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

// find is the addresses of a host, in the order in which to try them.
func (d *Dialer) find(ctx context.Context, host string) ([]netip.Addr, error) {
	d.mu.Lock()
	n, now := d.name(host), time.Now()
	if n.looking == nil && now.Sub(n.found) > lookEvery {
		n.looking = make(chan struct{})
		go d.look(host, n)
	}
	looking := n.looking
	if n.list() == nil && looking != nil {
		d.mu.Unlock()
		select {
		case <-looking:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		d.mu.Lock()
	}
	defer d.mu.Unlock()
	all := n.list()
	if all == nil {
		return nil, &net.DNSError{Err: n.failed, Name: host, IsNotFound: true}
	}
	n.turn++
	out := make([]netip.Addr, 0, len(all))
	for i := range all {
		out = append(out, all[(n.turn+i)%len(all)])
	}
	slices.SortStableFunc(out, func(a, b netip.Addr) int { return n.rank(a, now) - n.rank(b, now) })
	return out, nil
}

// rank puts addresses last that took no connection just now.
func (n *Name) rank(a netip.Addr, now time.Time) int {
	if at, isBad := n.bad[a]; isBad && now.Sub(at) < badTime {
		return 1
	}
	return 0
}

// name is that of a host, which is used now. The caller holds mu.
func (d *Dialer) name(host string) *Name {
	if n := d.names[host]; n != nil {
		n.used = time.Now()
		return n
	}
	if len(d.names) >= maxNames {
		oldest := ""
		for h, n := range d.names {
			if n.looking == nil && (oldest == "" || n.used.Before(d.names[oldest].used)) {
				oldest = h
			}
		}
		delete(d.names, oldest)
	}
	n := &Name{used: time.Now(), bad: map[netip.Addr]time.Time{}}
	if d.names == nil {
		d.names = map[string]*Name{}
	}
	d.names[host] = n
	return n
}

// look finds the addresses of a host. It ends within lookTime, whoever waits for it.
func (d *Dialer) look(host string, n *Name) {
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
		isGone := func(a netip.Addr) bool { return !slices.Contains(addrs, a) }
		if slices.ContainsFunc(n.list(), isGone) {
			d.moved = n.found
		}
		slices.SortFunc(addrs, netip.Addr.Compare)
		addrs = slices.Compact(addrs)
		n.addrs.Store(&addrs)
		n.failed = ""
		maps.DeleteFunc(n.bad, func(a netip.Addr, _ time.Time) bool { return isGone(a) })
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
		if n.isUsed.Swap(false) {
			n.used = now
		}
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

// NameOf is the name in HOST:PORT, by which connections that are kept find out whether they are
// still at one of its addresses; nil: it is none.
func (d *Dialer) NameOf(address string) *Name {
	if d == nil || !IsName(address) {
		return nil
	}
	host, _, _ := net.SplitHostPort(address)
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.name(host)
}
