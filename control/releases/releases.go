// Package releases drives releases: it lets time pass for each, hands it what its
// versions answered, and carries out what it decides.
//
// The state machine of a release is release.Run, of package core/release. A step is
// taken on a copy of the run: decide on the copy, store the copy with its events,
// judgements, notices and revision in one transaction, and only then continue with
// the copy. All steps go through revisions.Revisions.Change, so a release and a
// person never change the rules at the same time.
package releases

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/calls"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/outbox"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/wire"
)

const (
	// StepEvery is how often time passes for releases.
	StepEvery = 200 * time.Millisecond

	glanceEvery = time.Second
	lingerTime  = 3 * time.Second // how long requests in flight count after the end
	// of a step, to write completed releases into the rules; others wait for the next step
	endsTime   = 100 * time.Millisecond
	maxRunning = 2000   // at once
	baseTime   = 5 * 60 // seconds before the start by which the old version is measured
)

// Records is what releases need of the store.
type Records interface {
	Revision(ctx context.Context, number uint) (store.Revision, error)
	LastNumber(ctx context.Context, kind store.Numbered) (uint, error)
	Releases(ctx context.Context, q store.ReleaseQuery, visit func(r store.Release, read func(any) error) error) error
	Judgements(ctx context.Context, release uint, limit int, visit func(read func(any) error) error) error
	ReleaseEvents(ctx context.Context, release uint, limit int, visit func(read func(any) error) error) error
	NoticesOf(ctx context.Context, release uint, limit int) ([]store.Notice, error)
}

// Figures is what proxies counted.
type Figures interface {
	Sum(ctx context.Context, from, to int64, visit telemetry.Visit) error
}

// Config is what Releases are made of.
type Config struct {
	Records   Records
	Revisions *revisions.Revisions
	Fleet     *fleet.Fleet
	Figures   Figures
	Calls     *calls.Calls
	Outbox    *outbox.Outbox
	Journal   *journal.Journal
	Log       *slog.Logger
	Now       func() time.Time
}

// Releases are the releases that are running. It is safe for concurrent use.
//
// Who holds the lock of revisions.Change may read everything; mu is held to write,
// and by those who only read.
type Releases struct {
	Config
	counters counters
	asking   sync.WaitGroup // of receivers
	loads    sync.WaitGroup

	mu       sync.Mutex // guards what follows
	running  map[uint]*running
	last     uint // number of the newest release
	isClosed bool // nothing is started any more
}

// running is a release that is running, or ended a moment ago.
type running struct {
	number uint
	run    *release.Run // never changed in place

	counter  *counter
	glanced  time.Time
	step     int                // that counter and load are of
	asking   context.CancelFunc // nil: nobody is asked
	load     *steadyLoad        // nil: none is sent
	loadNote string             // why none could be sent, as it was reported last
}

// Open reads the releases that were running when the service ended.
func Open(ctx context.Context, c Config) (*Releases, error) {
	r := &Releases{Config: c, running: map[uint]*running{}}
	var err error
	if r.last, err = c.Records.LastNumber(ctx, store.Releases); err != nil {
		return nil, err
	}
	err = c.Records.Releases(
		ctx,
		store.ReleaseQuery{Limit: 2 * maxRunning, OnlyGoing: true},
		func(head store.Release, read func(any) error) error {
			x := &running{number: head.Number, run: &release.Run{}}
			if err := read(x.run); err != nil {
				return err
			}
			x.run.Wake(r.Now())
			r.running[x.number] = x
			r.recount(x)
			return nil
		},
	)
	if err != nil {
		return nil, err
	}
	c.Revisions.SetDependent(r)
	return r, nil
}

// recount counts for the step that is in force, from nothing.
func (r *Releases) recount(x *running) {
	if x.counter != nil {
		r.counters.end(x.counter)
	}
	p := &x.run.Plan
	x.step = x.run.Step
	x.counter = &counter{
		service:  p.Service,
		from:     p.From,
		to:       p.To,
		routes:   map[release.Place]bool{},
		isDark:   x.run.Now().Kind == release.Dark,
		revision: x.run.Revision,
		since:    r.Now().Unix(),
		taken:    r.Now(),
		seenAt:   r.Now(),
	}
	o, _ := x.run.Overlay()
	for _, at := range x.run.Places {
		x.counter.routes[at] = true
		x.counter.routes[release.Place{Ladder: at.Ladder, Route: o.CohortRoute(at.Route)}] = true
	}
	r.counters.begin(x.counter)
}

// Count counts what a proxy reported of the second at.
func (r *Releases) Count(d *wire.Delta, at int64) { r.counters.add(d, at) }

// all are the releases that are running, by number.
func (r *Releases) all() []*running {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]*running, 0, len(r.running))
	for _, n := range slices.Sorted(maps.Keys(r.running)) {
		out = append(out, r.running[n])
	}
	return out
}

