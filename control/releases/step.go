package releases

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/outbox"
	"nightjar/control/revisions"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/store"
)

// change is a release with the run that it is to continue with.
type change struct {
	x    *running
	next *release.Run
}

// Step lets time pass for every release.
func (r *Releases) Step(ctx context.Context) error {
	if len(r.all()) == 0 {
		return nil
	}
	return r.Revisions.Change(ctx, func(now revisions.Current) (revisions.Decision, error) {
		at, acknowledged := r.Now().UTC(), r.Fleet.AcknowledgedByAll()
		var changes []change
		if now.Newest > now.Revision.Number {
			return r.decide(ctx, now, r.heldForOlder(&now, at))
		}
		for _, x := range r.all() {
			if next := r.step(x, at, acknowledged); next != nil {
				changes = append(changes, change{x, next})
			}
		}
		return r.decide(ctx, now, changes)
	})
}

// heldForOlder holds the releases that could go on by themselves while proxies follow
// newer rules than the service has: whatever it published would take them back unasked.
func (r *Releases) heldForOlder(now *revisions.Current, at time.Time) (changes []change) {
	why := fmt.Sprintf(
		"proxies follow revision %d, newer than revision %d of these records, which are those of a backup",
		now.Newest,
		now.Revision.Number,
	)
	for _, x := range r.all() {
		next := x.run.Copy()
		if !next.State.Over() && next.State != release.Held && next.Hold(at, "nightjar", why) == nil {
			changes = append(changes, change{x, next})
		}
	}
	return changes
}

// step lets time pass for one release. It returns the run to store; nil: there is
// nothing to store.
func (r *Releases) step(x *running, now time.Time, acknowledged uint) *release.Run {
	next := x.run.Copy()
	if next.IsEnding() {
		return next
	}
	if next.State.Over() {
		if now.Sub(next.Ended) < lingerTime {
			return nil
		}
		rest := r.counters.look(x.counter, now)
		next.Settle(&rest)
		return next
	}
	if !next.Shift && next.Tick(now, acknowledged >= next.Revision) {
		r.recount(x) // what was counted in a break is not judged
	}
	if next.Due() {
		fresh := r.counters.look(x.counter, now)
		next.Look(now, &fresh)
	} else if now.Sub(x.glanced) >= glanceEvery {
		x.glanced = now
		r.tendLoad(x, next, now)
		fresh := r.counters.look(x.counter, now)
		next.Glance(now, &fresh)
	}
	if len(next.Events) > 0 || len(next.Judgements) > 0 || next.Shift || next.Looks != x.run.Looks {
		return next
	}
	r.set(x, next)
	r.ask(x)
	return nil
}

// set continues with a run.
func (r *Releases) set(x *running, next *release.Run) {
	r.mu.Lock()
	defer r.mu.Unlock()
	x.run = next
}

// decide is the decision to store the changed runs, with the revisions that they
// ask for.
func (r *Releases) decide(ctx context.Context, now revisions.Current, changes []change) (revisions.Decision, error) {
	d := revisions.Decision{Overlays: now.Overlays}
	hasRoom := true
	if len(changes) > 0 {
		hasRoom = r.Outbox.HasRoom(ctx)
	}
	number, began := now.Newest, time.Now()
	var stored []change
	for _, c := range changes {
		next := c.next
		// A new version that has all requests already can wait until they are written into
		// the rules. An old version that is to get them back never waits.
		isLate := next.State == release.Completed && next.Shift && time.Since(began) > endsTime
		if isLate && c.x.run != nil && c.x.run.IsEnding() {
			continue // it is stored so already
		}
		var revision uint
		if next.Shift && !isLate {
			number++
			revision = number
			rev := store.Revision{
				Number: number,
				Kind:   "release",
				Author: "release/" + next.Plan.Name,
				At:     r.Now().UTC(),

				Touched: touchedBy(next, now.Written),
			}
			if err := writeEnd(next, &now, &rev); err != nil {
				next.Unwritable(r.Now().UTC(), err.Error())
			}
			rev.Message = message(next)
			d.Revisions = append(d.Revisions, rev)
			next.Shifted(rev.At, number)
			d.Overlays = overlaysWith(d.Overlays, c.x.number, next)
		}
		rows, err := r.rows(c.x.number, next, revision, hasRoom)
		if err != nil {
			return d, err
		}
		d.Changes = append(d.Changes, rows...)
		stored = append(stored, c)
	}
	d.Written = now.Written
	d.Apply = func() { r.apply(stored) }
	return d, nil
}

