// Package follow keeps a proxy in step with the service: the session in which it
// registers under a lease and is sent snapshots, what it has been told so far,
// and the table that requests follow, which is compiled from that.
package follow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// freshTick is how often the file of what is known is marked as up to date.
const freshTick = 10 * time.Second

// Config of a Follower.
type Config struct {
	Server string // URL of the service; what another one told does not count
	Site   string // of the proxy, for failover
	Caller string // whose requests are offered to those who watch
	State  string // file in which what is known is kept; empty: none
	Epoch  time.Time
	Log    *slog.Logger
	Feed   *observe.Feed
	Spans  *observe.Spans

	// Self is the instance beside the proxy as it listens now, in place of what a
	// file says; without an address it takes no calls.
	Self func() engine.Instance
	// IsAlone says that nobody deals out limits of the whole mesh.
	IsAlone bool
	// Prepare is called with rules and instances before they come into force; nil: nothing is.
	Prepare func(*rules.Rules, []engine.Instance)
	// Adopted is called with rules that have just come into force, or nil: it makes
	// the listeners follow. One call at a time.
	Adopted func(*rules.Rules)
}

// Follower is what a proxy follows. Requests read Table alone.
type Follower struct {
	cfg Config

	// Table is what requests follow; nil until the first rules have come. A
	// revision comes into force by one swap.
	Table atomic.Pointer[engine.Table]

	ready     chan struct{}
	readyOnce sync.Once
	wanted    chan struct{}             // a request waits for a token of a limit of the whole mesh
	unsaved   chan struct{}             // what is known is not on disk yet
	stale     atomic.Pointer[time.Time] // see StaleSince
	key       atomic.Pointer[string]    // see Key

	mu        sync.Mutex // guards what follows; never held by a request
	known     known
	rules     *rules.Rules         // of known
	drillEnds map[string]time.Time // of the drills that were heard of
	refuses   error                // why the service is not followed; nil: it is
	isOlder   bool                 // that is because its records are older
	permitted string               // mesh to follow whatever was followed before; empty: none
}

// errAnew means that the service has passed what this proxy follows, and is to tell it
// everything.
var errAnew = errors.New("the service has newer rules than this proxy again")

// New makes a follower that knows nothing yet.
func New(cfg Config) *Follower {
	f := &Follower{cfg: cfg, ready: make(chan struct{}), wanted: make(chan struct{}, 1), unsaved: make(chan struct{}, 1)}
	f.known.Server = cfg.Server
	return f
}

// Ready is closed when the first rules are in force.
func (f *Follower) Ready() <-chan struct{} { return f.ready }

// Revision is the revision in force here; 0: none.
func (f *Follower) Revision() uint {
	if t := f.Table.Load(); t != nil {
		return t.Revision()
	}
	return 0
}

// Rules are the rules in force here; nil: none.
func (f *Follower) Rules() *rules.Rules {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.rules
}

// Key is what the service's own calls show at a gateway; empty: not known yet.
func (f *Follower) Key() string {
	if k := f.key.Load(); k != nil {
		return *k
	}
	return ""
}

// StaleSince is when what the proxy follows was last known to be what the
// service wants; zero: it follows the service now, or has never followed it.
func (f *Follower) StaleSince() time.Time {
	if at := f.stale.Load(); at != nil {
		return *at
	}
	return time.Time{}
}

func (f *Follower) now() time.Duration { return time.Since(f.cfg.Epoch) }

// Follow follows snapshots until ctx is done or they end.
func (f *Follower) Follow(ctx context.Context, snapshots <-chan wire.Snapshot) {
	for {
		select {
		case <-ctx.Done():
			return
		case snap, more := <-snapshots:
			if !more {
				return
			}
			if err := f.apply(snap); err != nil {
				f.cfg.Log.Error("a snapshot cannot be put in force", "error", err)
				continue
			}
			f.getReady()
		}
	}
}

// apply puts a snapshot in force.
func (f *Follower) apply(s wire.Snapshot) error {
	if s.Watches != nil {
		f.cfg.Feed.Set(s.Watches, f.cfg.Caller)
	}
	if s.Traced != nil {
		f.cfg.Spans.SetShare(*s.Traced)
	}
	if s.Key != "" {
		f.key.Store(&s.Key)
	}
	for _, b := range s.LetBack {
		f.Table.Load().LetBack(b.Service, b.Instance, f.now())
	}
	if s.Asides() {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if s.Whole {
		f.refuses = f.foreign(&s)
	} else if f.refuses != nil && f.isOlder && s.Revision > f.known.Revision {
		return errAnew
	}
	if f.refuses != nil {
		return f.refuses
	}
	if f.applyHealth(&s) {
		return nil
	}
	f.known.add(s) // also when it cannot be put in force: the next snapshot builds on it
	return f.adopt()
}

// foreign tells why a whole snapshot is not to be followed: it is of another mesh, or
// of an older state of this one; nil: it is. The caller holds mu.
func (f *Follower) foreign(s *wire.Snapshot) error {
	k := &f.known
	f.isOlder = s.Mesh == k.Mesh && s.Revision < k.Revision
	switch {
	case s.Mesh == "" || k.Mesh == "" || s.Mesh == f.permitted:
		f.permitted = ""
		return nil
	case s.Mesh != k.Mesh:
		return fmt.Errorf("this proxy keeps following mesh %s at revision %d: the service is that of mesh %s. "+
			"If it is the right one, run: nightjar fleet adopt", k.Mesh, k.Revision, s.Mesh)
	case f.isOlder:
		return fmt.Errorf("this proxy keeps following revision %d: the service is at revision %d, with older records. "+
			"If that is right, publish, or run: nightjar fleet adopt", k.Revision, s.Revision)
	}
	return nil
}

// Refuses is why the service is not followed; nil: it is.
func (f *Follower) Refuses() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.refuses
}

