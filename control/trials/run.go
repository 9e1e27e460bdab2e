package trials

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/calls"
	"nightjar/control/figures"
	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/load"
	"nightjar/store"
)

// run is a trial that is running, or ran.
type run struct {
	trials  *Trials
	plan    *Plan
	by      string
	head    store.Trial
	begins  time.Time // when it begins to measure
	planned uint64
	slack   uint64   // by how much random arrivals can be more
	callers []string // that the requests of each load count for
	load    *load.Run

	ctx    context.Context
	cancel context.CancelFunc
	ends   []func()      // what was started for it
	done   chan struct{} // closes after its end
	result atomic.Pointer[record]

	mu     sync.Mutex // guards what follows
	record record     // what does not change while it runs, and its end
	tally  trial.Tally
	parts  map[effect.Names]*stats.Counts
	status map[string]int
	points []figures.Tally // by second
	shown  []pointRecord   // of points, as they were last
	known  map[string]*answerer
	forced string // state that somebody decided on; empty: the expectations decide
}

// begin starts what a plan needs, and its load. The caller holds mu.
func (t *Trials) begin(ctx context.Context, p *Plan, q model.TrialRequest) (_ *run, err error) {
	r := &run{
		trials: t,
		plan:   p,
		by:     actor.Name(ctx),
		done:   make(chan struct{}),
		parts:  map[effect.Names]*stats.Counts{},
		status: map[string]int{},
		known:  map[string]*answerer{},
	}
	r.ctx, r.cancel = context.WithCancel(context.WithoutCancel(ctx))
	r.ends = []func(){r.cancel}
	defer func() {
		if err != nil {
			r.endAll()
		}
	}()
	isRehearsal := len(q.Rules) > 0
	sources, err := r.sources(isRehearsal)
	if err != nil {
		return nil, err
	}
	now := t.Now().UTC()
	r.head = store.Trial{Number: t.last + 1, Name: p.Trial.Name, State: model.TrialRunning, Began: now}
	r.begins = time.Now().Add(p.Trial.WarmUp + 20*time.Millisecond)
	r.record = record{
		Number:      r.head.Number,
		Name:        r.head.Name,
		By:          r.by,
		State:       r.head.State,
		Began:       now,
		Revision:    t.Revisions.Current().Revision.Number,
		Draft:       p.Changes,
		IsRehearsal: isRehearsal,
		For:         p.Trial.For.Seconds(),
		WarmUp:      p.Trial.WarmUp.Seconds(),
		Loads:       inWords(p.Trial.Load),
		Planned:     r.planned,
		Notes:       []string{},
	}
	if isRehearsal {
		r.record.Notes = append(r.record.Notes, "The requests of the trial follow the draft at their first hop. "+
			"What the workloads call for them further on follows the rules in force.")
	} else if err := r.startDrill(ctx); err != nil { // a rehearsal has its drill in proxies of its own
		return nil, err
	}
	if err := t.Records.Apply(ctx, store.AddTrial{Trial: r.head}); err != nil {
		return nil, fmt.Errorf("the trial could not be stored: %w", err)
	}
	t.last = r.head.Number
	answered := make(chan struct{})
	r.load = load.Start(r.ctx, sources, load.Options{Begin: r.begins}, func() { close(answered) })
	go r.watch(answered, q.ToEnd)
	return r, nil
}

// endAll ends what was started for the trial, the last first.
func (r *run) endAll() {
	for _, end := range slices.Backward(r.ends) {
		end()
	}
}

// startDrill starts the drill of the trial, if it has one.
func (r *run) startDrill(ctx context.Context) error {
	d := r.plan.Trial.Drill
	if d == nil {
		return nil
	}
	by := actor.Actor{Name: fmt.Sprintf("trial %d", r.head.Number)}
	q := model.DrillRequest{
		Service: d.Service,
		Version: d.Version,
		Site:    d.Site,
		Down:    d.Down,
		For:     (r.plan.Trial.For + r.plan.Trial.WarmUp + time.Second).String(),
	}
	if d.Fail > 0 {
		q.Fail = d.Fail.String() + "%"
	}
	if d.Delay > 0 {
		q.Delay = d.Delay.String()
	}
	drill, err := r.trials.Drills.Start(actor.With(ctx, by), q)
	if err != nil {
		return err
	}
	r.ends = append(r.ends, func() {
		ctx, stop := context.WithTimeout(context.Background(), storeTime)
		defer stop()
		r.trials.Drills.Stop(actor.With(ctx, by), drill.ID)
	})
	return nil
}

