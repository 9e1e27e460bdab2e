// Package drains empties sites for maintenance: their instances give their requests away to
// those elsewhere, bit by bit, and take them back later. The service says how far it is; a
// proxy that does not hear of it stays where it is.
package drains

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

const (
	// StepEvery is how often Step is to be called.
	StepEvery = 500 * time.Millisecond
	// maxTime is the longest time over which a site is drained.
	maxTime = 24 * time.Hour
	// steps is in how many parts requests are given away: each makes every proxy compile its
	// rules.
	steps = 50
)

// Records is what drains need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Drains(ctx context.Context) ([]store.Drain, error)
}

// Fleet is where drains are carried out.
type Fleet interface {
	SetDrains(list []wire.Drain)
	Names() fleet.Names
	List() model.Fleet
}

// Config is what Drains are made of.
type Config struct {
	Records Records
	Fleet   Fleet
	Journal *journal.Journal
	Rules   func() *rules.Rules // in force
	Now     func() time.Time
}

// Drains are the sites that are drained. It is safe for concurrent use.
type Drains struct {
	Config

	changing sync.Mutex // held while a drain begins or ends
	telling  sync.Mutex // held while the fleet is told

	mu   sync.Mutex // guards what follows
	list []store.Drain
	told []wire.Drain
}

// Open reads the drains, and gives them to the fleet.
func Open(ctx context.Context, c Config) (*Drains, error) {
	d := &Drains{Config: c}
	var err error
	if d.list, err = c.Records.Drains(ctx); err != nil {
		return nil, err
	}
	d.tell()
	return d, nil
}

// leaves is the part of their shares that the instances of a site give away, 0 to 1.
func leaves(d *store.Drain, now time.Time) float64 {
	part := 1.0
	if d.Over > 0 {
		part = min(1, max(0, float64(now.Sub(d.Began))/float64(d.Over)))
	}
	return d.From + part*(d.To-d.From)
}

// tell gives the fleet how far the drains are, if that is news.
func (d *Drains) tell() {
	d.telling.Lock()
	defer d.telling.Unlock()
	now := d.Now()
	d.mu.Lock()
	out := make([]wire.Drain, 0, len(d.list))
	for i := range d.list {
		one := &d.list[i]
		part := leaves(one, now)
		if part != one.To { // in steps, but for its end
			part = float64(int(part*steps)) / steps
		}
		if part > 0 {
			out = append(out, wire.Drain{Site: one.Site, Leaves: part})
		}
	}
	isNews := !slices.Equal(out, d.told)
	d.told = out
	d.mu.Unlock()
	if isNews {
		d.Fleet.SetDrains(out)
	}
}

// Told are the drains as proxies know them.
func (d *Drains) Told() []wire.Drain {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.told
}

// Step takes the drains further, and forgets those whose site has its requests back.
func (d *Drains) Step(ctx context.Context) error {
	d.tell()
	d.changing.Lock()
	defer d.changing.Unlock()
	now := d.Now()
	for _, one := range d.all() {
		if one.To > 0 || leaves(&one, now) > 0 {
			continue
		}
		if err := d.Records.Apply(ctx, store.DeleteDrain{Site: one.Site}); err != nil {
			return err
		}
		d.put(one.Site, nil)
	}
	return nil
}

func (d *Drains) all() []store.Drain {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.list)
}

// put replaces the drain of a site; nil: it has none.
func (d *Drains) put(site string, one *store.Drain) {
	d.mu.Lock()
	d.list = slices.DeleteFunc(slices.Clone(d.list), func(o store.Drain) bool { return o.Site == site })
	if one != nil {
		d.list = append(d.list, *one)
		slices.SortFunc(d.list, func(a, b store.Drain) int { return cmp.Compare(a.Site, b.Site) })
	}
	d.mu.Unlock()
	d.tell()
}

// Drain has the instances of a site give their requests away, bit by bit over a time, such as
// 2m; empty: at once.
func (d *Drains) Drain(ctx context.Context, site, over string) (model.Drain, error) {
	return d.change(ctx, site, over, 1)
}

