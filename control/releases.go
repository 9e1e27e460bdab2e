package control

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
)

const (
	stepEvery   = 200 * time.Millisecond // releases are looked after
	glanceEvery = time.Second
	lingering   = 3 * time.Second        // how long stragglers count after the end
	writingTime = 100 * time.Millisecond // of a step, for ends that are written into the rules; the rest waits for the next
	maxReleases = 2000                   // at once
	baseTime    = 5 * 60                 // seconds before the start in which the old version is measured
)

// releaseRun is a release that runs.
type releaseRun struct {
	number  uint
	run     *release.Run
	stored  []byte // run, as it is stored; nil: it is not
	count   *counting
	glanced time.Time
	asking  context.CancelFunc // nil: nobody is asked
	load    *steadyLoad
	begun   release.State // state after the last step, to see what changed
	stage   int
	// overtaken is called with the revision that a person made.
	overtaken func(revision uint)
}

// text is a revision with rules of its own.
type text struct {
	rev   store.Revision
	rules *rules.Rules
}

// overlaysOf reads what releases change at a revision.
func overlaysOf(rev *store.Revision) ([]release.Overlay, error) {
	out := make([]release.Overlay, len(rev.Overlays))
	for i, text := range rev.Overlays {
		if err := json.Unmarshal([]byte(text), &out[i]); err != nil {
			return nil, fmt.Errorf("what a release changes at revision %d cannot be read: %w", rev.Number, err)
		}
	}
	return out, nil
}

// rulesOf are the rules that held at a revision, with what releases changed.
func rulesOf(rev *store.Revision) (*rules.Rules, error) {
	overlays, err := overlaysOf(rev)
	if err != nil {
		return nil, err
	}
	rs, _ := rules.Check(joined(rev.Bundles), rules.Live{})
	return release.Apply(rs, overlays), nil
}

// recallReleases reads the releases that were running when the service ended.
func (c *Control) recallReleases(ctx context.Context) error {
	return c.store.Releases(ctx, "", 0, maxReleases*2, true, func(h store.ReleaseHead, read func(any) error) error {
		x := &releaseRun{number: h.Number, run: &release.Run{}}
		if err := read(x.run); err != nil {
			return err
		}
		x.stored, _ = json.Marshal(x.run)
		x.run.Wake(c.now())
		x.stage, x.begun = x.run.Step, x.run.State
		c.releases[h.Number] = x
		c.recount(x)
		return nil
	})
}

// recount counts for the step that is in force, from nothing.
func (c *Control) recount(x *releaseRun) {
	if x.count != nil {
		c.counters.end(x.count)
	}
	p := &x.run.Plan
	x.count = &counting{service: p.Service, from: p.From, to: p.To, places: map[[2]string]bool{}, dark: x.run.Now().Kind == release.Dark, revision: x.run.Revision, since: c.now().Unix()}
	o, _ := x.run.Overlay()
	for _, at := range x.run.Places {
		x.count.places[[2]string{at.Ladder, at.Route}] = true
		x.count.places[[2]string{at.Ladder, o.CohortRoute(at.Route)}] = true
	}
	c.counters.begin(x.count)
}

// ReleaseAsk asks for a release that the rules in force declare.
type ReleaseAsk struct {
	Name string `json:"name" doc:"of a release in the rules in force; may be empty when there is one"`
	By   string `json:"by,omitempty"`
}