// touchedBy are the services and gateways whose requests a step of a release changes.
func touchedBy(run *release.Run, rs *rules.Rules) []string {
	out := []string{run.Plan.Service}
	for _, at := range run.Places {
		name := at.Ladder
		if rs.Service(name) == nil {
			name = rules.GatewayName(name)
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// overlaysWith is the overlays with that of one release as it is now.
func overlaysWith(list []revisions.Overlay, number uint, run *release.Run) []revisions.Overlay {
	out := slices.DeleteFunc(slices.Clone(list), func(o revisions.Overlay) bool { return o.Number == number })
	if o, isOn := run.Overlay(); isOn {
		at := 0
		for at < len(out) && out[at].Number < number {
			at++
		}
		out = slices.Insert(out, at, revisions.Overlay{Overlay: o, Number: number, Revision: run.Revision})
	}
	return out
}

// apply continues with runs that are stored.
func (r *Releases) apply(stored []change) {
	now := r.Now()
	for _, c := range stored {
		x, next := c.x, c.next
		next.Events, next.Judgements = nil, nil
		hasLooked := x.run != nil && next.Looks != x.run.Looks
		isForgotten := next.State.Over() && !next.Shift && now.Sub(next.Ended) >= lingerTime
		if !isForgotten {
			r.tendLoad(x, next, now)
		}
		r.mu.Lock()
		x.run = next
		r.running[x.number] = x
		r.last = max(r.last, x.number)
		r.mu.Unlock()
		switch {
		case isForgotten:
			r.forget(x)
		case x.counter == nil || x.step != next.Step:
			r.recount(x)
			x.glanced = now
		case hasLooked:
			r.counters.settle(x.counter)
		}
		r.ask(x)
	}
}

// forget lets go of a release that has ended.
func (r *Releases) forget(x *running) {
	if x.counter != nil {
		r.counters.end(x.counter)
	}
	x.endLoad()
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.running, x.number)
}

// Published withdraws the releases whose routes a person's revision changes.
func (r *Releases) Published(
	rev store.Revision,
	rs *rules.Rules,
	changes []rules.Change,
) (revisions.Consequence, error) {
	var out revisions.Consequence
	var stored []change
	hasRoom := true
	for _, x := range r.all() {
		if x.run.State.Over() && !x.run.IsEnding() {
			continue
		}
		o, _ := x.run.Overlay()
		what := release.Touched(changes, rs, &o)
		if what == "" {
			continue
		}
		if len(stored) == 0 {
			hasRoom = r.Outbox.HasRoom(context.Background())
		}
		next := x.run.Copy()
		next.WithdrawForPublish(rev.At, rev.Number, rev.Author, what)
		rows, err := r.rows(x.number, next, rev.Number, hasRoom)
		if err != nil {
			return out, err
		}
		out.Withdrawn, out.Ended = append(out.Withdrawn, next.Plan.Name), append(out.Ended, x.number)
		out.Changes = append(out.Changes, rows...)
		stored = append(stored, change{x, next})
	}
	out.Apply = func() { r.apply(stored) }
	return out, nil
}

// rows is what is stored of a run. revision is the one that changes its overlay; 0:
// the overlay stays.
func (r *Releases) rows(number uint, run *release.Run, revision uint, hasRoom bool) ([]store.Change, error) {
	head := store.Release{
		Number: number,
		Name:   run.Plan.Name,
		State:  string(run.State),
		IsOver: run.State.Over() && !run.IsEnding(), // else the service continues with it
		Began:  run.Began,
	}
	out := []store.Change{store.SaveRelease{Release: head, Run: run}}
	if revision > 0 {
		o := store.Overlay{Release: number, Revision: revision}
		if overlay, isOn := run.Overlay(); isOn {
			text, err := json.Marshal(overlay)
			if err != nil {
				return nil, err
			}
			o.Text = string(text)
		}
		out = append(out, store.AddOverlay{Overlay: o})
	}
	out = append(out, store.AddJudgements{Release: number, Judgements: anys(run.Judgements)},
		store.AddReleaseEvents{Release: number, Events: anys(run.Events)})
	if !hasRoom {
		return out, nil
	}
	notices, err := notices(number, run)
	return append(out, notices), err
}

func anys[T any](list []T) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = v
	}
	return out
}

// announced are the kinds of events that receivers get; judgements only when missed.
var announced = map[string]bool{"started": true, "shifted": true, "judged": true, "held": true, "resumed": true,
	"skipped": true, "withdrawn": true, "completed": true}

