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
	"nightjar/store"
)

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
			if err := c.rewrite(x, &force, &rev); err != nil {
				x.run.Unwritable(c.now().UTC(), err.Error())
				rev.Message = x.message()
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
	if r.Retreat {
		return "held: " + r.Why
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
	case what == "withdrawn" || what == "held":
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
