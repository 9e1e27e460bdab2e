package control

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"nightjar/core/release"
	"nightjar/core/rules"
)

// Overlaid is what a release changes in the rules besides their text, or has
// written into it.
type Overlaid struct {
	Release  string         `json:"release"`
	Number   uint           `json:"number,omitempty" doc:"of the release that runs"`
	Written  bool           `json:"written" doc:"it is over and has changed the text of the rules; else it runs, and the text knows nothing of it"`
	Revision uint           `json:"revision" doc:"that put it in force"`
	Changes  []rules.Change `json:"changes"`
}

// maxOverlaid bounds the releases that are told of, of each kind.
const maxOverlaid = 50

// overlaid tells what the running releases change.
func (c *Control) overlaid() []Overlaid {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	out, written := []Overlaid{}, c.InForce().Written
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		r := c.releases[n].run
		if o, on := r.Overlay(); on && len(out) < maxOverlaid {
			own := partOf(written, o.Places)
			out = append(out, Overlaid{Release: o.Release, Number: n, Revision: r.Revision, Changes: rules.Diff(own, release.Apply(own, []release.Overlay{o}))})
		}
	}
	return out
}

// partOf is the services and gateways of some routes.
func partOf(rs *rules.Rules, places []release.Place) *rules.Rules {
	out := &rules.Rules{}
	for i, at := range places {
		if i > 0 && at.Ladder == places[i-1].Ladder {
			continue
		}
		if s := rs.Service(at.Ladder); s != nil {
			out.Services = append(out.Services, s)
		}
		if g := rs.Gateway(at.Ladder); g != nil {
			out.Gateways = append(out.Gateways, g)
		}
	}
	return out
}

// written remembers what revisions of releases changed in the text, which never
// becomes otherwise. The zero value remembers nothing.
type written struct {
	mu sync.Mutex
	by map[uint][]rules.Change
}

// writtenSince tells what releases wrote into a bundle since a person published
// it last, newest first.
func (c *Control) writtenSince(ctx context.Context, bundle string) ([]Overlaid, error) {
	var out []Overlaid
	revisions, err := c.store.Revisions(ctx, 0, 500)
	if err != nil {
		return nil, err
	}
	c.written.mu.Lock() // so that nobody works it out twice
	defer c.written.mu.Unlock()
	was := c.written.by
	c.written.by = map[uint][]rules.Change{}
	for _, head := range revisions {
		name, own := strings.CutPrefix(head.Author, "release/")
		switch {
		case (head.Kind != "release" || !own) && (head.Bundle == bundle || head.Bundle == ""):
			return out, nil
		case head.Kind != "release" || head.Bundle != bundle || len(out) >= maxOverlaid:
			continue
		}
		changes, known := was[head.Number]
		if !known {
			if changes, err = c.wrote(ctx, head.Number); err != nil {
				return out, err
			}
		}
		c.written.by[head.Number] = changes
		out = append(out, Overlaid{Release: name, Written: true, Revision: head.Number, Changes: changes})
	}
	return out, nil
}

// wrote is what a revision changed in the text of the rules.
func (c *Control) wrote(ctx context.Context, number uint) ([]rules.Change, error) {
	rev, err := c.store.Revision(ctx, number)
	if err != nil {
		return nil, err
	}
	before, err := c.store.Revision(ctx, number-1)
	if err != nil {
		return nil, err
	}
	was, _ := rules.Check(joined(before.Bundles), rules.Live{})
	now, _ := rules.Check(joined(rev.Bundles), rules.Live{})
	return rules.Diff(was, now), nil
}
