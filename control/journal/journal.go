// Package journal writes the activity log: what people did, and what proxies
// reported.
package journal

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/problem"
	"nightjar/store"
)

const (
	maxPending = 4096 // entries that wait for the disk; beyond it the oldest are lost
	writeTime  = 10 * time.Second
)

// Records is what the journal needs of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Activity(ctx context.Context, f store.ActivityFilter) ([]store.Activity, error)
	EachActivity(ctx context.Context, f store.ActivityFilter, each func(store.Activity) bool) error
}

// Journal collects entries in memory and writes them to the store. It is safe for
// concurrent use.
type Journal struct {
	records Records

	writing sync.Mutex // held while entries are written, so that they stay in order

	mu      sync.Mutex // guards pending
	pending []store.Activity
}

// New makes a journal.
func New(records Records) *Journal { return &Journal{records: records} }

// Add adds entries to the log, with who acts in ctx. It never waits for the disk.
func (j *Journal) Add(ctx context.Context, entries ...store.Activity) {
	entries = Entries(ctx, entries...)
	j.mu.Lock()
	defer j.mu.Unlock()
	j.pending = bounded(append(j.pending, entries...))
}

// Entries are entries with who acts in ctx, where they name that person or nobody.
func Entries(ctx context.Context, entries ...store.Activity) store.AddActivity {
	who := actor.Of(ctx)
	out := slices.Clone(entries)
	for i := range out {
		a := &out[i]
		if a.Who == "" {
			a.Who = who.Name
		}
		if a.Who == who.Name && who.Credential != "" {
			a.Credential, a.Address = who.Credential, who.Address
			a.Result = cmp.Or(a.Result, store.ResultDone)
		}
	}
	return out
}

// bounded drops the oldest entries beyond maxPending.
func bounded(entries []store.Activity) []store.Activity {
	if n := len(entries) - maxPending; n > 0 {
		return slices.Delete(entries, 0, n)
	}
	return entries
}

// Write writes pending entries to the store. Those that cannot be written stay
// pending.
func (j *Journal) Write(ctx context.Context) error {
	j.writing.Lock()
	defer j.writing.Unlock()
	j.mu.Lock()
	entries := j.pending
	j.pending = nil
	j.mu.Unlock()
	if len(entries) == 0 {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, writeTime)
	defer stop()
	err := j.records.Apply(ctx, store.AddActivity(entries))
	if err != nil {
		j.mu.Lock()
		defer j.mu.Unlock()
		j.pending = bounded(append(entries, j.pending...))
	}
	return err
}

// subjects are what entries can be about.
var subjects = map[string]store.Subject{
	"":                 "",
	model.AboutRules:   store.AboutRules,
	model.AboutDrills:  store.AboutDrills,
	model.AboutProxies: store.AboutProxies,
	model.AboutPeople:  store.AboutPeople,
	model.AboutGuards:  store.AboutGuards,
}

// List lists entries, newest first.
func (j *Journal) List(ctx context.Context, f model.ActivityFilter) ([]model.ActivityEntry, error) {
	about, isKnown := subjects[f.About]
	if !isKnown {
		return nil, problem.Invalid("about: %q is not rules, drills, proxies, people or guards", f.About)
	}
	j.Write(context.WithoutCancel(ctx)) // the newest belong in the answer; whoever writes regularly reports errors
	entries, err := j.records.Activity(ctx, store.ActivityFilter{
		Service: f.Service,
		Site:    f.Site,
		Who:     f.Who,
		Kind:    f.What,
		About:   about,
		Since:   f.Since,
		Before:  f.Before,
		After:   f.After,
		Limit:   f.Limit,
	})
	return from.Activity(entries), err
}

// Each calls each with all entries from a time on, the oldest first, until it returns
// false.
func (j *Journal) Each(ctx context.Context, since time.Time, each func(model.ActivityEntry) bool) error {
	j.Write(context.WithoutCancel(ctx))
	return j.records.EachActivity(ctx, store.ActivityFilter{Since: since}, func(a store.Activity) bool {
		return each(model.ActivityEntry(a))
	})
}

// Verify checks that each entry follows the one before it, and that none was changed.
func (j *Journal) Verify(ctx context.Context) (model.ActivityChain, error) {
	j.Write(context.WithoutCancel(ctx))
	c := &store.Chain{}
	err := j.records.EachActivity(ctx, store.ActivityFilter{}, c.Add)
	return from.Chain(c), err
}
