// Package journal writes the activity log: what people did, and what proxies
// reported.
package journal

import (
	"context"
	"slices"
	"sync"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
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

// Add adds entries to the log. It never waits for the disk.
func (j *Journal) Add(entries ...store.Activity) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.pending = bounded(append(j.pending, entries...))
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
	model.AboutGuards:  store.AboutGuards,
}

// List lists entries, newest first.
func (j *Journal) List(ctx context.Context, f model.ActivityFilter) ([]model.ActivityEntry, error) {
	about, isKnown := subjects[f.About]
	if !isKnown {
		return nil, problem.Invalid("about: %q is not rules, drills, proxies or guards", f.About)
	}
	j.Write(context.WithoutCancel(ctx)) // the newest belong in the answer; whoever writes regularly reports errors
	entries, err := j.records.Activity(ctx, store.ActivityFilter{
		Service: f.Service,
		Who:     f.Who,
		About:   about,
		Before:  f.Before,
		Limit:   f.Limit,
	})
	return from.Activity(entries), err
}
