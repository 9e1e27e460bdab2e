// Package fleet keeps the registry of proxies: who is registered under which
// lease, what each is told in snapshots, and what each has acknowledged.
//
// A proxy registers and renews its lease, opens a stream of snapshots (Attach,
// Next), and acknowledges each. Every change of rules, instances, drills or watches
// makes a new snapshot with the next sequence number; a proxy gets the difference to
// what it has seen. See ledger.go.
package fleet

import (
	"crypto/rand"
	"sync"
	"time"

	"nightjar/control/journal"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

const (
	// LeaseTime is how long a registration holds without being renewed.
	LeaseTime = 10 * time.Second
	// ServiceCaller is the name by which the requests of the service's own proxy
	// are counted.
	ServiceCaller = "nightjar"

	// returnTime is how long a proxy whose stream broke has to come back: a living
	// one reconnects within a second, and a dead one leaves its pool after this.
	returnTime = 3 * time.Second
	// unconfirmedTime is how long instances stay in their pool whose leases expired
	// together.
	unconfirmedTime = 15 * time.Minute

	batchTime      = time.Millisecond // for each proxy; see BatchTime
	leastBatchTime = 50 * time.Millisecond
	mostBatchTime  = time.Second
)

// Config is what a Fleet is made of.
type Config struct {
	Mesh    string  // id of the mesh, that snapshots name
	IsNew   bool    // the mesh was created just now: no proxy can be missing
	Traced  float64 // share of the requests without a trace context that proxies trace, 0 to 1
	Journal *journal.Journal
	Now     func() time.Time
}

// Fleet is the registry of proxies. It is safe for concurrent use.
type Fleet struct {
	journal *journal.Journal
	now     func() time.Time
	started time.Time
	key     string // shown by the service's own requests

	mu       sync.Mutex // guards what follows
	proxies  map[string]*proxy
	ledger   ledger
	revision uint          // in force
	since    time.Time     // when it was committed
	changed  chan struct{} // closed and replaced at every snapshot
	urgent   chan struct{} // closed and replaced at every snapshot of more than instances
	heard    chan struct{} // closed and replaced when a proxy comes, leaves or acknowledges
}

// New makes a registry without proxies, and without rules.
func New(c Config) *Fleet {
	f := &Fleet{
		journal: c.Journal,
		now:     c.Now,
		started: c.Now(),
		key:     rand.Text(),
		proxies: map[string]*proxy{},
		ledger:  newLedger(),
		changed: make(chan struct{}),
		urgent:  make(chan struct{}),
		heard:   make(chan struct{}),
	}
	f.ledger.mesh, f.ledger.traced, f.ledger.key = c.Mesh, c.Traced, f.key
	f.ledger.noteDrills(nil)
	f.snapshot(&rules.Rules{}, true)
	if c.IsNew {
		f.ledger.completeSince = f.ledger.sequence
	}
	return f
}

// Key is what requests of the service itself show in wire.HeaderAsk, so that a
// gateway tells them who answered.
func (f *Fleet) Key() string { return f.key }

// Traced is the share of the requests without a trace context that are traced.
func (f *Fleet) Traced() float64 { return f.ledger.traced }

// SetRules gives the proxies the rules of a revision that was committed at since.
func (f *Fleet) SetRules(rs *rules.Rules, revision uint, since time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.revision, f.since = revision, since
	f.snapshot(rs, false)
}

// SetDrills gives the proxies the drills that are running.
func (f *Fleet) SetDrills(list []wire.Drill) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ledger.noteDrills(list)
	f.snapshot(nil, false)
}

// SetDrains gives the proxies the sites that are drained.
func (f *Fleet) SetDrains(list []wire.Drain) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ledger.noteDrains(list)
	f.snapshot(nil, false)
}

// SetWatches gives the proxies the filters of those who watch requests.
func (f *Fleet) SetWatches(list []wire.Watch) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ledger.noteWatches(list)
	f.snapshot(nil, false)
}

// snapshot makes the next snapshot of what changed, and wakes everybody who waits
// for one: new rules, if they are not nil, and the instances. The caller holds mu,
// or is alone.
func (f *Fleet) snapshot(rs *rules.Rules, haveInstancesChanged bool) {
	f.ledger.next()
	if rs != nil {
		f.ledger.noteRules(rs)
	}
	if haveInstancesChanged {
		f.ledger.noteInstances(f.instances())
	}
	close(f.changed)
	f.changed = make(chan struct{})
	if !haveInstancesChanged {
		close(f.urgent)
		f.urgent = make(chan struct{})
	}
	f.wake()
}

// wake wakes those who wait for proxies. The caller holds mu.
func (f *Fleet) wake() {
	close(f.heard)
	f.heard = make(chan struct{})
}

// Next is what the proxy of an id lacks when it has seen everything up to the
// snapshot seen; nil: nothing. The channel closes at the next snapshot.
func (f *Fleet) Next(id string, seen uint64) (*Update, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ledger.sequence <= seen {
		return nil, f.changed
	}
	var k audience
	if p := f.proxies[id]; p != nil {
		k = audience{p.Service, p.Gateway, p.Crossing}
	}
	return f.ledger.since(k, seen, f.revision), f.changed
}

// Urgent closes at the next snapshot that must not wait for more changes: it is about
// more than instances.
func (f *Fleet) Urgent() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.urgent
}

// Changed closes at the next snapshot.
func (f *Fleet) Changed() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.changed
}

// View is what proxies of one kind know of the mesh.
type View struct {
	Rules     rules.Rules // of the revision in force, with the services that they may call
	Instances []engine.Instance
	Calls     []string // services that their workload is declared to call; nil: any
	Sequence  uint64   // of the newest snapshot; rises with every change
}

// View is what the proxies of a service, or of a gateway, know of the mesh. With
// neither it is everything.
func (f *Fleet) View(service, gateway string) View {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.ledger.view(audience{service, gateway, ""}, f.instances())
}

// BatchTime is how long changes of instances are gathered before a proxy gets the next
// ones, since instances often come and go together: so long for each registered proxy,
// within bounds, so that a thousand that start together do not overload each other.
func (f *Fleet) BatchTime() time.Duration {
	f.mu.Lock()
	defer f.mu.Unlock()
	return min(max(leastBatchTime, batchTime*time.Duration(len(f.proxies))), mostBatchTime)
}

// Sequence is the number of the newest snapshot.
func (f *Fleet) Sequence() uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.ledger.sequence
}

// Versions are the snapshots at which the rules and the instances last changed.
func (f *Fleet) Versions() (rules, instances uint64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.ledger.rulesAt, f.ledger.instancesAt
}
