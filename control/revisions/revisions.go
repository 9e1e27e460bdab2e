// Package revisions keeps the rules: what is in force, what was published before,
// and what people are editing.
//
// The text of the rules lives in bundles. A revision is the text of all bundles at
// one time. While a release is running, an overlay changes a few routes without
// changing the text: the rules in force are the rules as written, with the overlays
// applied.
//
// Every change takes the same way, Change: decide (under the lock, from what is in
// force), store (one transaction), apply (in memory and to the proxies). What cannot
// be stored has not happened.
package revisions

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	storeTime = 30 * time.Second // for one change
	maxWait   = time.Minute      // for acknowledgements
)

// Records is what revisions need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Revision(ctx context.Context, number uint) (store.Revision, error)
	Revisions(ctx context.Context, before uint, limit int) ([]store.Revision, error)
	CheckedFiles(ctx context.Context) ([]store.Checked, error)
	Draft(ctx context.Context, bundle, by string) (store.Draft, error)
	Drafts(ctx context.Context) ([]store.Draft, error)
}

// Fleet is the proxies, which get the rules.
type Fleet interface {
	SetRules(rs *rules.Rules, revision uint, since time.Time)
	Await(ctx context.Context, revision uint, since time.Time, limit time.Duration) model.Rollout
	Versions() (rules, instances uint64)
	Ahead() uint
}

// Config is what Revisions are made of.
type Config struct {
	Records Records
	Fleet   Fleet
	Journal *journal.Journal
	Live    func() rules.Live // the mesh as it is now, for the checker
	Now     func() time.Time
}

// Revisions are the rules in force and their history. It is safe for concurrent
// use.
type Revisions struct {
	Config
	dependent Dependent

	changing sync.Mutex // held from decide to apply

	mu      sync.Mutex // guards current
	current Current

	checking sync.Mutex // guards unpublished and what it was computed from
	checked  *unpublishedFiles

	touches *Touches

	ending  sync.Mutex              // guards written
	written map[uint][]rules.Change // what revisions of releases changed in the text, by number

	warning  sync.Mutex // guards warnings
	warnings warnings
}

// Current is what is in force. Nobody may change what it points to.
type Current struct {
	Revision store.Revision // with the text of all bundles
	Written  *rules.Rules   // as the text says
	Rules    *rules.Rules   // as proxies follow them: Written with Overlays
	Overlays []Overlay      // of the releases that are running, by their numbers
	Since    time.Time      // when proxies began to get it

	// Newest is the highest number that a revision had, in a decision: the next one has
	// the next number. It is higher than that of Revision when the records are those of a
	// backup, and proxies follow what was published after it.
	Newest uint
}

// Overlay is what a running release changes besides the text.
type Overlay struct {
	release.Overlay
	Number   uint // of the release
	Revision uint // that put the overlay in force
}

// Overlay is the overlay of a release; false: it has none.
func (c *Current) Overlay(number uint) (Overlay, bool) {
	for _, o := range c.Overlays {
		if o.Number == number {
			return o, true
		}
	}
	return Overlay{}, false
}

// Decision is a change that was decided on.
type Decision struct {
	Revisions []store.Revision // new ones, in order, each with the next number; nil Bundles: the text stays
	Written   *rules.Rules     // of the last revision's text; nil: as before
	Overlays  []Overlay        // in force afterwards
	Changes   []store.Change   // that are stored with the revisions
	Apply     func()           // is called when all is stored; may be nil
}

// Dependent is whoever changes routes besides the text: releases.
type Dependent interface {
	// Published decides what becomes of the releases when a person publishes a
	// revision. It is called with the lock of changes held.
	Published(rev store.Revision, rs *rules.Rules, changes []rules.Change) (Consequence, error)
}

// Consequence is what a revision means for releases.
type Consequence struct {
	Withdrawn []string       // names of releases whose routes it changes
	Ended     []uint         // their numbers
	Changes   []store.Change // of their records
	Apply     func()         // is called when all is stored
}

