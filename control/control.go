// Package control is the work of the service, put together of its parts: one package
// for each idea, each with its own lock and its own small view of the store.
//
//	actor      who acts, in a context
//	journal    the activity log
//	retention  how long records are kept
//	people     who may use the service: credentials, roles, sessions
//	signon     signing in by a provider of identities
//	fleet      proxies: leases, snapshots, acknowledgements
//	members    who belongs to the mesh: joining, certificates, their authority
//	upgrades   a new program for the fleet, wave by wave
//	figures    what proxies counted, in memory and on disk
//	drills     failures that are injected for a limited time
//	drains     sites that give their requests away for maintenance
//	revisions  rules: what is in force, history, drafts
//	limits     limits that all proxies share
//	access     who calls whom, and who may
//	feed       single requests, live
//	calls      requests that people want explained or sent
//	effects    what changes did
//	outbox     events for receivers
//	releases   moving to a new version in judged stages
//	trials     loads with expectations
//	forecasts  what would happen
//	follows    bundles that follow a branch of a repository
//	views      what people look at
//
// A package depends only on those above it.
package control

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/control/access"
	"nightjar/control/calls"
	"nightjar/control/drains"
	"nightjar/control/drills"
	"nightjar/control/effects"
	"nightjar/control/feed"
	"nightjar/control/figures"
	"nightjar/control/fleet"
	"nightjar/control/follows"
	"nightjar/control/forecasts"
	"nightjar/control/journal"
	"nightjar/control/limits"
	"nightjar/control/members"
	"nightjar/control/outbox"
	"nightjar/control/people"
	"nightjar/control/releases"
	"nightjar/control/retention"
	"nightjar/control/revisions"
	"nightjar/control/signon"
	"nightjar/control/trials"
	"nightjar/control/upgrades"
	"nightjar/control/views"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/traces"
	"nightjar/wire"
)

const (
	tidyEvery  = 500 * time.Millisecond
	readyEvery = 15 * time.Second
	closeTime  = 5 * time.Second // to write what is left
	linksTime  = 2 * time.Second // to read which links were used
)

// Config is what the service is made of.
type Config struct {
	Store     *store.Store
	Program   string             // version of the service
	Traced    float64            // share of the requests without a trace context that proxies trace, 0 to 1
	Key       ed25519.PrivateKey // signs events; nil: they are not signed
	Exporter  *traces.Exporter   // gets every span too; nil: none does
	Log       *slog.Logger       // nil: nothing is logged
	Now       func() time.Time   // nil: time.Now
	Authority *authority.Authority
	// Node are the credentials of the service itself, which are Self's.
	Node    *identity.Credentials
	Self    identity.Member
	SignOn  *signon.Config        // provider of identities; nil: none
	Keep    retention.Times       // how long records are kept; nil: retention.Defaults
	Archive string                // directory for old records; empty: they are not archived
	Dir     string                // the data directory, for the keys and copies of repositories
	Follows []model.FollowRequest // bundles that follow a branch, by the configuration
	// StartProxy: see trials.Config.
	StartProxy func(ctx context.Context, p trials.LocalProxy) (address string, wait func(), err error)
}

// Control is the running service without its API.
type Control struct {
	Program string
	Traces  *traces.Store

	Journal   *journal.Journal
	Retention *retention.Retention
	People    *people.People
	SignOn    *signon.SignOn // nil: there is none
	Fleet     *fleet.Fleet
	Members   *members.Members
	Figures   *figures.Figures
	Drills    *drills.Drills
	Drains    *drains.Drains
	Upgrades  *upgrades.Upgrades
	Revisions *revisions.Revisions
	Limits    *limits.Limits
	Access    *access.Access
	Feed      *feed.Feed
	Calls     *calls.Calls
	Effects   *effects.Effects
	Outbox    *outbox.Outbox
	Releases  *releases.Releases
	Trials    *trials.Trials
	Forecasts *forecasts.Forecasts
	Follows   *follows.Follows
	Views     *views.Views

	records *store.Store
	log     *slog.Logger
	now     func() time.Time
}