// Resume has the instances of a site take their requests back.
func (d *Drains) Resume(ctx context.Context, site, over string) (model.Drain, error) {
	return d.change(ctx, site, over, 0)
}

func (d *Drains) change(ctx context.Context, site, over string, to float64) (model.Drain, error) {
	time_, err := time.ParseDuration(cmp.Or(over, "0s"))
	if err != nil || time_ < 0 || time_ > maxTime {
		return model.Drain{}, problem.Invalid("over: %q is not a time up to 24h, such as 2m", over)
	}
	names := d.Fleet.Names()
	d.changing.Lock()
	defer d.changing.Unlock()
	now := d.Now().UTC()
	one := store.Drain{Site: site, By: actor.Name(ctx), Began: now, Over: time_, To: to}
	isThere := false
	for _, before := range d.all() {
		if before.Site == site {
			isThere, one.From = true, leaves(&before, now)
		}
	}
	switch {
	case to == 0 && !isThere:
		return model.Drain{}, problem.Missing("site %s is not drained", site)
	case to > 0 && !isThere && !names.Sites[site]:
		return model.Drain{}, problem.Missing("no instance runs at site %s: \"nightjar sites\" lists the sites", site)
	}
	if err := d.Records.Apply(ctx, store.SaveDrain{Drain: one}); err != nil {
		return model.Drain{}, err
	}
	d.put(site, &one)
	out := d.view(&one, now)
	kind, what := "site-drained", "gives its requests away"
	if to == 0 {
		kind, what = "site-resumed", "takes its requests back"
	}
	d.Journal.Add(ctx, store.Activity{
		At: now, Who: one.By, Kind: kind, Site: site, Detail: fmt.Sprintf("site %s %s over %s", site, what, time_),
	})
	return out, nil
}

// Of is the drain of a site; nil: it has none.
func (d *Drains) Of(site string) *model.Drain {
	for _, one := range d.all() {
		if one.Site == site {
			v := d.view(&one, d.Now())
			return &v
		}
	}
	return nil
}

func (d *Drains) view(one *store.Drain, now time.Time) model.Drain {
	out := model.Drain{
		Site:        one.Site,
		By:          one.By,
		Began:       one.Began,
		Ends:        one.Began.Add(one.Over),
		Leaves:      leaves(one, now),
		IsReturning: one.To == 0,
		Stays:       []string{},
	}
	if !out.IsReturning {
		out.Stays = append(out.Stays, stays(one.Site, d.Rules(), d.Fleet.List().Proxies)...)
	}
	return out
}

// stays is what a drain of a site does not move, in words.
func stays(site string, rs *rules.Rules, proxies []model.Proxy) (out []string) {
	here, elsewhere := map[string]bool{}, map[string]bool{}
	note := func(service, at string) {
		if at == site {
			here[service] = true
		} else {
			elsewhere[service] = true
		}
	}
	for i := range proxies {
		switch p := &proxies[i]; {
		case p.Inbound != "":
			note(p.Service, p.Site)
		case p.Site == site && p.Gateway != "":
			out = append(out, fmt.Sprintf("proxy %s serves gateway %s there: send its callers elsewhere", p.ID, p.Gateway))
		}
	}
	for _, s := range rs.Services {
		for _, in := range s.Instances {
			note(s.Name, in.Site)
		}
		for _, rt := range s.Routes {
			if rt.Otherwise != nil && rt.Otherwise.Site != site {
				continue
			}
			for _, t := range rt.Send {
				if t.Site == site {
					out = append(out, fmt.Sprintf("route %s of %s sends to %s alone: give it otherwise: TARGET",
						rt.Name, s.Name, t.Short(s.Name)))
				}
			}
		}
	}
	for name := range here {
		if !elsewhere[name] {
			out = append(out, fmt.Sprintf("service %s runs at no other site", name))
		}
	}
	slices.SortFunc(out, strings.Compare)
	return out
}
