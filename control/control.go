// Package control is the service's work: publishing rules, keeping the
// registry of proxies and instances, handing out snapshots, and adding up
// telemetry. It knows no HTTP of its own; api and the proxies speak to it.
package control

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/metrics"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/traces"
)

// LeaseTime is how long a registration holds without being renewed.
const LeaseTime = 10 * time.Second

// Control is the running service without its outer layers. Make one with New.
type Control struct {
	store   *store.Store
	program string
	now     func() time.Time
	started time.Time

	mu       sync.Mutex // guards what follows
	force    Force
	table    *engine.Table              // for explanations, once one is asked for; the proxies have their own
	before   *engine.Table              // the last one
	tables   map[tableKey]*engine.Table // as callers see them, for explanations
	members  map[string]*member
	ledger   ledger
	warned   []rules.Finding // what the checker says of the rules in force
	warnedOf [2]uint64       // rulesSeq and peersSeq when it said so
	warnedAt time.Time
	changed  chan struct{} // closed and replaced at every snapshot
	drills   []store.Drill // that run
	heard    chan struct{} // closed and replaced whenever a proxy comes, goes or acknowledges

	publishing sync.Mutex           // one publish at a time; it guards releases too
	releases   map[uint]*releaseRun // that run, and for a moment those that ended
	counters   counters             // of what their versions answer
	ending     bool                 // nothing is begun for releases any more
	beside     sync.WaitGroup       // who sends loads, and asks and tells receivers
	told       telling
	written    written
	briefs     atomic.Pointer[[]ReleaseBrief]

	standins atomic.Pointer[Standins]

	// Key signs what receivers are told; nil: nothing is signed.
	Key ed25519.PrivateKey

	checking sync.Mutex // guards drafts
	drafts   []Unpublished
	draftsOf uint // revision that drafts were compared with; nil drafts: not yet

	drilling sync.Mutex // one drill begins or ends at a time

	// Totals are told of all that is counted; nil: nobody reads them.
	Totals *metrics.Totals
	// Traces are kept here.
	Traces *traces.Store
	// Log is told of what goes wrong by itself.
	Log *slog.Logger

	// Beside starts a proxy in this process that follows snapshots of its own,
	// until ctx is done; ended returns when it has. nil: there are none.
	Beside func(context.Context, Beside) (address string, ended func(), err error)

	forecasting chan struct{} // a place for each that is being computed

	trying sync.Mutex // guards trial
	trial  *trialRun  // that runs, or was the last one to

	telemetry *telemetry.Store
	writing   sync.Mutex         // guards unwritten
	unwritten []*telemetry.Batch // for the disk
	journal   journal
	pruned    time.Time // telemetry on disk; of the goroutine that ages it
	feed      feed
}

// Force is what the service wants proxies to follow.
type Force struct {
	Revision store.Revision
	Rules    *rules.Rules // as proxies follow them
	Written  *rules.Rules // as their files say: without what running releases change
	Since    time.Time
}

// New reads the rules in force from the store.
func New(ctx context.Context, st *store.Store, program string) (*Control, error) {
	c := &Control{store: st, program: program, now: time.Now, started: time.Now(), members: map[string]*member{},
		changed: make(chan struct{}), heard: make(chan struct{}), ledger: newLedger(), telemetry: telemetry.New(), releases: map[uint]*releaseRun{}, forecasting: make(chan struct{}, maxForecasts), Traces: traces.New(), Log: slog.New(slog.DiscardHandler)}
	c.ledger.mesh = st.Mesh()
	rev, err := st.Revision(ctx, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("reading the rules in force: %w", err)
	}
	written, found := rules.Check(joined(rev.Bundles), rules.Live{})
	if n := rules.Mistakes(found); n > 0 {
		return nil, fmt.Errorf("revision %d, which is in force, has %d mistakes for this program, the first at %s: %s; start the program that published it",
			rev.Number, n, found[0].At, found[0].Message)
	}
	overlays, err := overlaysOf(&rev)
	if err != nil {
		return nil, err
	}
	c.force = Force{Revision: rev, Rules: release.Apply(written, overlays), Written: written, Since: rev.At}
	drills, err := st.Drills(ctx, 1000)
	if err != nil {
		return nil, fmt.Errorf("reading the drills: %w", err)
	}
	for _, d := range drills {
		if drillOf(d, c.now()).Running {
			c.drills = append(c.drills, d)
		}
	}
	if err := c.recallTelemetry(ctx); err != nil {
		return nil, fmt.Errorf("reading the telemetry: %w", err)
	}
	if err := st.InterruptTrials(ctx, TrialRunning, TrialInterrupted); err != nil {
		return nil, fmt.Errorf("reading the trials: %w", err)
	}
	if err := c.recallReleases(ctx); err != nil {
		return nil, fmt.Errorf("reading the releases: %w", err)
	}
	c.bumpDrills()
	c.bump(true, true)
	if st.Fresh() {
		c.ledger.settled = c.ledger.sequence
	}
	return c, nil
}

