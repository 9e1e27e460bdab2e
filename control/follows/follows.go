// Package follows lets bundles follow branches of Git repositories: what the branch says
// is in force, and what is changed otherwise is put back, or proposed to the branch.
//
// Each bundle is looked at regularly, by one goroutine at a time. A look reads the
// repository, decides (see decide.go), publishes, and pushes what releases have to propose.
package follows

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/journal"
	"nightjar/control/outbox"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/git"
	"nightjar/store"
)

const (
	// StepEvery is how often it is seen to which bundles are to be looked at.
	StepEvery = 250 * time.Millisecond

	usualEvery = 30 * time.Second
	minEvery   = 5 * time.Second
	maxEvery   = 24 * time.Hour
	hookEvery  = time.Second // between two looks that the hook address asks for
	maxFollows = 500
	maxNotify  = 8
	atOnce     = 16 // looks
	storeTime  = 30 * time.Second
)

// Records is what follows need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Follows(ctx context.Context) ([]store.Follow, error)
	Proposals(ctx context.Context) ([]store.Proposal, error)
	Revisions(ctx context.Context, before uint, limit int) ([]store.Revision, error)
}

// Config is what Follows are made of.
type Config struct {
	Records    Records
	Revisions  *revisions.Revisions
	Forecast   func(ctx context.Context, q model.ForecastRequest) (model.Forecast, error)
	Ahead      func() uint // newest revision that a proxy follows
	Outbox     *outbox.Outbox
	Journal    *journal.Journal
	Dir        string                // the data directory, for keys and local copies
	Configured []model.FollowRequest // of the configuration of the service
	Log        *slog.Logger
	Now        func() time.Time
}

// Follows are the bundles that follow a branch. It is safe for concurrent use.
type Follows struct {
	Config
	running sync.WaitGroup // looks
	turns   chan struct{}  // one for each look that may run
	adding  sync.Mutex     // held while a bundle is added or stopped

	mu        sync.Mutex // guards what follows
	list      map[string]*follow
	hooks     map[string]*follow // by the hash of their secret
	proposals []store.Proposal   // the newest first
	last      uint               // number of a proposal
}

// follow is a bundle that follows a branch. mu of Follows guards it, except that repo is
// used by who holds turn alone.
type follow struct {
	record       store.Follow
	isConfigured bool
	hasKey       bool
	repo         *git.Repository
	turn         chan struct{} // holds one value, which who looks takes
	due          time.Time
	hooked       time.Time // when the hook address last asked for a look
	looked       time.Time
	failed       string // why the last look could not read the repository; empty: it could
	told         string // id of the refused commit that receivers were told of
	unproposed   string // why what releases wrote could not be proposed; empty: it could, or nothing is
	decidedAt    uint   // revision for which the newest commit was decided about
	seenAt       uint   // revision for which drift is known
	drift        drift
	isGone       bool
}

// unseen is the revision for which drift is known of a bundle of which it is not.
const unseen = ^uint(0)

// Open continues with what is stored.
func Open(ctx context.Context, c Config) (*Follows, error) {
	f := &Follows{
		Config: c, turns: make(chan struct{}, atOnce), list: map[string]*follow{}, hooks: map[string]*follow{},
	}
	records, err := c.Records.Follows(ctx)
	if err != nil {
		return nil, err
	}
	if f.proposals, err = c.Records.Proposals(ctx); err != nil {
		return nil, err
	}
	for _, p := range f.proposals {
		f.last = max(f.last, p.Number)
	}
	kept := map[string]store.Follow{}
	for _, r := range records {
		isLeft := r.By == byConfiguration && !f.isConfigured(r.Bundle)
		if !isLeft {
			kept[r.Bundle] = r
		} else if err := f.forget(ctx, r.Bundle); err != nil {
			return nil, err
		}
	}
	for _, q := range c.Configured {
		r, key, err := f.record(q, byConfiguration)
		if err != nil {
			return nil, fmt.Errorf("bundle %s: %w", q.Bundle, err)
		}
		if err := f.writeKey(r.Bundle, key); err != nil {
			return nil, err
		}
		old, isKept := kept[r.Bundle]
		kept[r.Bundle] = continued(r, old, isKept)
		if err := c.Records.Apply(ctx, store.SaveFollow{Follow: kept[r.Bundle]}); err != nil {
			return nil, err
		}
	}
	for i, name := range slices.Sorted(maps.Keys(kept)) {
		x, err := f.open(kept[name])
		if err != nil {
			return nil, err
		}
		x.isConfigured = f.isConfigured(name)
		x.due = c.Now().Add(time.Duration(i) * StepEvery) // not all at once
	}
	return f, nil
}

