// Package trials runs trials: a bounded load against the mesh, with expectations,
// kept as a record.
//
// A trial is planned (what it sends, by which rules), begun (its number is stored,
// its doors are found or started), and watched by one goroutine until its last
// response is there. One trial runs at a time: two would measure each other.
package trials

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/calls"
	"nightjar/control/drills"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/effect"
	"nightjar/core/rules"
	"nightjar/core/trial"
	"nightjar/store"
	"nightjar/wire"
)

const (
	maxTime   = time.Hour
	maxRate   = 50_000 // requests per second, of all loads
	watchTick = 200 * time.Millisecond
	storeTime = 10 * time.Second
	closeTime = 5 * time.Second // for a trial that is running when the service ends
)

// interrupted is why a trial has no end of its own.
const interrupted = "the service ended while it was running"

// Records is what trials need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	LastNumber(ctx context.Context, kind store.Numbered) (uint, error)
	Trials(ctx context.Context, before uint, limit int, visit func(t store.Trial, read func(any) error) error) error
	Trial(ctx context.Context, number uint, into any) (store.Trial, error)
}

// LocalProxy is a proxy in the process of the service that follows snapshots of its
// own.
type LocalProxy struct {
	Caller    string // by which its requests are counted
	Gateway   string // that it serves; empty: none
	Site      string
	Snapshots <-chan wire.Snapshot
}

// Config is what Trials are made of.
type Config struct {
	Records   Records
	Revisions *revisions.Revisions
	Fleet     *fleet.Fleet
	Calls     *calls.Calls
	Drills    *drills.Drills
	Journal   *journal.Journal
	Log       *slog.Logger
	Now       func() time.Time
	// StartProxy starts a local proxy that runs until ctx is done, and returns its
	// address; wait returns when it has ended. nil: drafts cannot be rehearsed.
	StartProxy func(ctx context.Context, p LocalProxy) (address string, wait func(), err error)
}

// Trials runs trials and keeps their records. It is safe for concurrent use.
type Trials struct {
	Config

	mu     sync.Mutex // guards what follows; held while a trial begins
	last   uint       // number of the newest trial
	newest *run       // that is running, or ran last; nil: none since the start
}

// Open marks trials that were running when the service ended as interrupted.
func Open(ctx context.Context, c Config) (*Trials, error) {
	t := &Trials{Config: c}
	var err error
	if t.last, err = c.Records.LastNumber(ctx, store.Trials); err != nil {
		return nil, err
	}
	return t, c.Records.Apply(ctx, store.InterruptTrials{From: model.TrialRunning, To: model.TrialInterrupted})
}

