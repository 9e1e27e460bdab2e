// Package drills starts, stops and ends drills: failures that are injected for a
// limited time. Each proxy ends a drill at its time by its own clock, even when the
// service is gone; what ends here is only the record.
package drills

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

const (
	maxTime    = time.Hour
	maxRunning = 20          // at once
	maxRecall  = 1000        // records that are looked at after a start
	maxSettle  = time.Second // for proxies to acknowledge a drill
)

// Records is what drills need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Drills(ctx context.Context, limit int) ([]store.Drill, error)
	LastNumber(ctx context.Context, kind store.Numbered) (uint, error)
}

// Fleet is where drills are carried out.
type Fleet interface {
	SetDrills(list []wire.Drill)
	Settle(ctx context.Context, limit time.Duration)
	Names() fleet.Names
}

// Drills are the drills that are running. It is safe for concurrent use.
type Drills struct {
	records Records
	fleet   Fleet
	journal *journal.Journal
	now     func() time.Time

	changing sync.Mutex // held while a drill starts or ends; guards last
	last     uint       // number of the newest drill

	mu      sync.Mutex // guards running, whose elements never change
	running []store.Drill
}

// Open reads the drills that are still running, and gives them to the fleet.
func Open(ctx context.Context, records Records, f Fleet, j *journal.Journal, now func() time.Time) (*Drills, error) {
	d := &Drills{records: records, fleet: f, journal: j, now: now}
	var err error
	if d.last, err = records.LastNumber(ctx, store.Drills); err != nil {
		return nil, err
	}
	list, err := records.Drills(ctx, maxRecall)
	if err != nil {
		return nil, err
	}
	for _, one := range list {
		if isRunning(one, now()) {
			d.running = append(d.running, one)
		}
	}
	d.set(d.running)
	return d, nil
}

// set replaces the running drills, here and in the proxies.
func (d *Drills) set(running []store.Drill) {
	d.mu.Lock()
	d.running = running
	d.mu.Unlock()
	d.fleet.SetDrills(d.Specs())
}

// list is the running drills.
func (d *Drills) list() []store.Drill {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running
}

// Specs are the running drills as proxies get them.
func (d *Drills) Specs() []wire.Drill {
	out := []wire.Drill{}
	for _, one := range d.list() {
		out = append(out, one.Spec)
	}
	return out
}

// Running are the drills that are running.
func (d *Drills) Running() []model.Drill {
	out := []model.Drill{}
	for _, one := range d.list() {
		out = append(out, view(one, d.now()))
	}
	return out
}

// List lists drills, newest first: those that are running and those that ran.
func (d *Drills) List(ctx context.Context, limit int) ([]model.Drill, error) {
	list, err := d.records.Drills(ctx, limit)
	out := make([]model.Drill, 0, len(list))
	for _, one := range list {
		out = append(out, view(one, d.now()))
	}
	return out, err
}

func isRunning(d store.Drill, now time.Time) bool { return d.Stopped.IsZero() && now.Before(d.Ends) }

// view is a drill as the API shows it.
func view(d store.Drill, now time.Time) model.Drill {
	s := d.Spec
	out := model.Drill{
		ID:        s.ID,
		Service:   s.Service,
		Version:   s.Version,
		Site:      s.Site,
		Instance:  s.Instance,
		When:      d.When,
		By:        d.By,
		Began:     d.Began,
		Ends:      d.Ends,
		Target:    Target(s.Drill),
		What:      what(s.Drill),
		IsRunning: isRunning(d, now),
	}
	if !d.Stopped.IsZero() {
		out.Stopped = &d.Stopped
	}
	return out
}

// what is what a drill does, in words.
func what(s engine.Drill) string {
	var parts []string
	if s.Down {
		parts = append(parts, "down")
	}
	if s.Delay > 0 {
		parts = append(parts, fmt.Sprintf("every attempt is delayed by %s", s.Delay))
	}
	if s.Fail > 0 {
		parts = append(parts, fmt.Sprintf("%s%% of the attempts fail with %d", s.Fail, s.Status))
	}
	return strings.Join(parts, ", and ")
}