// open makes a follow of a record, and lists it.
func (f *Follows) open(r store.Follow) (*follow, error) {
	key, err := os.ReadFile(f.keyFile(r.Bundle))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	x := &follow{record: r, hasKey: len(key) > 0, turn: make(chan struct{}, 1), seenAt: unseen, told: r.Newest.ID}
	if r.State == model.Unreachable { // until it is looked at
		x.failed = r.Why
	}
	x.turn <- struct{}{}
	source, err := git.Source{URL: r.URL, Branch: r.Branch, Path: r.Path, Key: key, HostKey: r.HostKey}.Clean()
	if err != nil { // such as a key that a restored backup has not
		x.failed = err.Error()
	} else {
		x.repo = git.Open(f.copyOf(r.Bundle), source)
	}
	f.list[r.Bundle], f.hooks[hashOf(r.Hook)] = x, x
	return x, nil
}

// apply stores changes, also for a caller who has left.
func (f *Follows) apply(ctx context.Context, changes ...store.Change) error {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), storeTime)
	defer stop()
	return f.Records.Apply(ctx, changes...)
}

// find is what a bundle follows.
func (f *Follows) find(bundle string) (*follow, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	x := f.list[bundle]
	if x == nil {
		return nil, problem.Missing("bundle %s follows no branch: nightjar follow add %[1]s --repo URL", bundle)
	}
	return x, nil
}

// taken is what a bundle follows, once nobody looks at it. Who takes it gives its turn back.
func (f *Follows) taken(ctx context.Context, bundle string) (*follow, error) {
	for {
		x, err := f.find(bundle)
		if err != nil {
			return nil, err
		}
		select {
		case <-x.turn:
		case <-ctx.Done():
			return nil, problem.Running("bundle %s is being looked at: try again in a moment", bundle)
		}
		if !f.gone(x) {
			return x, nil
		}
		x.turn <- struct{}{}
	}
}

func (f *Follows) gone(x *follow) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return x.isGone
}

// Step starts the looks that are due, and sees to what was changed since the last one.
func (f *Follows) Step(ctx context.Context) error {
	f.catchUp(ctx)
	now := f.Now()
	due := f.those(func(x *follow) bool { return x.repo != nil && !now.Before(x.due) })
	f.mu.Lock()
	slices.SortStableFunc(due, func(a, b *follow) int { return a.due.Compare(b.due) })
	f.mu.Unlock()
	for _, x := range due {
		select {
		case f.turns <- struct{}{}:
		default:
			return nil // who waits longest is next
		}
		select {
		case <-x.turn:
		default: // somebody looks already
			<-f.turns
			continue
		}
		f.running.Go(func() {
			defer func() { x.turn <- struct{}{}; <-f.turns }()
			if !f.gone(x) {
				f.lookOnce(ctx, x, Options{isUnasked: true})
			}
		})
	}
	return nil
}

// those is the bundles for which something holds, by their names.
func (f *Follows) those(holds func(*follow) bool) (out []*follow) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(f.list)) {
		if x := f.list[name]; holds(x) {
			out = append(out, x)
		}
	}
	return out
}

// catchUp sees what revisions since the last time did to the bundles.
func (f *Follows) catchUp(ctx context.Context) {
	now := f.Revisions.Current().Revision.Number
	for _, x := range f.those(func(x *follow) bool { return x.seenAt != now }) {
		f.notice(ctx, x)
	}
}

// Wait waits for looks that were started.
func (f *Follows) Wait() { f.running.Wait() }

// notice sees what revisions since the last look did to a bundle.
func (f *Follows) notice(ctx context.Context, x *follow) {
	select {
	case <-x.turn:
		defer func() { x.turn <- struct{}{} }()
		if !f.gone(x) {
			f.see(ctx, x)
			f.settle(ctx, x)
		}
	default: // the look that runs sees it
	}
}

// Options of a look.
type Options struct {
	RefuseUsedLinks bool // publish access rules even if they refuse links that are in use
	isUnasked       bool // its time has come: nobody asked for it
}

// Look looks at a bundle's repository at once.
func (f *Follows) Look(ctx context.Context, bundle string, o Options) (model.Follow, error) {
	x, err := f.find(bundle)
	if err != nil {
		return model.Follow{}, err
	}
	if x.repo == nil {
		return f.Get(ctx, bundle)
	}
	f.look(ctx, x, o)
	return f.Get(ctx, bundle)
}

// look looks once nobody else does.
func (f *Follows) look(ctx context.Context, x *follow, o Options) {
	select {
	case <-x.turn:
	case <-ctx.Done():
		return
	}
	defer func() { x.turn <- struct{}{} }()
	if !f.gone(x) {
		f.lookOnce(context.WithoutCancel(ctx), x, o)
	}
}

// Hook makes the bundle look whose address has the secret. The result tells whether there
// is one.
func (f *Follows) Hook(secret string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	x := f.hooks[hashOf(secret)]
	if x == nil {
		return false
	}
	now := f.Now()
	if x.hooked.After(now) {
		return true // it is to look already
	}
	x.hooked = x.hooked.Add(hookEvery)
	if x.hooked.Before(now) {
		x.hooked = now
	}
	if x.hooked.Before(x.due) {
		x.due = x.hooked
	}
	return true
}
