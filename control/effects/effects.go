// Package effects computes what changes did to the success of requests, and records
// the effect of every revision.
package effects

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/effect"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
)

const (
	// Window is the longest time that is compared on each side when nobody chose
	// one, in seconds.
	Window = 5 * 60
	// Settle is how long figures are left out after a change, in seconds: until it
	// is in force everywhere and requests in flight have ended.
	Settle = 5
	// RecordEvery is how often effects are recorded whose windows are full.
	RecordEvery = 10 * time.Second

	recordAtOnce = 20
	maxWindow    = 24 * 3600
	maxSettle    = 3600
	reportSlack  = 2   // seconds until proxies have reported a second
	manyRows     = 20  // from here on, chance alone is likely to show a change
	maxDrills    = 200 // that are looked at
)

// Records is what effects need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Revision(ctx context.Context, number uint) (store.Revision, error)
	Revisions(ctx context.Context, before uint, limit int) ([]store.Revision, error)
	Around(ctx context.Context, number uint, at time.Time) (before, after store.Revision, err error)
	Effect(ctx context.Context, revision uint, into any) error
	EffectSummaries(ctx context.Context, first, last uint, visit func(revision uint, read func(any) error) error) error
	WithoutEffect(ctx context.Context, after uint, since time.Time, limit int) ([]store.Revision, error)
	TrialsBetween(ctx context.Context, running string, from, to time.Time) ([]store.Trial, error)
}

// Figures is what proxies counted.
type Figures interface {
	Sum(ctx context.Context, from, to int64, visit telemetry.Visit) error
	First() int64
}

// Config is what Effects are made of.
type Config struct {
	Records Records
	Figures Figures
	Current func() revisions.Current
	Touches *revisions.Touches
	Drills  func(ctx context.Context, limit int) ([]model.Drill, error)
	Now     func() time.Time
}

// Effects computes and records effects. It is safe for concurrent use.
type Effects struct{ Config }

// New makes Effects.
func New(c Config) *Effects { return &Effects{c} }

// Effect computes what a change did, or reads what was recorded of it.
func (e *Effects) Effect(ctx context.Context, q model.EffectQuery) (model.Effect, error) {
	isUsual := q.Window == 0 && q.Settle < 0 && q.Site == ""
	if q.Window == 0 {
		q.Window = Window
	}
	if q.Settle < 0 {
		q.Settle = Settle
	}
	if q.Window < 1 || q.Window > maxWindow || q.Settle > maxSettle {
		return model.Effect{}, problem.Invalid(
			"an effect compares up to 24 hours on each side, and leaves out up to an hour after the change: " +
				"choose a shorter window or settle time",
		)
	}
	if q.Revision == 0 && q.At > 0 {
		now := e.Now().Unix()
		if q.At > now || q.At < now-store.CoarseTime {
			return model.Effect{}, problem.Invalid(
				"at: figures are kept for 14 days: choose a time within the last 14 days",
			)
		}
		return e.view(ctx, store.Revision{At: time.Unix(q.At, 0)}, q)
	}
	rev, err := e.Records.Revision(ctx, q.Revision)
	switch {
	case errors.Is(err, store.ErrNotFound) && q.Revision == 0:
		return model.Effect{}, problem.Missing("nothing was published yet: publish rules first, or name a time (at)")
	case errors.Is(err, store.ErrNotFound):
		return model.Effect{}, problem.Missing(
			"there is no revision %d: \"nightjar rules log\" lists the revisions",
			q.Revision,
		)
	case err != nil:
		return model.Effect{}, err
	}
	if isUsual {
		var recorded record
		if err := e.Records.Effect(ctx, rev.Number, &recorded); err == nil || !errors.Is(err, store.ErrNotFound) {
			return recorded.view(), err
		}
	}
	return e.view(ctx, rev, q)
}

func (e *Effects) view(ctx context.Context, rev store.Revision, q model.EffectQuery) (model.Effect, error) {
	r, err := e.compute(ctx, rev, q)
	if err != nil {
		return model.Effect{}, err
	}
	return r.view(), nil
}

// compute compares the windows before and after a revision, or, when its number is
// 0, a moment.
func (e *Effects) compute(ctx context.Context, rev store.Revision, q model.EffectQuery) (*record, error) {
	r := &record{
		Revision: rev.Number,
		At:       rev.At.UTC(),
		Kind:     rev.Kind,
		Author:   rev.Author,
		Message:  rev.Message,
		Site:     q.Site,
		Settle:   q.Settle,
		Rows:     []effect.Row{},
		Notes:    []string{},
	}
	if err := e.setWindows(ctx, r, rev, q.Window); err != nil {
		return nil, err
	}
	if err := e.noteMeanwhile(ctx, r); err != nil {
		return nil, err
	}
	rs, err := e.rulesAt(ctx, r.After.Revision)
	if err != nil {
		return nil, err
	}
	sc := e.scope(r, rs)
	before, err := e.side(ctx, r.Before, q.Site, sc.before)
	if err != nil {
		return nil, err
	}
	after, err := e.side(ctx, r.After, q.Site, sc.after)
	if err != nil {
		return nil, err
	}
	before.SecondsOf, after.SecondsOf = sc.seconds(r)
	r.Rows = effect.Compare(before, after, func(route string) []effect.Target { return Weights(rs, route) })
	if n := len(r.Rows); n >= manyRows {
		r.note("Of %d rows without any change, about %d would still show one in success by chance: "+
			"a 95%% interval misses the true value once in twenty.", n, (n+10)/20)
	}
	return r, nil
}