// StartRelease begins a release, which goes on by itself.
func (c *Control) StartRelease(ctx context.Context, ask ReleaseAsk) (Release, error) {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	force := c.InForce()
	var p *rules.Release
	var names []string
	for _, r := range force.Written.Releases {
		if names = append(names, r.Name); r.Name == ask.Name || ask.Name == "" && len(force.Written.Releases) == 1 {
			p = r
		}
	}
	switch {
	case p == nil && len(names) == 0:
		return Release{}, Unusable{"the rules in force declare no release: write one in the section releases and publish it"}
	case p == nil && ask.Name == "":
		return Release{}, Unusable{fmt.Sprintf("several releases are declared: name one of %s", strings.Join(names, ", "))}
	case p == nil:
		return Release{}, Unusable{fmt.Sprintf("no release %s is declared in the rules in force: name %s", ask.Name, rules.OneOf(ask.Name, names))}
	}
	places, err := release.Places(force.Written, p)
	if err != nil {
		return Release{}, Unusable{err.Error()}
	}
	if err := c.startable(&force, p, places); err != nil {
		return Release{}, err
	}
	now := c.now().UTC()
	base, err := c.baseOf(ctx, p, places, now)
	if err != nil {
		return Release{}, err
	}
	x := &releaseRun{run: release.Start(p, places, base, cmp.Or(ask.By, "unknown"), now), stage: -1}
	if err := c.follow(ctx, now, []*releaseRun{x}); err != nil {
		return Release{}, err
	}
	c.happened(store.Activity{At: now, Who: cmp.Or(ask.By, "unknown"), Kind: "release-began", Service: p.Service, Version: p.To, Detail: fmt.Sprintf("release %d: %s, %s to %s", x.number, p.Name, p.From, p.To)})
	return c.releaseView(x.number, x.run), nil
}