// notices are the new events of a run for its receivers.
func notices(number uint, run *release.Run) (store.AddNotices, error) {
	var out store.AddNotices
	for i, e := range run.Events {
		if !announced[e.Kind] || len(run.Plan.Notify) == 0 {
			continue
		}
		text, err := eventOf(number, run, e, i)
		if err != nil {
			return nil, err
		}
		for _, to := range run.Plan.Notify {
			out = append(
				out,
				store.Notice{
					Release:  number,
					URL:      to.URL,
					IsBinary: to.Binary,
					Event:    text,
					Due:      e.At.UTC(),
					State:    store.NoticeWaiting,
				},
			)
		}
	}
	return out, nil
}

// eventData is what the CloudEvent of a release carries.
type eventData struct {
	Release model.Release      `json:"release"`
	Event   model.ReleaseEvent `json:"event"`
}

// eventOf is the CloudEvent of an event of a release, the nth of its step.
func eventOf(number uint, run *release.Run, e release.Event, n int) (string, error) {
	id := fmt.Sprintf("%d-%d-%d", number, e.At.UnixNano(), n)
	data := eventData{view(number, run), model.ReleaseEvent(e)}
	return outbox.Event(id, "nightjar.release."+e.Kind, "/api/v1/releases/"+run.Plan.Name, run.Plan.Name, e.At, data)
}

// message is that of the revision that a run asks for.
func message(run *release.Run) string {
	switch run.State {
	case release.Completed:
		return "completed: " + run.Why
	case release.Withdrawn:
		return "withdrawn: " + run.Why
	}
	if run.Retreat {
		return "held: " + run.Why
	}
	return fmt.Sprintf("stage %s: %s", run.Now().Name, run.Describe())
}

// writeEnd writes the end of a release into the text of the rules, if there is
// anything to write, and into the revision. The text changes in now.
func writeEnd(run *release.Run, now *revisions.Current, rev *store.Revision) error {
	if !run.State.Over() {
		return nil
	}
	o := release.OverlayAt(&run.Plan, run.Places, run.Now())
	takesAll := run.Plan.OnSuccess == "make-default"
	if run.State == release.Withdrawn {
		if o, takesAll = o.Back(), true; !run.Back {
			return nil
		}
	}
	bundles, written, hasChanged := now.Revision.Bundles, now.Written, false
	for _, at := range run.Places {
		rt := written.Route(at.Ladder, at.Route)
		if rt == nil || run.State == release.Withdrawn && !sendsTo(rt, run.Plan.Service, run.Plan.To) {
			continue
		}
		home := at.Ladder
		if written.Service(home) == nil {
			home = ""
		}
		targets := o.Final(rt.Send, takesAll)
		if rules.SendText(targets, home) == rules.SendText(rt.Send, home) {
			continue
		}
		bundle, files, err := revisions.SetTargets(bundles, rt, home, targets)
		if err != nil {
			return fmt.Errorf("the rules cannot be changed in place: %w", err)
		}
		bundles, rev.Bundle, hasChanged = revisions.With(bundles, bundle, files), bundle, true
		var found []rules.Finding
		if written, found = rules.Check(revisions.Joined(bundles), rules.Live{}); rules.Mistakes(found) > 0 {
			return fmt.Errorf("the rules would have a mistake at %s: %s", found[0].At, found[0].Message)
		}
	}
	if hasChanged {
		rev.Bundles = bundles
		now.Revision.Bundles, now.Written = bundles, written
	}
	return nil
}

// sendsTo tells whether a route sends requests to a version.
func sendsTo(rt *rules.Route, service, version string) bool {
	return slices.ContainsFunc(rt.Send, func(t rules.Target) bool {
		return t.Service == service && t.Version == version && t.Weight > 0
	})
}

// Summaries is what every page shows of the releases that are running.
func (r *Releases) Summaries() []model.ReleaseSummary {
	out := []model.ReleaseSummary{}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, n := range slices.Sorted(maps.Keys(r.running)) {
		run := r.running[n].run
		if run.State.Over() || len(out) >= maxSummaries {
			continue
		}
		s := model.ReleaseSummary{
			Number:      n,
			Name:        run.Plan.Name,
			Service:     run.Plan.Service,
			From:        run.Plan.From,
			To:          run.Plan.To,
			State:       string(run.State),
			Step:        run.Now().Name,
			LeftSeconds: max(0, (run.Now().Each - run.Spent).Seconds()),
			Why:         run.Why,
			Places:      from.Routes(run.Places),
			Cohorts:     []model.RouteRef{},
		}
		if o, isOn := run.Overlay(); isOn && o.FirstTo != nil {
			for _, at := range run.Places {
				s.Cohorts = append(s.Cohorts, model.RouteRef{Parent: at.Ladder, Route: o.CohortRoute(at.Route)})
			}
		}
		out = append(out, s)
	}
	return out
}

// maxSummaries bounds what every page shows.
const maxSummaries = 100