// Start starts a release that the rules in force declare. It continues by itself.
func (r *Releases) Start(ctx context.Context, q model.StartReleaseRequest) (model.Release, error) {
	by := actor.Name(ctx)
	x := &running{}
	err := r.Revisions.Change(ctx, func(now revisions.Current) (revisions.Decision, error) {
		p, err := declared(now.Written, q.Name)
		if err != nil {
			return revisions.Decision{}, err
		}
		places, err := release.Places(now.Written, p)
		if err != nil {
			return revisions.Decision{}, problem.InvalidRequest{Why: err.Error()}
		}
		if err := r.startable(&now, p, places); err != nil {
			return revisions.Decision{}, err
		}
		at := r.Now().UTC()
		base, err := r.baseOf(ctx, p, places, at)
		if err != nil {
			return revisions.Decision{}, err
		}
		x.number, x.step = r.last+1, -1
		return r.decide(ctx, now, []change{{x, release.Start(p, places, base, by, at)}})
	})
	if err != nil {
		return model.Release{}, err
	}
	out := view(x.number, r.current(x))
	r.log(ctx, x, "release-started", fmt.Sprintf("%s to %s", out.From, out.To))
	return out, nil
}

// current is the run of a release.
func (r *Releases) current(x *running) *release.Run {
	r.mu.Lock()
	defer r.mu.Unlock()
	return x.run
}

func (r *Releases) log(ctx context.Context, x *running, kind, detail string) {
	p := &r.current(x).Plan
	text := fmt.Sprintf("release %d: %s", x.number, p.Name)
	if detail != "" {
		text += ", " + detail
	}
	r.Journal.Add(
		ctx,
		store.Activity{
			At:      r.Now().UTC(),
			Kind:    kind,
			Service: p.Service,
			Version: p.To,
			Detail:  text,
		},
	)
}

// declared finds a release in the rules by its name; without one, the only one.
func declared(rs *rules.Rules, name string) (*rules.Release, error) {
	var names []string
	for _, p := range rs.Releases {
		if names = append(names, p.Name); p.Name == name || name == "" && len(rs.Releases) == 1 {
			return p, nil
		}
	}
	switch {
	case len(names) == 0:
		return nil, problem.Invalid(
			"the rules in force declare no release: add one in the section releases and publish it",
		)
	case name == "":
		return nil, problem.Invalid("the rules declare several releases: name one of %s", strings.Join(names, ", "))
	}
	return nil, problem.Missing("the rules in force declare no release %s: name %s", name, rules.OneOf(name, names))
}

// startable tells why a release cannot start now.
func (r *Releases) startable(now *revisions.Current, p *rules.Release, places []release.Place) error {
	s := now.Written.Service(p.Service)
	if s != nil && s.Protocol == "tcp" {
		return problem.Invalid(
			"service %s speaks tcp, which has no requests to judge by: choose a service that speaks http or grpc",
			p.Service,
		)
	}
	if err := r.isFree(p, places); err != nil {
		return err
	}
	o := release.OverlayAt(p, places, release.Step{})
	for _, at := range places {
		rt := now.Written.Route(at.Ladder, at.Route)
		if p.Dark > 0 && rt.Mirror != nil {
			return problem.Invalid(
				"route %s of %s mirrors to %s already, and a dark stage needs the mirror: remove mirror, or dark",
				at.Route,
				at.Ladder,
				rt.Mirror.To,
			)
		}
		if name := o.CohortRoute(at.Route); p.FirstTo != nil && now.Written.Route(at.Ladder, name) != nil {
			return problem.Invalid(
				"%s has a route %s, which the cohort's route would be called: give the release another name",
				at.Ladder,
				name,
			)
		}
	}
	if !r.Fleet.HasInstance(p.Service, p.To) {
		return problem.Invalid("version %s of %s has no instance now: start one first", p.To, p.Service)
	}
	return nil
}

// isFree tells whether no running release is in the way of another.
func (r *Releases) isFree(p *rules.Release, places []release.Place) error {
	all := r.all()
	if len(all) >= maxRunning {
		return problem.Running("%d releases are running: wait until some have ended", len(all))
	}
	for _, x := range all {
		run := r.current(x)
		if run.State.Over() && !run.IsEnding() {
			continue
		}
		if run.Plan.Name == p.Name {
			return problem.Running(
				"release %s is running already, as number %d: \"nightjar release show %s\" shows it",
				p.Name,
				x.number,
				p.Name,
			)
		}
		for _, at := range run.Places {
			if slices.Contains(places, at) {
				return problem.Running(
					"release %s is changing route %s of %s: wait for its end, or withdraw it",
					run.Plan.Name,
					at.Route,
					at.Ladder,
				)
			}
		}
	}
	return nil
}