// Target is what a drill affects, in words.
func Target(s engine.Drill) string {
	out := cmp.Or(s.Service, "everything")
	if s.Version != "" {
		out += "/" + s.Version
	}
	if s.Instance != "" {
		out += ", instance " + s.Instance
	}
	if s.Site != "" {
		out += " at " + s.Site
	}
	return out
}

// Start starts a drill. It returns when the connected proxies have it in force; it does
// not wait for a slow one for longer than a second.
func (d *Drills) Start(ctx context.Context, q model.DrillRequest) (model.Drill, error) {
	out, err := d.start(ctx, q)
	if err == nil {
		d.fleet.Settle(ctx, maxSettle)
	}
	return out, err
}

func (d *Drills) start(ctx context.Context, q model.DrillRequest) (model.Drill, error) {
	spec, length, err := read(q)
	if err != nil {
		return model.Drill{}, err
	}
	d.changing.Lock()
	defer d.changing.Unlock()
	if n := len(d.list()); n >= maxRunning {
		return model.Drill{}, problem.Invalid("%d drills are running: stop one first", n)
	}
	if err := existing(spec, d.fleet.Names()); err != nil {
		return model.Drill{}, err
	}
	now := d.now().UTC()
	one := store.Drill{
		Number: d.last + 1,
		By:     actor.Name(ctx),
		When:   q.When,
		Began:  now,
		Ends:   now.Add(length),
	}
	spec.ID = fmt.Sprintf("drill-%d", one.Number)
	one.Spec = wire.Drill{Drill: spec, Ends: one.Ends, ForMS: length.Milliseconds()}
	if err := d.records.Apply(ctx, store.AddDrill{Drill: one}); err != nil {
		return model.Drill{}, fmt.Errorf("the drill could not be stored: %w", err)
	}
	d.last = one.Number
	d.set(append(slices.Clone(d.list()), one))
	out := view(one, now)
	d.log(ctx, one, now, "drill-started", one.By, fmt.Sprintf("%s: %s: %s, for %s", out.ID, out.Target, out.What, length))
	return out, nil
}

func (d *Drills) log(ctx context.Context, one store.Drill, at time.Time, kind, who, detail string) {
	d.journal.Add(
		ctx,
		store.Activity{
			At:      at,
			Who:     who,
			Kind:    kind,
			Service: one.Spec.Service,
			Version: one.Spec.Version,
			Site:    one.Spec.Site,
			Detail:  detail,
		},
	)
}

// read checks a request for a drill by itself.
func read(q model.DrillRequest) (spec engine.Drill, length time.Duration, err error) {
	no := func(format string, args ...any) (engine.Drill, time.Duration, error) {
		return spec, 0, problem.Invalid(format, args...)
	}
	length, err = time.ParseDuration(q.For)
	if err != nil || length < time.Second || length > maxTime {
		return no("for: a drill takes from 1s to 1h, such as 30s, not %q", q.For)
	}
	spec = engine.Drill{
		Service:  q.Service,
		Version:  q.Version,
		Site:     q.Site,
		Instance: q.Instance,
		Down:     q.Down,
	}
	if q.Fail != "" {
		if spec.Fail, err = rules.ParsePercent(q.Fail); err != nil || spec.Fail == 0 {
			return no("fail: %q is not a share above 0, such as 30%%", q.Fail)
		}
		if spec.Status = cmp.Or(q.Status, 503); spec.Status < 500 || spec.Status > 599 {
			return no("status: attempts fail with a status from 500 to 599, not %d", spec.Status)
		}
	}
	if q.Delay != "" {
		if spec.Delay, err = time.ParseDuration(q.Delay); err != nil || spec.Delay <= 0 ||
			spec.Delay > rules.MaxTimeout {
			return no("delay: %q is not a duration, such as 2s", q.Delay)
		}
	}
	switch {
	case !spec.Down && spec.Fail == 0 && spec.Delay == 0:
		return no("the drill does nothing: set fail, delay or down")
	case spec.Down && (spec.Fail > 0 || spec.Delay > 0):
		return no("instances that are down get no requests: leave out fail and delay, or down")
	case spec.Down && q.When != "":
		return no("down affects every request to the instances: leave out when, or use fail: 100%% instead of down")
	case spec.Service == "" && spec.Site == "":
		return no("the drill would affect everything: name a service or a site")
	case spec.Instance != "" && spec.Service == "":
		return no("instance %s of which service? Name the service", spec.Instance)
	case spec.Version != "" && spec.Service == "":
		return no("version %s of which service? Name the service", spec.Version)
	}
	var found []rules.Finding
	if spec.When, found = rules.ReadWhen("when", q.When); rules.Mistakes(found) > 0 {
		return no("when: %s; expected: %s", found[0].Message, found[0].Expected)
	}
	return spec, length, nil
}

