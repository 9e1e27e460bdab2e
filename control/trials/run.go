package trials

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/api/model"
	"nightjar/control/calls"
	"nightjar/control/figures"
	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/load"
	"nightjar/store"
	"nightjar/wire"
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

// answerer is what a value of wire.HeaderAnswered says.
type answerer struct {
	names          effect.Names
	target         string // SERVICE/VERSION; empty: no instance answered
	attempts       uint64
	hasFirstFailed bool
}

// begin starts what a plan needs, and its load. The caller holds mu.
func (t *Trials) begin(ctx context.Context, p *Plan, q model.TrialRequest) (_ *run, err error) {
	r := &run{
		trials: t,
		plan:   p,
		by:     cmp.Or(q.By, "unknown"),
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
	by := fmt.Sprintf("trial %d", r.head.Number)
	q := model.DrillRequest{
		Service: d.Service,
		Version: d.Version,
		Site:    d.Site,
		Down:    d.Down,
		By:      by,
		For:     (r.plan.Trial.For + r.plan.Trial.WarmUp + time.Second).String(),
	}
	if d.Fail > 0 {
		q.Fail = d.Fail.String() + "%"
	}
	if d.Delay > 0 {
		q.Delay = d.Delay.String()
	}
	drill, err := r.trials.Drills.Start(ctx, q)
	if err != nil {
		return err
	}
	r.ends = append(r.ends, func() {
		ctx, stop := context.WithTimeout(context.Background(), storeTime)
		defer stop()
		r.trials.Drills.Stop(ctx, drill.ID, by)
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

// answered counts the result of a request.
func (r *run) answered(source int, a *load.Answered) {
	if a.Due < 0 { // of the warm-up
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var one stats.Counts
	var by *answerer
	if a.Err != nil {
		if r.ctx.Err() != nil { // the end cut it off
			return
		}
		r.status["none"]++
		one.Failed, one.Tries = 1, 1
		by = &answerer{names: effect.Names{Caller: r.callers[source]}}
	} else {
		by = r.answerer(a.Fields.Get(wire.HeaderAnswered), r.callers[source])
		reason := calls.ReasonOf(a.Fields.Get("Proxy-Status"))
		r.status[strconv.Itoa(a.Status)]++
		one = countOf(reason, a.Status, by)
		if by.target != "" && reason == "" {
			if r.tally.Versions == nil {
				r.tally.Versions = map[string]uint64{}
			}
			r.tally.Versions[by.target]++
		}
	}
	one.Observe(a.Took)
	r.tally.Add(&one)
	part := r.parts[by.names]
	if part == nil {
		part = &stats.Counts{}
		r.parts[by.names] = part
	}
	part.Add(&one)
	second := int(a.Due / time.Second)
	for len(r.points) <= second {
		r.points = append(r.points, figures.Tally{})
	}
	r.points[second].Add(&one)
}

// countOf is the counts of one response.
func countOf(reason engine.Reason, status int, by *answerer) (one stats.Counts) {
	class := engine.Classify(reason, status)
	switch class {
	case engine.OK:
		one.OK = 1
	case engine.Refused:
		one.Refused = 1
	default:
		one.Failed = 1
	}
	if n, ok := reason.Number(); ok && reason != "" {
		one.Reasons[n] = 1
	}
	one.Status[min(status/100, 5)] = 1
	if one.Tries = by.attempts; class == engine.OK && !by.hasFirstFailed {
		one.FirstOK = 1
	}
	return one
}

// answerer reads a value of wire.HeaderAnswered, each only once.
func (r *run) answerer(field, caller string) *answerer {
	if by := r.known[field]; by != nil {
		return by
	}
	field = strings.Clone(field) // it is part of what was received
	a := calls.ReadAnswered(field)
	by := &answerer{
		names:          effect.Names{Caller: caller, Gate: a.GatewayRoute},
		attempts:       1,
		hasFirstFailed: a.HasFirstFailed,
	}
	service := a.Service
	if a.GatewayRoute != "" && service == caller {
		service = "" // the gateway answered by itself
	}
	by.names.Service, by.names.Version = service, a.Version
	if a.Route != "" {
		by.names.RouteOf, by.names.Route = service, a.Route
	}
	if a.Version != "" {
		by.target = a.Service + "/" + a.Version
	}
	if n, err := strconv.ParseUint(a.Attempts, 10, 16); err == nil {
		by.attempts = n
	}
	r.known[field] = by
	return by
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
	r.trials.Journal.Add(store.Activity{At: *k.Ended, Who: k.By, Kind: "trial-ended",
		Detail: fmt.Sprintf("trial %d: %s, %s", head.Number, head.Name, k.State)})
}

// finish is the result of the trial.
func (r *run) finish() *record {
	k := r.state()
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.trials.Now().UTC()
	k.Ended = &now
	k.State = model.TrialMet
	if slices.ContainsFunc(k.Expected, func(j trial.Judgement) bool { return !j.Met }) {
		k.State = model.TrialMissed
	}
	k.State = cmp.Or(r.forced, k.State)
	for i := range k.Expected {
		k.Expected[i].Hopeless = false // that was of a trial that is running
	}
	for names, c := range r.parts {
		b, _ := c.AppendBinary(nil)
		k.Parts = append(k.Parts, partRecord{names, b})
	}
	r.result.Store(&k)
	return &k
}

// curveShares are the points of a latency curve.
var curveShares = []float64{
	0.01, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.925, 0.95, 0.975, 0.99, 0.995, 0.999,
}

// state is the trial as it is now.
func (r *run) state() record {
	if k := r.result.Load(); k != nil {
		return *k
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.record
	k.Seconds = r.seconds()
	k.Figures = figuresOf((&figures.Tally{Counts: r.tally.Counts}).Figures(max(k.Seconds, 0.001)))
	k.Expected = r.judge(k.Seconds)
	k.Versions = r.shares()
	k.Status = maps.Clone(r.status)
	k.Notes = slices.Clone(k.Notes)
	if r.load != nil {
		k.Pace = pace(r.load.Pace(), r.tally.Quantile(0.5))
	}
	if r.tally.Requests() > 0 {
		for _, q := range curveShares {
			k.Curve = append(k.Curve, model.CurvePoint{Share: q, MS: figures.Millis(r.tally.Quantile(q))})
		}
	}
	k.Points = r.pointRecords()
	return k
}

// shares are the responses of each version. The caller holds mu.
func (r *run) shares() []model.TrialShare {
	out := []model.TrialShare{}
	totals := map[string]uint64{}
	for target, n := range r.tally.Versions {
		service, _, _ := strings.Cut(target, "/")
		totals[service] += n
	}
	for _, target := range slices.Sorted(maps.Keys(r.tally.Versions)) {
		service, _, _ := strings.Cut(target, "/")
		n, all := r.tally.Versions[target], totals[service]
		s := model.TrialShare{Target: target, Requests: n, Share: float64(n) / float64(all)}
		s.Low, s.High = stats.Wilson(n, all)
		out = append(out, s)
	}
	return out
}

// pointRecords are the points; those that changed are computed anew. The caller
// holds mu.
func (r *run) pointRecords() []pointRecord {
	for i := range r.points {
		t := &r.points[i]
		if i == len(r.shown) {
			r.shown = append(r.shown, pointRecord{At: int64(i)})
		}
		if was := &r.shown[i]; was.OK+was.Failed+was.Refused != t.Requests() {
			p := t.Point(int64(i))
			*was = pointRecord{
				At:      p.At,
				OK:      p.OK,
				Failed:  p.Failed,
				Refused: p.Refused,
				Success: p.Success,
				P50MS:   p.P50MS,
				P95MS:   p.P95MS,
				P99MS:   p.P99MS,
			}
		}
	}
	return slices.Clone(r.shown)
}

// seconds is how long the trial has measured.
func (r *run) seconds() float64 {
	return min(max(time.Since(r.begins), 0), r.plan.Trial.For).Seconds()
}

// judge compares what was measured so far with the expectations. The caller holds
// mu.
func (r *run) judge(seconds float64) []trial.Judgement {
	left := r.planned + r.slack - min(r.planned+r.slack, r.tally.Requests())
	if r.load != nil && time.Since(r.begins) >= r.plan.Trial.For && r.load.Pace().Flying == 0 {
		left = 0
	}
	out := []trial.Judgement{}
	for i := range r.plan.Trial.Expect {
		out = append(out, trial.Judge(&r.plan.Trial.Expect[i], &r.tally, seconds, left))
	}
	return out
}

// pace tells how well the requests were sent on time, and whether that spoils the
// figures.
func pace(p load.Pace, p50 time.Duration) model.TrialPace {
	out := model.TrialPace{
		Sent:     p.Sent,
		Unsent:   p.Unsent,
		Late50MS: figures.Millis(p.Late50),
		Late99MS: figures.Millis(p.Late99),
	}
	switch {
	case p.Unsent > 0:
		out.Bottleneck = fmt.Sprintf("%d requests were not sent because too many others were waiting for responses: "+
			"the mesh, or this machine, cannot take this rate", p.Unsent)
	case p.Late99 > 5*time.Millisecond && p.Late99 > p50/10:
		out.Bottleneck = fmt.Sprintf(
			"one request in a hundred was sent %.1f ms late or more: this machine is too busy "+
				"for this rate, and latencies include that delay",
			figures.Millis(p.Late99),
		)
	}
	return out
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
