// Package control is the service's work: publishing rules, keeping the
// registry of proxies and instances, handing out snapshots, and adding up
// telemetry. It knows no HTTP of its own; api and the proxies speak to it.
package control

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// LeaseTime is how long a registration holds without being renewed.
const LeaseTime = 10 * time.Second

// Control is the running service without its outer layers. Make one with New.
type Control struct {
	// TLS looks at the certificate files that rules name; nil: they are not
	// looked at. It is set before anything else happens.
	TLS func(rules.Certificate) (rules.CertificateState, error)

	store   *store.Store
	program string
	now     func() time.Time
	started time.Time

	mu       sync.Mutex // guards what follows
	force    Force
	table    *engine.Table // for explanations; the proxies have their own
	members  map[string]*member
	sequence uint64 // of the newest snapshot
	rulesSeq uint64 // snapshot at which the rules last changed
	peersSeq uint64 // snapshot at which the instances last changed
	settled  bool
	warned   []rules.Finding // what the checker says of the rules in force
	warnedOf [2]uint64       // rulesSeq and peersSeq when it said so
	warnedAt time.Time
	changed  chan struct{} // closed and replaced at every change

	publishing sync.Mutex // one publish at a time

	checking sync.Mutex // guards drafts
	drafts   []Unpublished
	draftsOf uint // revision that drafts were compared with; nil drafts: not yet

	telemetry *telemetry
}

// Force is what the service wants proxies to follow.
type Force struct {
	Revision store.Revision
	Rules    *rules.Rules
	Since    time.Time
}

// New reads the rules in force from the store.
func New(ctx context.Context, st *store.Store, program string) (*Control, error) {
	c := &Control{store: st, program: program, now: time.Now, started: time.Now(), members: map[string]*member{},
		changed: make(chan struct{}), settled: st.Fresh(), telemetry: newTelemetry()}
	rev, err := st.Revision(ctx, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("reading the rules in force: %w", err)
	}
	rs, found := rules.Check(joined(rev.Bundles), rules.Live{})
	if n := rules.Mistakes(found); n > 0 {
		return nil, fmt.Errorf("revision %d, which is in force, has %d mistakes for this program, the first at %s: %s; start the program that published it",
			rev.Number, n, found[0].At, found[0].Message)
	}
	c.force = Force{Revision: rev, Rules: rs, Since: rev.At}
	c.bump(true, true)
	return c, nil
}

// Run expires leases and tidies until ctx is done.
func (c *Control) Run(ctx context.Context) {
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			c.expire(now)
			c.telemetry.tidy(now)
		}
	}
}

// InForce is the revision that proxies are to follow, with its rules. Nobody
// may change what it points to.
func (c *Control) InForce() Force {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.force
}

// bump makes a new snapshot out of what changed and wakes everybody who waits.
// The caller holds mu, or is alone.
func (c *Control) bump(rulesChanged, peersChanged bool) {
	c.sequence++
	if rulesChanged {
		c.rulesSeq = c.sequence
	}
	if peersChanged {
		c.peersSeq = c.sequence
	}
	if rulesChanged || peersChanged {
		// Rules that were checked compile; should they not, explanations keep
		// to the table before and every proxy says in its fleet entry why.
		if t, err := engine.Compile(c.force.Rules, c.instances(), engine.Options{}); err == nil {
			c.table = t
		}
	}
	c.wake()
}

func (c *Control) wake() {
	close(c.changed)
	c.changed = make(chan struct{})
}

// Snapshot is what a proxy that has seen everything up to the snapshot seen
// still lacks. The channel closes at the next change. Sequence 0: nothing new.
func (c *Control) Snapshot(seen uint64) (wire.Snapshot, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var s wire.Snapshot
	if c.sequence > seen {
		s.Sequence, s.Settled = c.sequence, c.settled
		if c.rulesSeq > seen {
			s.Rules, s.Revision = c.force.Rules, c.force.Revision.Number
		}
		if c.peersSeq > seen {
			in := c.instances()
			s.Instances = &in
		}
	}
	return s, c.changed
}