// Start starts a trial, which continues by itself.
func (t *Trials) Start(ctx context.Context, q model.TrialRequest) (model.Trial, error) {
	p, err := t.Plan(q)
	if err != nil {
		return model.Trial{}, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if r := t.newest; r != nil && r.result.Load() == nil {
		return model.Trial{}, problem.Running(
			"trial %d (%s) of %s is running, and two at once would measure each other: wait for its end, or stop it",
			r.record.Number,
			r.record.Name,
			r.by,
		)
	}
	r, err := t.begin(ctx, p, q)
	if err != nil {
		return model.Trial{}, err
	}
	t.newest = r
	t.Journal.Add(ctx, store.Activity{At: r.record.Began, Who: r.by, Kind: "trial-started",
		Detail: fmt.Sprintf("trial %d: %s, for %s", r.record.Number, p.Trial.Name, p.Trial.For)})
	return r.state().view(), nil
}

// Plan is a trial that can be run.
type Plan struct {
	Trial   *rules.Trial
	Rules   *rules.Rules   // that its requests follow
	Changes []rules.Change // of a rehearsal: what the draft changes
}

// Plan finds the trial that is asked for, and checks that it can be run.
func (t *Trials) Plan(q model.TrialRequest) (*Plan, error) {
	now := t.Revisions.Current()
	p := &Plan{Rules: now.Rules}
	bundle, bundles := cmp.Or(q.Bundle, model.MainBundle), now.Revision.Bundles
	if len(q.Rules) > 0 {
		files := from.ToFiles(q.Rules)
		var err error
		if p.Rules, p.Changes, err = t.Revisions.Rules(bundle, files); err != nil {
			return nil, err
		}
		bundles = revisions.With(bundles, bundle, files)
	}
	source := p.Rules
	if len(q.File) > 0 {
		var found []rules.Finding
		source, found = rules.Check(append(revisions.Joined(bundles), from.ToFiles(q.File)...), t.Revisions.Live())
		if rules.Mistakes(found) > 0 {
			return nil, problem.RulesRejected{Findings: found, IsTry: true}
		}
	}
	if err := p.find(source, q.Name); err != nil {
		return nil, err
	}
	if q.For != "" {
		d, err := time.ParseDuration(q.For)
		if err != nil {
			return nil, problem.Invalid("for: %q is not a duration, such as 30s", q.For)
		}
		p.Trial.For = d
	}
	return p, p.check()
}

// find finds the trial by its name; without one, the only one.
func (p *Plan) find(rs *rules.Rules, name string) error {
	var names []string
	for _, t := range rs.Trials {
		if names = append(names, t.Name); t.Name == name || name == "" && len(rs.Trials) == 1 {
			one := *t
			p.Trial = &one
		}
	}
	slices.Sort(names)
	switch {
	case p.Trial == nil && len(names) == 0:
		return problem.Invalid(
			"the rules have no trial: add one in the section trials and publish it, or name its file",
		)
	case p.Trial == nil && name == "":
		return problem.Invalid("the rules have several trials: name one of %s", strings.Join(names, ", "))
	case p.Trial == nil:
		return problem.Missing("there is no trial %q: name %s", name, rules.OneOf(name, names))
	}
	return nil
}

// check tells why the trial cannot be run.
func (p *Plan) check() error {
	t, peak := p.Trial, 0.0
	for i := range t.Load {
		l := &t.Load[i]
		peak += trial.NewArrivals(l, t.WarmUp, t.For, 0).Peak()
		if s := p.Rules.Service(l.To); s != nil && s.Protocol != "" && s.Protocol != "http" {
			return problem.Invalid(
				"service %s speaks %s, and trials send HTTP/1.1: choose another service",
				l.To,
				s.Protocol,
			)
		}
	}
	switch {
	case t.For < time.Second || t.For+t.WarmUp > maxTime:
		return problem.Invalid("for: a trial takes from 1s to %s, with its warm-up, not %s", maxTime, t.For+t.WarmUp)
	case peak > maxRate:
		return problem.Invalid(
			"the loads add up to %.0f requests per second: lower their rates to at most %d",
			peak,
			maxRate,
		)
	case len(t.Load) == 0:
		return problem.Invalid("trial %s has no load: add one", t.Name)
	}
	return nil
}

// Names are the trials in the rules in force.
func (t *Trials) Names() model.TrialNames {
	out := model.TrialNames{Names: []string{}}
	for _, one := range t.Revisions.Current().Rules.Trials {
		out.Names = append(out.Names, one.Name)
	}
	return out
}

// running is the trial that is running, or ran last.
func (t *Trials) running() *run {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.newest
}

// Get is a trial as it is now; number 0 is the newest.
func (t *Trials) Get(ctx context.Context, number uint) (model.Trial, error) {
	if r := t.running(); r != nil && (r.record.Number == number || number == 0) {
		return r.state().view(), nil
	}
	k, err := t.read(ctx, number)
	return k.view(), err
}

// read reads the record of a trial; number 0 is the newest.
func (t *Trials) read(ctx context.Context, number uint) (record, error) {
	var k record
	if number == 0 {
		err := t.Records.Trials(ctx, 0, 1, func(one store.Trial, _ func(any) error) error {
			number = one.Number
			return nil
		})
		if err != nil {
			return k, err
		}
	}
	head, err := t.Records.Trial(ctx, number, &k)
	if errors.Is(err, store.ErrNotFound) {
		return k, problem.Missing("there is no trial %d: \"nightjar trial list\" lists the trials", number)
	}
	k.fill(head)
	return k, err
}

// List lists trials below the number before (0: from the newest), newest first.
func (t *Trials) List(ctx context.Context, before uint, limit int) ([]model.Trial, error) {
	out := []model.Trial{}
	running := t.running()
	err := t.Records.Trials(ctx, before, limit, func(head store.Trial, read func(any) error) error {
		var k record
		if err := read(&k); err != nil {
			return err
		}
		if running != nil && running.record.Number == head.Number {
			k = running.state().summary()
		}
		k.fill(head)
		out = append(out, k.view())
		return nil
	})
	return out, err
}

// Stop ends a trial before its time. What it measured is kept.
func (t *Trials) Stop(ctx context.Context, number uint) (model.Trial, error) {
	r := t.running()
	if r == nil || r.record.Number != number || r.result.Load() != nil {
		if _, err := t.Get(ctx, number); err != nil {
			return model.Trial{}, err
		}
		return model.Trial{}, problem.Invalid(
			"trial %d has ended already: \"nightjar trial show %d\" shows its result",
			number,
			number,
		)
	}
	r.stop(model.TrialStopped, "stopped by "+actor.Name(ctx))
	t.Journal.Add(ctx, store.Activity{At: t.Now().UTC(), Kind: "trial-stopped", Detail: fmt.Sprintf("trial %d", number)})
	select {
	case <-r.done:
	case <-ctx.Done():
	}
	return r.state().view(), nil
}

// Compare compares what two trials measured, as an effect.
func (t *Trials) Compare(ctx context.Context, before, after uint) (model.TrialComparison, error) {
	var out model.TrialComparison
	var sides [2]*effect.Tally
	for i, n := range []uint{before, after} {
		k, err := t.read(ctx, n)
		if err != nil {
			return out, err
		}
		if k.State == model.TrialRunning || k.State == model.TrialInterrupted {
			return out, problem.Invalid(
				"trial %d is %s and has no result to compare: choose one that ended",
				n,
				k.State,
			)
		}
		if sides[i], err = k.tally(); err != nil {
			return out, fmt.Errorf("trial %d cannot be read: %w", n, err)
		}
		summary := k.summary()
		if i == 0 {
			out.Before = summary.view()
		} else {
			out.After = summary.view()
		}
	}
	out.Notes = []string{}
	if !slices.Equal(out.Before.Loads, out.After.Loads) {
		out.Notes = append(out.Notes, "The loads of the two trials are not the same.")
	}
	out.Rows = from.EffectRows(effect.Compare(sides[0], sides[1], func(string) []effect.Target { return nil }))
	return out, nil
}

// Close ends the trial that is running, because the service ends.
func (t *Trials) Close() {
	r := t.running()
	if r == nil || r.result.Load() != nil {
		return
	}
	r.stop(model.TrialInterrupted, interrupted)
	select {
	case <-r.done:
	case <-time.After(closeTime):
	}
}