const (
	writeEvery = telemetry.Step * time.Second // telemetry is written
	ageEvery   = time.Minute                  // telemetry is rolled up
	pruneEvery = time.Hour                    // what is older than all that is kept goes
)

// Run expires leases, writes down and tidies until ctx is done.
func (c *Control) Run(ctx context.Context) {
	var loops sync.WaitGroup
	do := func(every time.Duration, what string, job func(context.Context) error) {
		loops.Go(func() {
			t := time.NewTicker(every)
			defer t.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-t.C:
					if err := job(ctx); err != nil && ctx.Err() == nil {
						c.Log.Error(what, "error", err)
					}
				}
			}
		})
	}
	do(writeEvery, "telemetry cannot be written; proxies keep it meanwhile", c.writeTelemetry)
	do(ageEvery, "telemetry cannot be rolled up", c.ageTelemetry)
	do(recordEvery, "an effect cannot be recorded", c.recordEffects)
	do(stepEvery, "the steps of releases cannot be stored; they wait", c.stepReleases)
	do(noticeEvery, "what receivers are to be told cannot be read", c.deliverNotices)
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			loops.Wait()
			c.endTrial()
			c.endReleases()
			c.beside.Wait()
			last, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			c.writeJournal(last)
			if err := c.writeTelemetry(last); err != nil {
				c.Log.Error("the last telemetry is not written", "error", err)
			}
			return
		case now := <-t.C:
			c.expire(now)
			c.endDrills(now)
			c.writeJournal(ctx)
			c.telemetry.Tidy(now)
		}
	}
}

// Trace sets the share of the requests without a trace context that proxies
// trace, 0 to 1. It is called before anything else happens.
func (c *Control) Trace(share float64) { c.ledger.traced = share }

// Traced is that share.
func (c *Control) Traced() float64 { return c.ledger.traced }

// Program is the version of the service.
func (c *Control) Program() string { return c.program }

// Telemetry tells how many sets of names have requests now, and how many
// requests were counted without names.
func (c *Control) Telemetry() (series int, nameless uint64) { return c.telemetry.State() }

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
	c.table, c.tables = nil, nil
	close(c.changed)
	c.changed = make(chan struct{})
	c.hear()
}

// hear wakes who waits for the proxies. The caller holds mu.
func (c *Control) hear() {
	close(c.heard)
	c.heard = make(chan struct{})
}

// tableKey is a caller whose proxies follow one table.
type tableKey struct {
	scope scopeKey
	site  string
}

// maxTables bounds the tables that are kept for explanations.
const maxTables = 16

// tableOf is the table of the rules in force as the proxies of a caller follow it:
// the services that it may call, its site, and the drills that run. Times of
// requests count from Control.started.
func (c *Control) tableOf(k tableKey) *engine.Table {
	c.mu.Lock()
	defer c.mu.Unlock()
	if t := c.tables[k]; t != nil {
		return t
	}
	rs, instances := *c.force.Rules, c.instances()
	sc := c.ledger.scope(k.scope)
	if sc.known {
		knows := func(service string) bool { return sc.services[service] }
		rs.Services = slices.DeleteFunc(slices.Clone(rs.Services), func(s *rules.Service) bool { return !knows(s.Name) })
		instances = slices.DeleteFunc(instances, func(in engine.Instance) bool { return !knows(in.Service) })
	}
	opt := engine.Options{Site: k.site, Now: c.sinceStart()}
	if k.scope.gateway == "" {
		opt.Calls = sc.calls
	}
	for _, d := range c.drills {
		harm := d.Harm.Drill
		harm.Until = d.Harm.Ends.Sub(c.started)
		opt.Drills = append(opt.Drills, harm)
	}
	t, err := engine.Compile(&rs, instances, opt)
	if err != nil {
		return c.before
	}
	if len(c.tables) >= maxTables || c.tables == nil {
		c.tables = map[tableKey]*engine.Table{}
	}
	c.tables[k] = t
	return t
}

// sinceStart is now as the tables for explanations count time.
func (c *Control) sinceStart() time.Duration { return c.now().Sub(c.started) }

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