// Ready tells whether the service can keep what it is told: an error says why not.
func (c *Control) Ready(ctx context.Context) error { return c.records.Ready(ctx) }

// New reads from the store what the service needs to continue.
func New(ctx context.Context, cfg Config) (*Control, error) {
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	cfg.Log = cmp.Or(cfg.Log, slog.New(slog.DiscardHandler))
	c := &Control{Program: cfg.Program, Traces: traces.New(), records: cfg.Store, log: cfg.Log, now: cfg.Now}
	c.Traces.Exporter = cfg.Exporter
	for _, open := range []func(context.Context, Config) error{c.openMesh, c.openRules, c.openRuns} {
		if err := open(ctx, cfg); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// openMesh opens what knows the proxies: registry, figures, drills and the feed.
func (c *Control) openMesh(ctx context.Context, cfg Config) (err error) {
	st := cfg.Store
	c.Journal = journal.New(st)
	c.Retention = &retention.Retention{Records: st, Times: cfg.Keep, Archive: cfg.Archive, Now: cfg.Now}
	c.People, err = people.Open(ctx, people.Config{Records: st, Journal: c.Journal, Now: cfg.Now})
	if err != nil {
		return fmt.Errorf("reading the access tokens: %w", err)
	}
	if cfg.SignOn != nil {
		c.SignOn = signon.New(cfg.SignOn, c.People, cfg.Now)
	}
	c.Fleet = fleet.New(fleet.Config{
		Mesh:    st.Mesh(),
		IsNew:   st.IsNew(),
		Traced:  cfg.Traced,
		Journal: c.Journal,
		Now:     cfg.Now,
	})
	c.Members, err = members.Open(members.Config{
		Records:   st,
		Authority: cfg.Authority,
		Node:      cfg.Node,
		Self:      cfg.Self,
		Fleet:     c.Fleet,
		Journal:   c.Journal,
		Log:       cfg.Log,
		Now:       cfg.Now,
	})
	if err != nil {
		return err
	}
	if c.Figures, err = figures.Open(ctx, st, cfg.Now); err != nil {
		return fmt.Errorf("reading the telemetry: %w", err)
	}
	if c.Drills, err = drills.Open(ctx, st, c.Fleet, c.Journal, cfg.Now); err != nil {
		return fmt.Errorf("reading the drills: %w", err)
	}
	c.Upgrades, err = upgrades.Open(ctx, upgrades.Config{
		Records: st,
		Fleet:   c.Fleet,
		Node:    cfg.Node,
		Dir:     filepath.Join(cfg.Dir, "programs"),
		Journal: c.Journal,
		Now:     cfg.Now,
	})
	if err != nil {
		return fmt.Errorf("reading the upgrades: %w", err)
	}
	c.Feed = feed.New(c.Fleet, c.Traces, cfg.Now)
	return nil
}

// openRules opens the rules in force, and what looks at them and at the mesh.
func (c *Control) openRules(ctx context.Context, cfg Config) (err error) {
	c.Revisions, err = revisions.Open(ctx, revisions.Config{
		Records: cfg.Store,
		Fleet:   c.Fleet,
		Journal: c.Journal,
		Live:    c.live,
		Now:     cfg.Now,
	})
	if err != nil {
		return fmt.Errorf("reading the rules in force: %w", err)
	}
	c.Drains, err = drains.Open(ctx, drains.Config{
		Records: cfg.Store,
		Fleet:   c.Fleet,
		Journal: c.Journal,
		Rules:   func() *rules.Rules { return c.Revisions.Current().Rules },
		Now:     cfg.Now,
	})
	if err != nil {
		return fmt.Errorf("reading the sites that are drained: %w", err)
	}
	c.Limits = limits.New(func() *rules.Rules { return c.Revisions.Current().Rules })
	c.Access = access.New(access.Config{
		Records: cfg.Store,
		Current: c.Revisions.Current,
		Sites:   c.Fleet.SitesOf,
		Now:     cfg.Now,
	})
	c.Calls = calls.New(calls.Config{
		Fleet:   c.Fleet,
		Current: c.Revisions.Current,
		Drills:  c.Drills.Specs,
		Drains:  c.Drains.Told,
		Now:     cfg.Now,
	})
	c.Effects = effects.New(effects.Config{
		Records: cfg.Store,
		Figures: c.Figures,
		Current: c.Revisions.Current,
		Touches: c.Revisions.Touches(),
		Drills:  c.Drills.List,
		Now:     cfg.Now,
	})
	return nil
}

// openRuns opens what people let run: releases, trials and forecasts; and the views,
// which show all of it.
func (c *Control) openRuns(ctx context.Context, cfg Config) (err error) {
	c.Outbox = outbox.New(outbox.Config{Records: cfg.Store, Key: cfg.Key, Log: cfg.Log, Now: cfg.Now})
	c.Releases, err = releases.Open(ctx, releases.Config{
		Records:   cfg.Store,
		Revisions: c.Revisions,
		Fleet:     c.Fleet,
		Figures:   c.Figures,
		Calls:     c.Calls,
		Outbox:    c.Outbox,
		Journal:   c.Journal,
		Log:       cfg.Log,
		Now:       cfg.Now,
	})
	if err != nil {
		return fmt.Errorf("reading the releases: %w", err)
	}
	c.Trials, err = trials.Open(ctx, trials.Config{
		Records:    cfg.Store,
		Revisions:  c.Revisions,
		Fleet:      c.Fleet,
		Calls:      c.Calls,
		Drills:     c.Drills,
		Journal:    c.Journal,
		Log:        cfg.Log,
		Now:        cfg.Now,
		StartProxy: cfg.StartProxy,
	})
	if err != nil {
		return fmt.Errorf("reading the trials: %w", err)
	}
	c.Forecasts = forecasts.New(forecasts.Config{
		Figures:   c.Figures,
		Revisions: c.Revisions,
		Trials:    c.Trials,
		Fleet:     c.Fleet,
		Table:     c.Calls.Table,
		Drills:    c.Drills.Specs,
		Drains:    c.Drains.Told,
		Traces:    c.Traces,
	})
	c.Follows, err = follows.Open(ctx, follows.Config{
		Records:    cfg.Store,
		Revisions:  c.Revisions,
		Forecast:   c.Forecasts.Forecast,
		Ahead:      c.Fleet.Ahead,
		Outbox:     c.Outbox,
		Journal:    c.Journal,
		Dir:        cfg.Dir,
		Configured: cfg.Follows,
		Log:        cfg.Log,
		Now:        cfg.Now,
	})
	if err != nil {
		return fmt.Errorf("reading what bundles follow: %w", err)
	}
	c.Views = views.New(views.Config{
		Records:   cfg.Store,
		Revisions: c.Revisions,
		Fleet:     c.Fleet,
		Figures:   c.Figures,
		Drills:    c.Drills,
		Drains:    c.Drains.Of,
		Releases:  c.Releases.Summaries,
		Domain:    cfg.Authority.Domain(),
		Now:       cfg.Now,
	})
	return nil
}

// live is the mesh as it is now, for the checker of rules.
func (c *Control) live() rules.Live {
	m := c.Fleet.Members()
	l := rules.Live{Known: true, Versions: m.Versions}
	l.Links, l.Busy = c.Figures.Traffic(m.Proxies)
	if c.Access != nil { // it comes after the rules that are checked at the start
		ctx, stop := context.WithTimeout(context.Background(), linksTime)
		defer stop()
		l.Links = c.Access.Links(ctx, l.Links)
	}
	return l
}

// Count takes what a proxy reports of the requests that it counted, and of its guards.
func (c *Control) Count(id string, d wire.Delta) wire.Kept {
	now := c.now()
	c.Fleet.AddSites(d.Series)
	kept, isNew := c.Figures.Count(&d)
	if isNew {
		c.Access.Count(&d)
		c.Releases.Count(&d, telemetry.At(&d, now))
		c.Fleet.Report(id, &d)
		c.Upgrades.Count(id, &d)
		events := activity(id, &d, now)
		for i := range events {
			e := &events[i]
			e.Site = c.Fleet.EventSite(id, e.Service, e.Instance)
		}
		c.Journal.Add(context.Background(), events...)
	}
	return kept
}

// activity is the events of guards that a proxy reports.
func activity(id string, d *wire.Delta, now time.Time) []store.Activity {
	ago := func(ms int64) time.Duration {
		return time.Duration(min(max(ms, 0), telemetry.Kept*1000)) * time.Millisecond // a proxy can report anything
	}
	sent := now.Add(-ago(d.AgoMS))
	list := make([]store.Activity, len(d.Events))
	for i, e := range d.Events {
		list[i] = entry(id, e, sent.Add(-ago(e.AgoMS)))
	}
	return list
}

func entry(id string, e engine.Event, at time.Time) store.Activity {
	return store.Activity{
		At:       at.UTC(),
		Who:      id,
		Kind:     e.Kind,
		Service:  e.Service,
		Version:  e.Version,
		Instance: e.Instance,
		Detail:   e.Detail,
	}
}

// Run does what has to be done regularly, until ctx is done.
func (c *Control) Run(ctx context.Context) {
	var loops sync.WaitGroup
	do := func(every time.Duration, failure string, job func(context.Context) error) {
		loops.Go(func() {
			t := time.NewTicker(every)
			defer t.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-t.C:
					if err := job(ctx); err != nil && ctx.Err() == nil {
						c.log.Error(failure, "error", err)
					}
				}
			}
		})
	}
	do(tidyEvery, "what is over cannot be tidied", c.tidy)
	do(tidyEvery, "the activity log cannot be written; entries wait", c.Journal.Write)
	do(readyEvery, "the records cannot be kept", c.Ready)
	do(members.StepEvery, "the certificates of the mesh cannot be looked after", c.Members.Step)
	do(people.WriteEvery, "the use of credentials cannot be noted", c.People.Tidy)
	do(retention.Every, "old records cannot go", c.Retention.Step)
	do(figures.WriteEvery, "telemetry cannot be written; proxies keep it meanwhile", c.Figures.Write)
	do(figures.AgeEvery, "old telemetry cannot be merged", c.Figures.Age)
	do(access.WriteEvery, "what was counted for access cannot be written; it waits", c.Access.Write)
	do(upgrades.StepEvery, "the step of an upgrade cannot be stored; it waits", c.Upgrades.Step)
	do(drains.StepEvery, "a site cannot be drained further", c.Drains.Step)
	do(limits.SweepEvery, "limits of the whole mesh cannot be tidied", c.Limits.Sweep)
	do(effects.RecordEvery, "an effect cannot be recorded", c.Effects.Record)
	do(releases.StepEvery, "the steps of releases cannot be stored; they wait", c.Releases.Step)
	do(follows.StepEvery, "repositories cannot be looked at", c.Follows.Step)
	do(outbox.DeliverEvery, "notices cannot be read; their receivers wait", c.Outbox.Deliver)
	<-ctx.Done()
	loops.Wait()
	c.close(ctx)
}

// tidy lets time pass where that is all that is needed. It never waits for the disk.
func (c *Control) tidy(ctx context.Context) error {
	now := c.now()
	c.Fleet.Expire(now)
	c.Drills.Expire(ctx, now)
	c.Figures.Tidy(now)
	return nil
}

// close ends what is running, and writes what is left.
func (c *Control) close(ctx context.Context) {
	c.Trials.Close()
	c.Releases.Close()
	c.Follows.Wait()
	c.Outbox.Wait()
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), closeTime)
	defer stop()
	if err := c.Journal.Write(ctx); err != nil {
		c.log.Error("the last activity could not be written", "error", err)
	}
	if err := c.Access.Write(ctx); err != nil {
		c.log.Error("the last counts for access could not be written", "error", err)
	}
	if err := c.Figures.Write(ctx); err != nil {
		c.log.Error("the last telemetry could not be written", "error", err)
	}
}