// existing tells whether what a drill names exists.
func existing(s engine.Drill, have fleet.Names) error {
	switch {
	case s.Service != "" && !have.Services[s.Service]:
		return problem.Missing("there is no service %s: name %s", s.Service, oneOf(s.Service, have.Services))
	case s.Version != "" && !have.Versions[s.Service+"/"+s.Version]:
		return problem.Missing(
			"service %s has no version %s: \"nightjar services %s\" lists its versions",
			s.Service,
			s.Version,
			s.Service,
		)
	case s.Instance != "" && !have.Instances[s.Service][s.Instance]:
		return problem.Missing(
			"service %s has no instance %s: name %s",
			s.Service,
			s.Instance,
			oneOf(s.Instance, have.Instances[s.Service]),
		)
	case s.Site != "" && !have.Sites[s.Site]:
		return problem.Missing("no instance runs at site %s: name %s", s.Site, oneOf(s.Site, have.Sites))
	}
	return nil
}

func oneOf(name string, have map[string]bool) string {
	return rules.OneOf(name, slices.Sorted(maps.Keys(have)))
}

// Stop ends a drill before its time. It returns when the connected proxies know, as
// Start does.
func (d *Drills) Stop(ctx context.Context, id string) (model.Drill, error) {
	out, err := d.stop(ctx, id)
	if err == nil {
		d.fleet.Settle(ctx, maxSettle)
	}
	return out, err
}

func (d *Drills) stop(ctx context.Context, id string) (model.Drill, error) {
	d.changing.Lock()
	defer d.changing.Unlock()
	running := d.list()
	i := slices.IndexFunc(running, func(one store.Drill) bool { return one.Spec.ID == id })
	if i < 0 {
		return model.Drill{}, problem.Missing("no drill %s is running: \"nightjar drill list\" shows the drills", id)
	}
	one, now := running[i], d.now().UTC()
	if err := d.records.Apply(ctx, store.StopDrill{Number: one.Number, At: now}); err != nil {
		return model.Drill{}, fmt.Errorf("the end of the drill could not be stored: %w", err)
	}
	one.Stopped = now
	d.set(slices.Concat(running[:i], running[i+1:]))
	d.log(ctx, one, now, "drill-ended", actor.Name(ctx), id+" was stopped before its time")
	return view(one, now), nil
}

// Expire forgets the drills whose time is over. The proxies ended them already.
func (d *Drills) Expire(ctx context.Context, now time.Time) {
	d.changing.Lock()
	defer d.changing.Unlock()
	var over, running []store.Drill
	for _, one := range d.list() {
		if now.Before(one.Ends) {
			running = append(running, one)
		} else {
			over = append(over, one)
		}
	}
	if len(over) > 0 {
		d.set(running)
	}
	for _, one := range over {
		d.log(ctx, one, one.Ends, "drill-ended", one.By, one.Spec.ID+" ended by itself")
	}
}
