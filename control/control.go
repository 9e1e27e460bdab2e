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
	table    *engine.Table // for explanations, once one is asked for; the proxies have their own
	before   *engine.Table // the last one
	members  map[string]*member
	ledger   ledger
	warned   []rules.Finding // what the checker says of the rules in force
	warnedOf [2]uint64       // rulesSeq and peersSeq when it said so
	warnedAt time.Time
	changed  chan struct{} // closed and replaced at every snapshot
	drills   []store.Drill // that run
	heard    chan struct{} // closed and replaced whenever a proxy comes, goes or acknowledges

	publishing sync.Mutex // one publish at a time

	checking sync.Mutex // guards drafts
	drafts   []Unpublished
	draftsOf uint // revision that drafts were compared with; nil drafts: not yet

	drilling sync.Mutex // one drill begins or ends at a time

	telemetry *telemetry
	journal   journal
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
		changed: make(chan struct{}), heard: make(chan struct{}), ledger: newLedger(), telemetry: newTelemetry()}
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
	drills, err := st.Drills(ctx, 1000)
	if err != nil {
		return nil, fmt.Errorf("reading the drills: %w", err)
	}
	for _, d := range drills {
		if drillOf(d, c.now()).Running {
			c.drills = append(c.drills, d)
		}
	}
	c.bumpDrills()
	c.bump(true, true)
	if st.Fresh() {
		c.ledger.settled = c.ledger.sequence
	}
	return c, nil
}

// Run expires leases and tidies until ctx is done.
func (c *Control) Run(ctx context.Context) {
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			c.writeJournal(context.WithoutCancel(ctx))
			return
		case now := <-t.C:
			c.expire(now)
			c.endDrills(now)
			c.writeJournal(ctx)
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

// bump makes a new snapshot out of what changed and wakes everybody who waits
// for one. The caller holds mu, or is alone.
func (c *Control) bump(rulesChanged, peersChanged bool) {
	c.ledger.next()
	if rulesChanged {
		c.ledger.noteRules(c.force.Rules)
	}
	if peersChanged {
		c.ledger.notePeers(c.instances())
	}
	c.table = nil
	close(c.changed)
	c.changed = make(chan struct{})
	c.hear()
}

// hear wakes who waits for the proxies. The caller holds mu.
func (c *Control) hear() {
	close(c.heard)
	c.heard = make(chan struct{})
}

// tableNow is the table of the rules in force. Rules that were checked compile;
// should they not, explanations keep to the table before, and every proxy says
// in its fleet entry why.
func (c *Control) tableNow() *engine.Table {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.table == nil {
		t, err := engine.Compile(c.force.Rules, c.instances(), engine.Options{})
		if err != nil {
			return c.before
		}
		c.table, c.before = t, t
	}
	return c.table
}