// Open reads the rules in force.
func Open(ctx context.Context, c Config) (*Revisions, error) {
	rev, err := c.Records.Revision(ctx, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	written, found := rules.Check(Joined(rev.Bundles), rules.Live{})
	if n := rules.Mistakes(found); n > 0 {
		return nil, fmt.Errorf(
			"revision %d, which is in force, has %d mistakes for this program, the first at %s: %s. "+
				"Start the program that published it",
			rev.Number,
			n,
			found[0].At,
			found[0].Message,
		)
	}
	overlays, err := overlaysOf(&rev)
	if err != nil {
		return nil, err
	}
	r := &Revisions{Config: c, touches: &Touches{}}
	newest, err := c.Records.Revisions(ctx, 0, maxTouches)
	if err != nil {
		return nil, err
	}
	if len(newest) == maxTouches { // there may be others before them
		newest[len(newest)-1].Touched = nil
	}
	slices.Reverse(newest)
	r.touches.add(newest...)
	r.set(
		Current{Revision: rev, Written: written, Rules: applied(written, overlays), Overlays: overlays, Since: rev.At},
	)
	return r, nil
}

// SetDependent names who changes routes besides the text. It is called once,
// before anything is published.
func (r *Revisions) SetDependent(d Dependent) { r.dependent = d }

// Current is what is in force.
func (r *Revisions) Current() Current {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.current
}

// Touches is what the newest revisions changed.
func (r *Revisions) Touches() *Touches { return r.touches }

// set puts rules in force.
func (r *Revisions) set(c Current) {
	r.mu.Lock()
	r.current = c
	r.mu.Unlock()
	r.Fleet.SetRules(c.Rules, c.Revision.Number, c.Since)
}

func applied(written *rules.Rules, overlays []Overlay) *rules.Rules {
	list := make([]release.Overlay, len(overlays))
	for i, o := range overlays {
		list[i] = o.Overlay
	}
	return release.Apply(written, list)
}

// Change decides on a change, stores it and applies it, one at a time. A caller
// that leaves after the decision does not stop it.
func (r *Revisions) Change(ctx context.Context, decide func(Current) (Decision, error)) error {
	r.changing.Lock()
	defer r.changing.Unlock()
	now := r.Current()
	now.Newest = max(now.Revision.Number, r.Fleet.Ahead())
	d, err := decide(now)
	if err != nil {
		return err
	}
	return r.commit(ctx, now, d)
}

// commit stores a decision and applies it. The caller holds changing.
func (r *Revisions) commit(ctx context.Context, now Current, d Decision) error {
	base := now.Revision.Base
	if base == 0 {
		base = now.Revision.Number
	}
	bundles := now.Revision.Bundles
	next := now
	if len(d.Revisions) > 0 {
		next.Overlays = d.Overlays
		if d.Written != nil {
			next.Written = d.Written
		}
		next.Rules = applied(next.Written, next.Overlays)
	}
	var changes []store.Change
	for i := range d.Revisions {
		rev := &d.Revisions[i]
		if rev.Touched == nil {
			rev.Touched = touched(now.Rules, next.Rules)
		}
		if rev.Bundles != nil {
			base, bundles = rev.Number, rev.Bundles
		} else {
			rev.Base = base
		}
		changes = append(changes, store.AddRevision{Revision: *rev})
	}
	changes = append(changes, d.Changes...)
	if len(changes) > 0 {
		ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), storeTime)
		defer stop()
		if err := r.Records.Apply(ctx, changes...); err != nil {
			return fmt.Errorf("the change could not be stored, so nothing has changed: %w", err)
		}
	}
	if n := len(d.Revisions); n > 0 {
		next.Revision, next.Since = d.Revisions[n-1], r.Now()
		next.Revision.Bundles = bundles
		r.touches.add(d.Revisions...)
		r.set(next)
		r.log(ctx, next.Since, now.Revision.Number, d.Revisions)
	}
	if d.Apply != nil {
		d.Apply()
	}
	return nil
}

// touched is rules.Touched, and never nil.
func touched(before, after *rules.Rules) []string {
	return append([]string{}, rules.Touched(before, after)...)
}

// log adds revisions to the activity log; before is the one in force until then.
func (r *Revisions) log(ctx context.Context, at time.Time, before uint, list []store.Revision) {
	for _, rev := range list {
		detail := fmt.Sprintf("revision %d", rev.Number)
		if rev.Message != "" {
			detail += ": " + rev.Message
		}
		entry := store.Activity{At: at.UTC(), Who: rev.Author, Kind: rev.Kind, Detail: detail, Revision: rev.Number}
		if rev.Commit != "" { // its author is whom somebody wrote into it
			entry.Who = actor.Name(ctx)
			entry.Detail += fmt.Sprintf(" (commit %.10s", rev.Commit)
			if rev.Author != entry.Who {
				entry.Detail += " by " + rev.Author
			}
			entry.Detail += ")"
		}
		entry.Before, entry.After = fmt.Sprintf("revision %d", before), fmt.Sprintf("revision %d", rev.Number)
		r.Journal.Add(ctx, entry)
		before = rev.Number
	}
}

// overlaysOf reads what releases changed at a revision.
func overlaysOf(rev *store.Revision) ([]Overlay, error) {
	out := make([]Overlay, len(rev.Overlays))
	for i, o := range rev.Overlays {
		out[i] = Overlay{Number: o.Release, Revision: o.Revision}
		if err := json.Unmarshal([]byte(o.Text), &out[i].Overlay); err != nil {
			return nil, fmt.Errorf(
				"what release %d changes at revision %d cannot be read: %w",
				o.Release,
				rev.Number,
				err,
			)
		}
	}
	return out, nil
}

// RulesOf are the rules that were in force at a revision, with what releases
// changed.
func RulesOf(rev *store.Revision) (*rules.Rules, error) {
	overlays, err := overlaysOf(rev)
	if err != nil {
		return nil, err
	}
	return applied(WrittenOf(rev), overlays), nil
}

// WrittenOf are the rules as the text of a revision says.
func WrittenOf(rev *store.Revision) *rules.Rules {
	rs, _ := rules.Check(Joined(rev.Bundles), rules.Live{})
	return rs
}