// setWindows sets the windows: neither holds anything of another revision that touched
// the same services.
func (e *Effects) setWindows(ctx context.Context, r *record, rev store.Revision, length int64) error {
	last, following, err := e.Records.Around(ctx, rev.Number, rev.At)
	if err != nil {
		return err
	}
	prev := revisions.Touch{Number: last.Number, At: last.At}
	next := revisions.Touch{Number: following.Number, At: following.At}
	if rev.Number > 0 && e.Touches.Knows(rev.Number) {
		prev, next = e.Touches.Around(rev.Number, e.Touches.Of(rev.Number))
	}
	now, at := e.Now().Unix(), rev.At.Unix()
	r.Before = model.Window{From: at - length, To: at, Revision: last.Number}
	r.After = model.Window{From: at + r.Settle, To: at + r.Settle + length, Revision: cmp.Or(rev.Number, last.Number)}
	if rev.Number > 0 {
		r.After.From++ // the second of the change belongs to both
		r.After.To++
	}
	if prev.Number > 0 && prev.At.After(rev.At) {
		r.Before.From = r.Before.To
		r.note("There is no window before: the clock of the service was set back after revision %d.", prev.Number)
	} else if cut := prev.At.Unix() + 1 + r.Settle; prev.Number > 0 && cut > r.Before.From {
		r.Before.From = min(cut, r.Before.To)
		r.note("The window before is short: revision %d came %s earlier, and what happened before it is left out.",
			prev.Number, seconds(rev.At.Sub(prev.At)))
	}
	if first := e.Figures.First(); first > r.Before.From && first < r.After.To {
		r.Before.From = min(first, r.Before.To)
		r.note("The window before begins with the first known request.")
	}
	r.IsComplete = r.After.To <= now
	if next.Number > 0 && next.At.Before(rev.At) {
		r.After.To, r.IsComplete = r.After.From, true
		r.note("There is no window after: the clock of the service was set back before revision %d.", next.Number)
	} else if next.Number > 0 && next.At.Unix() < r.After.To {
		r.After.To, r.IsComplete = max(next.At.Unix(), r.After.From), true
		r.note("The window after is short: revision %d came %s later, and what it did is left out.",
			next.Number, seconds(next.At.Sub(rev.At)))
	}
	if !r.IsComplete {
		due := time.Unix(r.After.To, 0).UTC()
		r.Due, r.After.To = &due, max(min(r.After.To, now), r.After.From)
	}
	r.Before.Seconds, r.After.Seconds = r.Before.To-r.Before.From, r.After.To-r.After.From
	return nil
}

// seconds is a duration in words, to the second.
func seconds(d time.Duration) string { return d.Round(time.Second).String() }

// overlapped names the windows that a time overlaps; empty: none.
func (r *record) overlapped(began, ended time.Time) string {
	in := func(w model.Window) bool { return w.Seconds > 0 && began.Unix() < w.To && ended.Unix() >= w.From }
	switch before, after := in(r.Before), in(r.After); {
	case before && after:
		return "both windows"
	case before:
		return "the window before"
	case after:
		return "the window after"
	}
	return ""
}

// noteMeanwhile notes the drills and trials that ran in the windows.
func (e *Effects) noteMeanwhile(ctx context.Context, r *record) error {
	drills, err := e.Drills(ctx, maxDrills)
	if err != nil {
		return err
	}
	for _, d := range drills {
		ended := d.Ends
		if d.Stopped != nil {
			ended = *d.Stopped
		}
		if w := r.overlapped(d.Began, ended); w != "" {
			r.note("Drill %s (%s: %s) ran in %s.", d.ID, d.Target, d.What, w)
		}
	}
	trials, err := e.Records.TrialsBetween(
		ctx,
		model.TrialRunning,
		time.Unix(r.Before.From, 0),
		time.Unix(r.After.To, 0),
	)
	for _, t := range trials {
		ended := t.Ended
		if t.State == model.TrialRunning {
			ended = e.Now()
		} else if ended.Before(t.Began) {
			ended = t.Began // its end was never recorded: it ran at least then
		}
		if w := r.overlapped(t.Began, ended); w != "" {
			r.note(
				"Trial %d (%s) sent its requests in %s; they count as requests of %s.",
				t.Number,
				t.Name,
				w,
				fleet.ServiceCaller,
			)
		}
	}
	return err
}