// startable tells why a release cannot begin now.
func (c *Control) startable(force *Force, p *rules.Release, places []release.Place) error {
	if s := force.Written.Service(p.Service); s != nil && s.Protocol == "tcp" {
		return Unusable{fmt.Sprintf("service %s speaks tcp, which has no requests to judge by", p.Service)}
	}
	if len(c.releases) >= maxReleases {
		return Busy{fmt.Sprintf("%d releases run: wait for some to end", len(c.releases))}
	}
	for _, x := range c.releases {
		if x.run.State.Over() {
			continue
		}
		if x.run.Plan.Name == p.Name {
			return Busy{fmt.Sprintf("release %s is running already, as number %d: look at it with nightjar release show %s", p.Name, x.number, p.Name)}
		}
		for _, at := range x.run.Places {
			if slices.Contains(places, at) {
				return Busy{fmt.Sprintf("release %s is moving route %s of %s: wait for its end, or withdraw it", x.run.Plan.Name, at.Route, at.Ladder)}
			}
		}
	}
	o := release.OverlayAt(p, places, release.Step{})
	for _, at := range places {
		rt := findRoute(force.Written, [2]string{at.Ladder, at.Route})
		if p.Dark > 0 && rt.Mirror != nil {
			return Unusable{fmt.Sprintf("route %s of %s sends copies to %s already: a dark stage needs that place; take out the mirror, or dark", at.Route, at.Ladder, rt.Mirror.To)}
		}
		if name := o.CohortRoute(at.Route); p.FirstTo != nil && findRoute(force.Written, [2]string{at.Ladder, name}) != nil {
			return Unusable{fmt.Sprintf("%s has a route %s, and the cohort's route would be called so: give the release another name", at.Ladder, name)}
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, in := range c.ledger.peers {
		if in.value.Service == p.Service && in.value.Version == p.To {
			return nil
		}
	}
	if s := force.Written.Service(p.Service); s != nil && slices.ContainsFunc(s.Instances, func(in rules.Instance) bool { return in.Version == p.To }) {
		return nil
	}
	return Unusable{fmt.Sprintf("version %s of %s has no instance now: start one first", p.To, p.Service)}
}

// baseOf is what the old version did before the start.
func (c *Control) baseOf(ctx context.Context, p *rules.Release, places []release.Place, now time.Time) (*stats.Counts, error) {
	k := counting{service: p.Service, from: p.From, to: p.To, places: map[[2]string]bool{}}
	for _, at := range places {
		k.places[[2]string{at.Ladder, at.Route}] = true
	}
	err := c.sum(ctx, now.Unix()-baseTime, now.Unix(), func(n *telemetry.Names, _ uint, counts *stats.Counts) {
		if n.Service == p.Service {
			k.add(n, counts)
		}
	})
	return &k.fresh.From, err
}

// What a person can do to a release.
const (
	ActHold     = "hold"
	ActResume   = "resume"
	ActSkip     = "skip"
	ActWithdraw = "withdraw"
	ActFinish   = "finish"
)

// ActRelease does what a person wants of the running release of that name, or
// number; a completed one can be withdrawn.
func (c *Control) ActRelease(ctx context.Context, name, act, by, why string) (Release, error) {
	by = cmp.Or(by, "unknown")
	c.publishing.Lock()
	defer c.publishing.Unlock()
	x, err := c.findRun(ctx, name)
	if err != nil {
		return Release{}, err
	}
	now := c.now().UTC()
	switch act {
	case ActHold:
		err = x.run.Hold(now, by, why)
	case ActResume:
		err = x.run.Resume(now, by)
	case ActSkip:
		err = x.run.Skip(now, by)
	case ActWithdraw:
		if x.run.State == release.Completed {
			if err = c.undoable(ctx, x); err == nil {
				err = x.run.Undo(now, by, why)
			}
		} else {
			err = x.run.Withdraw(now, by, why)
		}
	case ActFinish:
		err = x.run.Finish(now, by, why)
	default:
		err = Unusable{fmt.Sprintf("a release cannot be told to %s", act)}
	}
	if err != nil {
		return Release{}, err
	}
	if err := c.follow(ctx, now, []*releaseRun{x}); err != nil {
		return Release{}, err
	}
	if act == ActFinish && x.run.State == release.Held {
		return Release{}, Unusable{x.run.Why}
	}
	c.happened(store.Activity{At: now, Who: by, Kind: "release-" + act, Service: x.run.Plan.Service, Version: x.run.Plan.To, Detail: fmt.Sprintf("release %d: %s", x.number, x.run.Plan.Name)})
	return c.releaseView(x.number, x.run), nil
}

// findRun is the run that a name or number means: of a name the newest.
func (c *Control) findRun(ctx context.Context, name string) (*releaseRun, error) {
	for _, n := range slices.Backward(slices.Sorted(maps.Keys(c.releases))) {
		if x := c.releases[n]; x.run.Plan.Name == name || fmt.Sprint(n) == name {
			return x, nil
		}
	}
	number, run, err := c.keptRun(ctx, name)
	if err != nil {
		return nil, err
	}
	stored, _ := json.Marshal(run)
	return &releaseRun{number: number, run: run, stored: stored, stage: run.Step, begun: run.State}, nil
}

// undoable tells why a completed release cannot be taken back.
func (c *Control) undoable(ctx context.Context, x *releaseRun) error {
	rev, err := c.store.Revision(ctx, x.run.Revision)
	if err != nil {
		return err
	}
	then, _ := rules.Check(joined(rev.Bundles), rules.Live{})
	o, _ := x.run.Overlay()
	now := c.InForce().Written
	if what := release.Touched(rules.Diff(then, now), now, &o); what != "" {
		return Unusable{fmt.Sprintf("%s was changed after release %s wrote it in revision %d: publish what you want instead", what, x.run.Plan.Name, x.run.Revision)}
	}
	return nil
}

// stepReleases lets time pass for every release.
func (c *Control) stepReleases(ctx context.Context) error {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	defer c.brief()
	if len(c.releases) == 0 {
		return nil
	}
	now := c.now().UTC()
	acked := c.ackedByAll()
	var changed []*releaseRun
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		x := c.releases[n]
		r := x.run
		if r.State.Over() && !r.Shift {
			if now.Sub(r.Ended) >= lingering {
				rest := c.counters.take(x.count, false)
				r.Settle(&rest)
				changed = append(changed, x)
			}
			continue
		}
		if !r.Shift {
			r.Tick(now, acked >= r.Revision)
		}
		looks := r.Looks
		if r.Due() {
			fresh := c.counters.take(x.count, false)
			fresh.Seconds = min(now.Sub(x.glanced).Seconds(), r.Plan.Judge.Every.Seconds())
			r.Look(now, &fresh)
		} else if now.Sub(x.glanced) >= glanceEvery {
			x.glanced = now
			fresh := c.counters.take(x.count, true)
			if r.Glance(now, &fresh); r.Looks > looks {
				c.counters.take(x.count, false)
			}
		}
		c.ask(ctx, x)
		if len(r.Events) > 0 || len(r.Judgements) > 0 || r.Shift {
			changed = append(changed, x)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return c.follow(ctx, now, changed)
}

// ackedByAll is the newest revision that every connected proxy has in force.
func (c *Control) ackedByAll() uint {
	c.mu.Lock()
	defer c.mu.Unlock()
	least := c.force.Revision.Number
	for _, m := range c.members {
		if m.connected(c.now()) && m.ack.Error == "" {
			least = min(least, m.ack.Revision)
		}
	}
	return least
}

// follow stores what became of releases, and does what they want done.
func (c *Control) follow(ctx context.Context, now time.Time, changed []*releaseRun) error {
	if err := c.commit(ctx, nil, changed); err != nil {
		return err
	}
	for _, x := range changed {
		r := x.run
		switch {
		case r.State.Over() && !r.Shift && now.Sub(r.Ended) >= lingering:
			c.forget(x)
			continue
		case x.count == nil || x.stage != r.Step:
			c.recount(x)
			x.glanced = now
		}
		if x.stage, x.begun = r.Step, r.State; r.State == release.Held || r.State.Over() {
			x.load.end()
			x.load = nil
		} else if x.load == nil && r.Step >= 0 {
			x.load = c.steadyLoad(x)
		}
		if r.State.Over() && x.asking != nil {
			x.asking()
		}
	}
	return nil
}

// forget lets go of a release that is over.
func (c *Control) forget(x *releaseRun) {
	if x.count != nil {
		c.counters.end(x.count)
	}
	x.load.end()
	delete(c.releases, x.number)
}

// endReleases ends what runs for releases; they go on when the service does.
func (c *Control) endReleases() {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	for _, x := range c.releases {
		x.load.end()
		if x.asking != nil {
			x.asking()
		}
	}
}

// overtaken are the releases whose routes a person's revision changes.
func (c *Control) overtaken(rev *store.Revision, rs *rules.Rules, changes []rules.Change) []*releaseRun {
	var out []*releaseRun
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		x := c.releases[n]
		if x.run.State.Over() {
			continue
		}
		o, _ := x.run.Overlay()
		if what := release.Touched(changes, rs, &o); what != "" {
			x.overtaken = func(number uint) { x.run.Overtaken(rev.At, number, rev.Author, what) }
			out = append(out, x)
		}
	}
	return out
}

// commit stores a person's revision, if there is one, and what became of
// releases, with the revisions that they ask for, and puts these in force. What
// cannot be stored has not happened. The caller holds publishing.
func (c *Control) commit(ctx context.Context, first *text, changed []*releaseRun) error {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer stop()
	force := c.InForce()
	base := cmp.Or(force.Revision.Base, force.Revision.Number)
	var made []*store.Revision
	if first != nil {
		made = append(made, &first.rev)
		force.Revision, force.Written = first.rev, first.rules
	}
	began := time.Now()
	var changes []store.ReleaseChange
	var stored []*releaseRun
	for _, x := range changed {
		change := store.ReleaseChange{Release: x.number}
		if x.run.Shift {
			if x.ends() && time.Since(began) > writingTime {
				continue // it keeps its weights until the next step
			}
			rev := store.Revision{Kind: "release", Author: "release/" + x.run.Plan.Name, Message: x.message(), At: c.now().UTC()}
			err := c.rewrite(x, &force, &rev)
			if err != nil && x.run.State == release.Completed {
				x.run.Unwritable(c.now().UTC(), err.Error()+"; publish the targets that you want, or withdraw")
				rev.Message = x.message()
			} else if err != nil {
				rev.Message += "; " + err.Error() + ", so they hold as they were published"
			}
			made = append(made, &rev)
			change.Revision = &rev
		}
		if change.Revision != nil || x.overtaken != nil {
			overlay := ""
			if o, on := x.run.Overlay(); on && x.overtaken == nil {
				text, err := json.Marshal(o)
				if err != nil {
					return err
				}
				overlay = string(text)
			}
			change.Overlay = &overlay
		}
		change.Rest = func(number, revision uint) (store.ReleaseRest, error) {
			switch {
			case x.overtaken != nil:
				x.overtaken(revision)
			case change.Revision != nil:
				x.run.Shifted(change.Revision.At, revision)
			}
			return c.restOf(x, number)
		}
		changes = append(changes, change)
		stored = append(stored, x)
	}
	var firstRev *store.Revision
	if first != nil {
		firstRev = &first.rev
	}
	if err := c.store.ChangeReleases(ctx, base, firstRev, changes); err != nil {
		for _, x := range stored {
			x.overtaken = nil
			if run := (&release.Run{}); json.Unmarshal(x.stored, run) == nil {
				run.Wake(c.now())
				run.Events = nil
				x.run = run
			}
		}
		return err
	}
	for i, x := range stored {
		x.number, x.overtaken = changes[i].Release, nil
		x.stored, _ = json.Marshal(x.run)
		x.run.Events, x.run.Judgements = nil, nil
		c.releases[x.number] = x
	}
	if len(made) == 0 {
		return nil
	}
	var list []store.Revision
	for _, rev := range made {
		list = append(list, *rev)
	}
	bundles := force.Revision.Bundles
	force.Revision = list[len(list)-1]
	force.Revision.Bundles = bundles
	force.Rules = release.Apply(force.Written, c.overlays())
	c.enforce(force, list)
	for _, x := range stored {
		if x.run.State.Over() && x.run.State == release.Withdrawn && x.count == nil {
			c.recount(x)
		}
	}
	return nil
}

// ends tells whether the release wants its end written.
func (x *releaseRun) ends() bool { return x.run.State.Over() }

// message is that of the revision that a release asks for.
func (x *releaseRun) message() string {
	r := x.run
	switch r.State {
	case release.Completed:
		return "completed: " + r.Why
	case release.Withdrawn:
		return "withdrawn: " + r.Why
	}
	return fmt.Sprintf("stage %s: %s", r.Now().Name, r.Describe())
}

// stepOf reads the stage out of a message, for marks.
func stepOf(message string) string {
	switch what, rest, _ := strings.Cut(message, ":"); {
	case strings.HasPrefix(what, "stage ") && rest != "":
		return strings.TrimPrefix(what, "stage ")
	case what == "completed":
		return "done"
	case what == "withdrawn":
		return "back"
	}
	return ""
}

// overlays are what the running releases change, in the order of their numbers.
func (c *Control) overlays() []release.Overlay {
	var out []release.Overlay
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		if o, on := c.releases[n].run.Overlay(); on {
			out = append(out, o)
		}
	}
	return out
}

// rewrite writes the end of a release into the text of the rules, if there is
// anything to write, and notes it in the revision.
func (c *Control) rewrite(x *releaseRun, force *Force, rev *store.Revision) error {
	r := x.run
	if !r.State.Over() {
		return nil
	}
	step := r.Now()
	o := release.OverlayAt(&r.Plan, r.Places, step)
	all := r.Plan.OnSuccess == "make-default"
	if r.State == release.Withdrawn {
		if o, all = o.Back(), true; !r.Back {
			return nil
		}
	}
	bundles, written := force.Revision.Bundles, force.Written
	changed := false
	for _, at := range r.Places {
		rt := findRoute(written, [2]string{at.Ladder, at.Route})
		if rt == nil || r.State == release.Withdrawn && !slices.ContainsFunc(rt.Send, func(t rules.Target) bool {
			return t.Service == r.Plan.Service && t.Version == r.Plan.To && t.Weight > 0
		}) {
			continue
		}
		home := at.Ladder
		if written.Service(home) == nil {
			home = ""
		}
		send := o.Final(rt.Send, all)
		if rules.SendText(send, home) == rules.SendText(rt.Send, home) {
			continue
		}
		bundle, files, err := setSend(bundles, rt, home, send)
		if err != nil {
			return fmt.Errorf("the rules cannot be changed in place: %w", err)
		}
		bundles, rev.Bundle, changed = with(bundles, bundle, files), bundle, true
		var found []rules.Finding
		if written, found = rules.Check(joined(bundles), rules.Live{}); rules.Mistakes(found) > 0 {
			return fmt.Errorf("the rules would have a mistake at %s: %s", found[0].At, found[0].Message)
		}
	}
	if changed {
		rev.Bundles = bundles
		force.Revision.Bundles, force.Written = bundles, written
	}
	return nil
}