// sources are the loads, each with the door by which its requests enter the mesh.
func (r *run) sources(isRehearsal bool) ([]load.Source, error) {
	type entry struct{ service, gateway string }
	doors := map[entry]string{}
	var out []load.Source
	for i := range r.plan.Trial.Load {
		l := &r.plan.Trial.Load[i]
		gateway := r.plan.Rules.Gateway(l.To)
		k := entry{service: l.From}
		if gateway != nil {
			k = entry{gateway: gateway.Name}
		}
		if doors[k] == "" {
			var err error
			if isRehearsal {
				doors[k], err = r.rehearse(k.service, k.gateway)
			} else {
				doors[k], err = r.trials.Calls.Door(k.service, k.gateway)
			}
			if err != nil {
				return nil, err
			}
		}
		host, caller := calls.HostOf(l, gateway, doors[k])
		out = append(out, r.source(i, l, doors[k], host, caller))
	}
	return out, nil
}

// Seed is the seed of the arrivals of a trial's load: they are the same whenever it
// runs, and when it is forecast.
func Seed(load int) uint64 { return uint64(load) + 1 }

// source makes the requests of a load.
func (r *run) source(i int, l *rules.Load, door, host, caller string) load.Source {
	t := r.plan.Trial
	arrivals := trial.NewArrivals(l, t.WarmUp, t.For, Seed(i))
	planned := arrivals.Planned()
	r.planned += uint64(planned + 0.5)
	if r.callers = append(r.callers, caller); l.Random {
		r.slack += uint64(6 * math.Sqrt(planned)) // six standard deviations of a Poisson count
	}
	picks := trial.NewPicks(l)
	return load.Source{
		Address:  door,
		Messages: calls.Messages(l, host, r.trials.Fleet.Key()),
		Head:     l.Method == http.MethodHead,
		Safe:     engine.Idempotent(l.Method),
		Next:     arrivals.Next,
		Pick:     func() int { return picks.Next() + 1 },
		Answered: func(_ int, a *load.Answered) { r.answered(i, a) },
	}
}

// stop ends the trial early.
func (r *run) stop(state, why string) {
	r.mu.Lock()
	if r.forced == "" {
		r.forced, r.record.Why = state, why
	}
	r.mu.Unlock()
	r.cancel()
}

// watch watches the trial until its last response is there, and stores its result.
func (r *run) watch(answered <-chan struct{}, toEnd bool) {
	defer close(r.done)
	tick := time.NewTicker(watchTick)
	defer tick.Stop()
	for isOver := false; !isOver; {
		select {
		case <-answered:
			isOver = true
		case <-tick.C:
			if toEnd {
				continue
			}
			r.mu.Lock()
			results := r.judge(r.seconds())
			r.mu.Unlock()
			for _, j := range results {
				if j.Hopeless {
					r.stop(model.TrialMissed, fmt.Sprintf("%s cannot be met any more: %s", j.Expectation, j.Measured))
				}
			}
		}
	}
	r.endAll()
	k := r.finish()
	ctx, stop := context.WithTimeout(context.Background(), storeTime)
	defer stop()
	head := r.head
	head.State, head.Ended = k.State, *k.Ended
	if err := r.trials.Records.Apply(ctx, store.EndTrial{Trial: head, Summary: k.summary(), Result: k}); err != nil {
		r.trials.Log.Error("the result of a trial could not be stored", "trial", head.Number, "error", err)
	}
	r.trials.Journal.Add(ctx, store.Activity{At: *k.Ended, Who: k.By, Kind: "trial-ended",
		Detail: fmt.Sprintf("trial %d: %s, %s", head.Number, head.Name, k.State)})
}

// inWords is what loads send, in words.
func inWords(list []rules.Load) []string {
	out := []string{}
	for i := range list {
		l := &list[i]
		rate := l.Rate.String()
		if len(l.Steps) > 0 {
			var steps []string
			for _, s := range l.Steps {
				steps = append(steps, s.String())
			}
			rate = strings.Join(steps, ", then ")
		}
		text := fmt.Sprintf("%s %s%s at %s", l.Method, l.To, l.Path, rate)
		if l.From != "" {
			text += " from " + l.From
		}
		if l.Random {
			text += ", at random"
		}
		if s := l.Spike; s != nil {
			text += fmt.Sprintf(", %s for %s after %s", s.Rate, s.For, s.After)
		}
		for _, s := range l.Shares {
			var with []string
			for _, f := range s.Headers {
				with = append(with, f.Name+": "+f.Value)
			}
			for _, f := range s.Cookies {
				with = append(with, "cookie "+f.Name+"="+f.Value)
			}
			text += fmt.Sprintf(", %s%% with %s", s.Of, strings.Join(with, ", "))
		}
		out = append(out, text)
	}
	return out
}