// baseOf is what the old version answered before the start.
func (r *Releases) baseOf(
	ctx context.Context,
	p *rules.Release,
	places []release.Place,
	now time.Time,
) (*stats.Counts, error) {
	c := counter{service: p.Service, from: p.From, to: p.To, routes: map[release.Place]bool{}}
	for _, at := range places {
		c.routes[at] = true
	}
	err := r.Figures.Sum(ctx, now.Unix()-baseTime, now.Unix(), func(n *telemetry.Names, _ uint, counts *stats.Counts) {
		if n.Service == p.Service {
			c.add(n, counts)
		}
	})
	return &c.fresh.From, err
}

// Act does what a person wants of the release of a name (the newest run) or number:
// one of the acts of api/model. A completed release can be withdrawn.
func (r *Releases) Act(ctx context.Context, name, act string, q model.ReleaseAction) (model.Release, error) {
	by := actor.Name(ctx)
	var x *running
	var next *release.Run
	err := r.Revisions.Change(ctx, func(now revisions.Current) (revisions.Decision, error) {
		var err error
		if x, err = r.find(ctx, &now, name); err != nil {
			return revisions.Decision{}, err
		}
		next = x.run.Copy()
		if err := r.act(ctx, &now, next, act, by, q.Why); err != nil {
			return revisions.Decision{}, err
		}
		d, err := r.decide(ctx, now, []change{{x, next}})
		if err == nil && act == model.ActFinish && next.State == release.Held { // its end cannot be written
			err = problem.InvalidRequest{Why: next.Why}
		}
		return d, err
	})
	if err != nil {
		return model.Release{}, err
	}
	r.log(ctx, x, "release-"+act, "")
	return view(x.number, next), nil
}

// act does what a person wants to a run.
func (r *Releases) act(ctx context.Context, now *revisions.Current, run *release.Run, act, by, why string) error {
	at := r.Now().UTC()
	switch act {
	case model.ActHold:
		return run.Hold(at, by, why)
	case model.ActResume:
		return run.Resume(at, by, why)
	case model.ActSkip:
		return run.Skip(at, by, why)
	case model.ActFinish:
		return run.Finish(at, by, why)
	case model.ActWithdraw:
		if run.State != release.Completed {
			return run.Withdraw(at, by, why)
		}
		if err := r.undoable(ctx, now, run); err != nil {
			return err
		}
		return run.Undo(at, by, why)
	}
	return problem.Invalid("a release cannot be told to %s: use hold, resume, skip, withdraw or finish", act)
}

// undoable tells why a completed release cannot be withdrawn.
func (r *Releases) undoable(ctx context.Context, now *revisions.Current, run *release.Run) error {
	rev, err := r.Records.Revision(ctx, run.Revision)
	if err != nil {
		return err
	}
	o, _ := run.Overlay()
	changes := rules.Diff(revisions.WrittenOf(&rev), now.Written)
	if what := release.Touched(changes, now.Written, &o); what != "" {
		return problem.Invalid(
			"%s was changed after release %s wrote it in revision %d: publish the rules that you want instead",
			what,
			run.Plan.Name,
			run.Revision,
		)
	}
	return nil
}

// find is the release of a name (its newest run) or number, running or not.
func (r *Releases) find(ctx context.Context, now *revisions.Current, name string) (*running, error) {
	for _, x := range slices.Backward(r.all()) {
		if r.current(x).Plan.Name == name || strconv.Itoa(int(x.number)) == name {
			return x, nil
		}
	}
	x, err := r.read(ctx, name)
	if err != nil || x != nil {
		return x, err
	}
	for _, p := range now.Written.Releases {
		if p.Name == name {
			return nil, problem.Missing(
				"release %s was never started: start it with \"nightjar release start %s\"",
				name,
				name,
			)
		}
	}
	return nil, problem.Missing("there is no release %s: \"nightjar release list\" lists the releases", name)
}

// read reads the newest run of a name, or the one of a number, from the store; nil:
// there is none.
func (r *Releases) read(ctx context.Context, name string) (x *running, err error) {
	q := store.ReleaseQuery{Name: name, Limit: 1}
	n, perr := strconv.ParseUint(name, 10, 32)
	isNumber := perr == nil && n > 0
	if isNumber {
		q = store.ReleaseQuery{Before: uint(n) + 1, Limit: 1}
	}
	err = r.Records.Releases(ctx, q, func(head store.Release, read func(any) error) error {
		if isNumber && head.Number != uint(n) {
			return nil
		}
		x = &running{number: head.Number, run: &release.Run{}}
		err := read(x.run)
		x.step = x.run.Step
		return err
	})
	return x, err
}

// Close ends what runs for releases. They continue when the service does.
func (r *Releases) Close() {
	r.Revisions.Change(context.Background(), func(revisions.Current) (revisions.Decision, error) {
		r.mu.Lock()
		r.isClosed = true
		r.mu.Unlock()
		for _, x := range r.all() {
			x.endLoad()
			if x.asking != nil {
				x.asking()
			}
		}
		return revisions.Decision{}, nil
	})
	r.asking.Wait()
	r.loads.Wait()
}
