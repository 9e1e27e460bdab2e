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
	load    *steadyLoad        // nil: none is sent
	noLoad  string             // why it could not be, when that was told last
	stage   int
	// overtaken is called with the revision that a person made.
	overtaken func(revision uint)
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
		x.stage = x.run.Step
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
	x.count = &counting{service: p.Service, from: p.From, to: p.To, places: map[[2]string]bool{}, dark: x.run.Now().Kind == release.Dark, revision: x.run.Revision, since: c.now().Unix(), taken: c.now()}
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
	return &releaseRun{number: number, run: run, stored: stored, stage: run.Step}, nil
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