// side adds up a window, of requests at a site; empty: of all.
func (e *Effects) side(ctx context.Context, w model.Window, site string, take takes) (*effect.Tally, error) {
	t := &effect.Tally{Seconds: float64(w.Seconds)}
	if w.Seconds <= 0 {
		return t, nil
	}
	err := e.Figures.Sum(ctx, w.From, w.To, func(n *telemetry.Names, revision uint, counts *stats.Counts) {
		if n.App || n.Copy || !n.IsAt(site) {
			return
		}
		switch take(n, revision) {
		case wholly:
			t.Add(NamesOf(n), counts)
		case inParts:
			t.AddParts(NamesOf(n), counts)
		}
	})
	return t, err
}

// NamesOf are the names of a series, as a comparison groups them.
func NamesOf(n *telemetry.Names) effect.Names {
	return effect.Names{
		Caller:  n.Caller,
		Gate:    n.Gate,
		RouteOf: n.RouteOf,
		Route:   n.Route,
		Service: n.Service,
		Version: n.Version,
	}
}

// rulesAt are the rules that were in force at a revision; nil: they are not known.
func (e *Effects) rulesAt(ctx context.Context, number uint) (*rules.Rules, error) {
	if now := e.Current(); number == now.Revision.Number {
		return now.Rules, nil
	}
	rev, err := e.Records.Revision(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return revisions.RulesOf(&rev)
}

// Weights are the targets of a route, PARENT/ROUTE, with their weights. They are
// nil when a target names no version.
func Weights(rs *rules.Rules, route string) []effect.Target {
	if rs == nil {
		return nil
	}
	parent, name, _ := strings.Cut(route, "/")
	rt := rs.Route(parent, name)
	if rt == nil {
		return nil
	}
	sums := map[string]float64{}
	var out []effect.Target
	for _, t := range rt.Send {
		if t.Version == "" {
			return nil
		}
		to := t.Service + "/" + t.Version
		if _, isKnown := sums[to]; !isKnown {
			out = append(out, effect.Target{Name: to})
		}
		sums[to] += t.Weight.Share()
	}
	for i := range out {
		out[i].Weight = sums[out[i].Name]
	}
	return out
}

// Record records the effects of revisions whose windows are full. One that cannot be
// computed keeps no other from being recorded.
func (e *Effects) Record(ctx context.Context) error {
	since := e.Now().Add(-store.CoarseTime * time.Second)
	var errs []error
	for after, recorded := uint(0), 0; recorded < recordAtOnce && ctx.Err() == nil; {
		list, err := e.Records.WithoutEffect(ctx, after, since, recordAtOnce)
		if err != nil || len(list) == 0 {
			return errors.Join(append(errs, err)...)
		}
		for _, rev := range list {
			after = rev.Number
			isRecorded, err := e.record(ctx, rev)
			if err != nil && len(errs) < recordAtOnce {
				errs = append(errs, fmt.Errorf("revision %d: %w", rev.Number, err))
			}
			if isRecorded {
				recorded++
			}
		}
	}
	return errors.Join(errs...)
}

// isCutShort tells whether a later revision has ended the window after a revision.
func (e *Effects) isCutShort(number uint) bool {
	_, next := e.Touches.Around(number, e.Touches.Of(number))
	return next.Number > 0
}

// record records the effect of a revision, if its windows are full.
func (e *Effects) record(ctx context.Context, rev store.Revision) (isRecorded bool, err error) {
	now := e.Now().Unix()
	if now < rev.At.Unix()+Settle+1+Window+reportSlack && !e.isCutShort(rev.Number) {
		return false, nil
	}
	one, err := e.compute(ctx, rev, model.EffectQuery{Window: Window, Settle: Settle})
	if err != nil || !one.IsComplete || now < one.After.To+reportSlack {
		return false, err
	}
	one.IsRecorded = true
	return true, e.Records.Apply(ctx, store.SaveEffect{Revision: rev.Number, Summary: one.summary(), Effect: one})
}

// List lists the effects of revisions below the number before (0: from the newest),
// newest first.
func (e *Effects) List(ctx context.Context, before uint, limit int) ([]model.EffectSummary, error) {
	list, err := e.Records.Revisions(ctx, before, limit)
	if err != nil || len(list) == 0 {
		return []model.EffectSummary{}, err
	}
	known := map[uint]summary{}
	first, last := list[len(list)-1].Number, list[0].Number
	err = e.Records.EffectSummaries(ctx, first, last, func(revision uint, read func(any) error) error {
		var s summary
		err := read(&s)
		known[revision] = s
		return err
	})
	out := make([]model.EffectSummary, 0, len(list))
	for _, rev := range list {
		s, isKnown := known[rev.Number]
		if !isKnown {
			due := rev.At.Add((Window + Settle + 1) * time.Second)
			s = summary{
				Revision: rev.Number,
				At:       rev.At,
				Kind:     rev.Kind,
				Author:   rev.Author,
				Message:  rev.Message,
				Due:      &due,
			}
		}
		out = append(out, s.view())
	}
	slices.SortFunc(out, func(a, b model.EffectSummary) int { return cmp.Compare(b.Revision, a.Revision) })
	return out, err
}