// Mesh is the id of the mesh that is followed; empty: none yet.
func (f *Follower) Mesh() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.known.Mesh
}

// permit makes the next whole snapshot of a mesh be followed, whatever was followed
// before. It tells whether that is news.
func (f *Follower) permit(mesh string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if mesh == "" || f.refuses == nil || f.permitted == mesh {
		return false
	}
	f.permitted = mesh
	return true
}

// applyHealth puts a snapshot in force that tells of the health of instances
// alone, at the cost of their versions; false: it is another. The caller holds mu.
func (f *Follower) applyHealth(s *wire.Snapshot) bool {
	table := f.Table.Load()
	if table == nil || !s.IsOfInstances() {
		return false
	}
	for _, in := range s.Instances {
		if _, isKnown := f.known.Instances[in.ID]; !isKnown {
			return false
		}
	}
	if !table.SetHealth(s.Instances, f.now()) {
		return false
	}
	for _, in := range s.Instances {
		f.known.Instances[in.ID] = in
	}
	f.markUnsaved()
	return true
}

// adopt follows what is known from now on. The caller holds mu.
func (f *Follower) adopt() error {
	k := &f.known
	rs := k.rules()
	want := f.want
	if f.cfg.IsAlone {
		want = nil
	}
	instances := k.instances()
	table, err := compile(rs, instances, engine.Options{
		Signal:   want,
		Revision: k.Revision,
		Previous: f.Table.Load(),
		Seed:     uint64(f.cfg.Epoch.UnixNano()),
		Calls:    k.Calls,
		Now:      f.now(),
		Site:     f.cfg.Site,
		Drills:   f.drills(k.Drills),
		Leaves:   wire.Leaves(k.Drains),
	})
	if err != nil {
		return err
	}
	f.rules = rs
	if f.cfg.Prepare != nil {
		f.cfg.Prepare(rs, instances)
	}
	f.Table.Store(table)
	f.markUnsaved()
	f.cfg.Adopted(rs)
	return nil
}

// compile is engine.Compile for rules that nobody here has checked: what it cannot
// bear is an error.
func compile(rs *rules.Rules, instances []engine.Instance, opt engine.Options) (t *engine.Table, err error) {
	defer func() {
		if what := recover(); what != nil {
			t, err = nil, fmt.Errorf("these rules make no sense: %v", what)
		}
	}()
	return engine.Compile(rs, instances, opt)
}

func (f *Follower) markUnsaved() {
	select {
	case f.unsaved <- struct{}{}:
	default:
	}
}

// drills are those that run, with the ends that this proxy keeps to. The caller
// holds mu.
func (f *Follower) drills(list []wire.Drill) []engine.Drill {
	var out []engine.Drill
	ends := map[string]time.Time{}
	for _, d := range list {
		end, heard := f.drillEnds[d.ID]
		if !heard {
			if end = time.Now().Add(time.Duration(d.ForMS) * time.Millisecond); d.Ends.Before(end) {
				end = d.Ends
			}
		}
		ends[d.ID] = end
		d.Drill.Until = end.Sub(f.cfg.Epoch)
		out = append(out, d.Drill)
	}
	f.drillEnds = ends
	return out
}

// Keep writes what is known to the file of Config.State, after every change and a
// second apart at least, until ctx is done, and then once more. A file that cannot
// be written stops nothing.
func (f *Follower) Keep(ctx context.Context) {
	told := ""
	save := func() {
		f.mu.Lock()
		k := f.known.copied()
		f.mu.Unlock()
		if k.Services == nil {
			return
		}
		err := k.save(f.cfg.State)
		switch {
		case err == nil:
			told = ""
		case err.Error() != told:
			told = err.Error()
			f.cfg.Log.Warn("cannot save the state; a start without the service would use older rules",
				"file", f.cfg.State, "error", err)
		}
	}
	fresh := time.NewTicker(freshTick)
	defer fresh.Stop()
	for {
		select {
		case <-fresh.C: // the file says by its time until when it was up to date
			if now := time.Now(); f.Table.Load() != nil && f.StaleSince().IsZero() {
				os.Chtimes(f.cfg.State, now, now)
			}
			continue
		case <-ctx.Done():
			select {
			case <-f.unsaved:
				save()
			default:
			}
			return
		case <-f.unsaved:
			save()
		}
		t := time.NewTimer(time.Second)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
		}
	}
}

// Recall applies the saved state, when the service has not been heard of.
func (f *Follower) Recall() {
	k, at, err := recall(f.cfg.State, f.cfg.Server)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return
	case err != nil:
		f.cfg.Log.Warn("cannot use the saved state", "error", err)
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.Table.Load() != nil {
		return
	}
	if own := f.cfg.Self(); own.Address != "" { // it may have listened elsewhere then
		if self, isKnown := k.Instances[own.ID]; isKnown {
			self.Address = own.Address
			k.Instances[own.ID] = self
		}
	}
	f.known = k
	if err := f.adopt(); err != nil {
		f.cfg.Log.Warn("cannot apply the saved state", "file", f.cfg.State, "error", err)
		return
	}
	f.stale.Store(&at)
	f.cfg.Log.Warn("no service; using the saved state",
		"revision", k.Revision, "stale since", at.Local().Format(time.DateTime))
	f.getReady()
}

// getStale notes that what is followed is not what a service wants, from now on.
func (f *Follower) getStale() {
	if f.Table.Load() != nil && f.StaleSince().IsZero() {
		now := time.Now()
		f.stale.Store(&now)
	}
}

// getReady tells that there are rules in force.
func (f *Follower) getReady() { f.readyOnce.Do(func() { close(f.ready) }) }
