package control

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

	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/load"
	"nightjar/store"
	"nightjar/wire"
)

// trialRun is a trial that runs, or the last one that ran.
type trialRun struct {
	c       *Control
	head    store.TrialHead
	plan    *plan
	begins  time.Time // when it begins to measure
	planned uint64
	slack   uint64 // by how much random arrivals may be more
	callers []string
	ctx     context.Context
	cancel  context.CancelFunc
	done    chan struct{}
	over    atomic.Pointer[keptTrial] // what came of it, once it is over
	load    *load.Run

	mu     sync.Mutex // guards what follows
	result Trial
	tally  trial.Tally
	parts  map[effect.Names]*stats.Counts
	status map[string]int
	points []tally
	shown  []Point // of points, as they were when they were shown last
	known  map[string]*toldOf
	ending string // state that somebody decided on
}

// toldOf is what an answer's field says of it.
type toldOf struct {
	names  effect.Names
	target string
	tries  uint64
	missed bool // the first try failed
}

// begin starts what a plan needs, and its load.
func (c *Control) begin(ctx context.Context, p *plan, ask TrialAsk) (_ *trialRun, err error) {
	t := p.trial
	run := &trialRun{c: c, plan: p, done: make(chan struct{}), parts: map[effect.Names]*stats.Counts{}, status: map[string]int{}, known: map[string]*toldOf{}}
	run.ctx, run.cancel = context.WithCancel(context.WithoutCancel(ctx))
	ends := []func(){run.cancel}
	defer func() {
		if err != nil {
			for _, end := range slices.Backward(ends) {
				end()
			}
		}
	}()
	rehearse := len(ask.Rules) > 0
	doors := map[[2]string]string{}
	var sources []load.Source
	for i := range t.Load {
		l := &t.Load[i]
		gateway := p.rules.Gateway(l.To)
		k := [2]string{l.From, ""}
		if gateway != nil {
			k = [2]string{"", gateway.Name}
		}
		if doors[k] == "" {
			if rehearse {
				var end func()
				if doors[k], end, err = c.rehearse(run.ctx, p, k[0], k[1]); err == nil {
					ends = append(ends, end)
				}
			} else {
				doors[k], err = c.door(Ask{From: k[0]}, &asked{gateway: k[1]})
			}
			if err != nil {
				return nil, err
			}
		}
		host, caller := hostOf(l, gateway, doors[k])
		sources = append(sources, run.source(i, l, reachable(doors[k]), host, caller))
	}
	now := c.now()
	run.head, err = c.store.AddTrial(ctx, store.TrialHead{Name: t.Name, State: TrialRunning, Began: now.UTC()})
	if err != nil {
		return nil, fmt.Errorf("the trial could not be stored: %w", err)
	}
	run.begins = time.Now().Add(t.WarmUp + 20*time.Millisecond)
	run.result = Trial{Number: run.head.Number, Name: t.Name, By: cmp.Or(ask.By, "unknown"), State: TrialRunning, Began: run.head.Began, Revision: c.InForce().Revision.Number,
		Draft: p.changes, Rehearse: rehearse, For: t.For.Seconds(), WarmUp: t.WarmUp.Seconds(), Loads: loadsInWords(t.Load), Planned: run.planned, Notes: append([]string{}, p.notes...)}
	if rehearse {
		run.result.Notes = append(run.result.Notes, "The requests of the trial follow the draft at their first hop; what the workloads call for them further on follows the rules in force.")
	}
	if d := t.Drill; d != nil && !rehearse { // a rehearsal has it in its own proxies
		drill, derr := c.StartDrill(ctx, DrillAsk{Service: d.Service, Version: d.Version, Site: d.Site, Fail: percentOf(d.Fail), Delay: durationOf(d.Delay), Down: d.Down,
			For: (t.For + t.WarmUp + time.Second).String(), By: fmt.Sprintf("trial %d", run.head.Number)})
		if derr != nil {
			run.result.State = TrialStopped
			c.store.EndTrial(ctx, store.TrialHead{Number: run.head.Number, Name: t.Name, State: TrialStopped, Began: run.head.Began, Ended: c.now().UTC()}, run.result, keptTrial{Trial: run.result})
			return nil, derr
		}
		ends = append(ends, func() {
			stop, done := context.WithTimeout(context.Background(), 5*time.Second)
			defer done()
			c.StopDrill(stop, drill.ID, fmt.Sprintf("trial %d", run.head.Number))
		})
	}
	answered := make(chan struct{})
	run.load = load.Start(run.ctx, sources, load.Options{Begin: run.begins}, func() { close(answered) })
	go run.watch(answered, ends, ask.ToEnd)
	return run, nil
}

func percentOf(p rules.Percent) string {
	if p == 0 {
		return ""
	}
	return p.String() + "%"
}

func durationOf(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return d.String()
}

// loadsInWords tells what is sent.
func loadsInWords(list []rules.Load) []string {
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

// hostOf is the host that a load's requests name when they go by a door, and whose
// calls they count as.
func hostOf(l *rules.Load, gateway *rules.Gateway, door string) (host, caller string) {
	if gateway == nil {
		return l.To, cmp.Or(l.From, ownCaller)
	}
	host = reachable(door)
	if i := slices.IndexFunc(gateway.Hosts, func(h string) bool { return !strings.HasPrefix(h, "*") }); i >= 0 {
		host = gateway.Hosts[i]
	}
	return host, gateway.Name
}

// messagesOf are the requests of a load: of all, and of every share. They show the
// key of the mesh's own calls.
func messagesOf(l *rules.Load, host, key string) [][]byte {
	message := func(headers, cookies []rules.Field) []byte {
		h := http.Header{"User-Agent": {"nightjar"}, http.CanonicalHeaderKey(wire.HeaderAsk): {key}}
		for _, f := range append(slices.Clone(l.Headers), headers...) {
			h.Set(f.Name, f.Value)
		}
		var pairs []string
		for _, f := range append(slices.Clone(l.Cookies), cookies...) {
			pairs = append(pairs, f.Name+"="+f.Value)
		}
		if len(pairs) > 0 {
			h["Cookie"] = append(h["Cookie"], strings.Join(pairs, "; "))
		}
		to := host
		if own := h.Get("Host"); own != "" {
			to = own
			h.Del("Host")
		}
		return load.Message(l.Method, l.Path, to, h, l.Body)
	}
	messages := [][]byte{message(nil, nil)}
	for _, s := range l.Shares {
		messages = append(messages, message(s.Headers, s.Cookies))
	}
	return messages
}

// arrivalsOf is the seed of the arrivals of a trial's load: they are the same
// whenever it runs, and when it is forecast.
func arrivalsOf(load int) uint64 { return uint64(load) + 1 }

// source makes the requests of a load.
func (r *trialRun) source(i int, l *rules.Load, address, host, caller string) load.Source {
	arrivals := trial.NewArrivals(l, r.plan.trial.WarmUp, r.plan.trial.For, arrivalsOf(i))
	planned := arrivals.Planned()
	r.planned += uint64(planned + 0.5)
	if r.callers = append(r.callers, caller); l.Random {
		r.slack += uint64(6 * math.Sqrt(planned))
	}
	picks := trial.NewPicks(l)
	messages := messagesOf(l, host, r.c.ledger.key)
	return load.Source{Address: address, Messages: messages, Head: l.Method == http.MethodHead, Safe: engine.Idempotent(l.Method), Next: arrivals.Next,
		Pick: func() int { return picks.Next() + 1 }, Answered: func(_ int, a *load.Answered) { r.answered(i, a) }}
}

// answered counts what came of a request.
func (r *trialRun) answered(source int, a *load.Answered) {
	if a.Due < 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var one stats.Counts
	var told *toldOf
	if a.Err != nil {
		if r.ctx.Err() != nil { // cut off by the end
			return
		}
		r.status["none"]++
		one.Failed, one.Tries = 1, 1
		told = &toldOf{names: effect.Names{Caller: r.callers[source]}}
	} else {
		field := a.Fields.Get(wire.HeaderAnswered)
		if told = r.known[field]; told == nil {
			told = readTold(strings.Clone(field), r.callers[source])
			r.known[strings.Clone(field)] = told
		}
		reason := engine.Reason(refusal(a.Fields.Get("Proxy-Status")))
		r.status[strconv.Itoa(a.Status)]++
		class := engine.Classify(reason, a.Status)
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
		one.Status[min(a.Status/100, 5)] = 1
		if one.Tries = told.tries; class == engine.OK && !told.missed {
			one.FirstOK = 1
		}
		if told.target != "" && reason == "" {
			if r.tally.Versions == nil {
				r.tally.Versions = map[string]uint64{}
			}
			r.tally.Versions[told.target]++
		}
	}
	one.Observe(a.Took)
	r.tally.Add(&one)
	part := r.parts[told.names]
	if part == nil {
		part = &stats.Counts{}
		r.parts[told.names] = part
	}
	part.Add(&one)
	second := int(a.Due / time.Second)
	for len(r.points) <= second {
		r.points = append(r.points, tally{})
	}
	r.points[second].Add(&one)
}

// readTold reads wire.HeaderAnswered.
func readTold(field, caller string) *toldOf {
	a := parseAnswered(field)
	t := &toldOf{names: effect.Names{Caller: caller, Gate: a.gate}, tries: 1}
	service, version, _ := strings.Cut(a.target, "/")
	if a.gate != "" && service == caller {
		service = "" // the gateway answered by itself
	}
	t.names.Service, t.names.Version = service, version
	if a.own != "" {
		t.names.RouteOf, t.names.Route = service, a.own
	}
	if version != "" {
		t.target = a.target
	}
	if n, err := strconv.ParseUint(a.tries, 10, 16); err == nil {
		t.tries = n
	}
	t.missed = a.first == "failed"
	return t
}

// stop ends the trial early, with a reason.
func (r *trialRun) stop(state, why string) {
	r.mu.Lock()
	if r.ending == "" {
		r.ending, r.result.Why = state, why
	}
	r.mu.Unlock()
	r.cancel()
}

// watch looks after the trial until its last answer is there, and keeps what
// came of it.
func (r *trialRun) watch(answered <-chan struct{}, ends []func(), toEnd bool) {
	tick := time.NewTicker(trialTick)
	defer tick.Stop()
	for over := false; !over; {
		select {
		case <-answered:
			over = true
		case <-tick.C:
			r.mu.Lock()
			expected := r.judge(r.seconds())
			r.mu.Unlock()
			for _, j := range expected {
				if j.Hopeless && !toEnd {
					r.stop(TrialMissed, fmt.Sprintf("%s cannot be met any more: %s", j.Expectation, j.Measured))
				}
			}
		}
	}
	for _, end := range slices.Backward(ends) {
		end()
	}
	k := keptTrial{Trial: r.state()}
	r.mu.Lock()
	now := r.c.now().UTC()
	k.Ended = &now
	if k.State = TrialMet; slices.ContainsFunc(k.Expected, func(j trial.Judgement) bool { return !j.Met }) {
		k.State = TrialMissed
	}
	k.State = cmp.Or(r.ending, k.State)
	for i := range k.Expected {
		k.Expected[i].Hopeless = false
	}
	for names, c := range r.parts {
		b, _ := c.AppendBinary(nil)
		k.Parts = append(k.Parts, trialPart{names, b})
	}
	r.mu.Unlock()
	r.over.Store(&k)
	keep, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	head := r.head
	head.State, head.Ended = k.State, now
	if err := r.c.store.EndTrial(keep, head, k.Trial.head(), k); err != nil {
		r.c.Log.Error("what came of a trial could not be stored", "trial", head.Number, "error", err)
	}
	r.c.happened(store.Activity{At: now, Who: k.By, Kind: "trial-ended", Detail: fmt.Sprintf("trial %d: %s, %s", head.Number, head.Name, k.State)})
	close(r.done)
}

// state is the trial as it is now.
func (r *trialRun) state() Trial {
	if k := r.over.Load(); k != nil {
		return k.Trial
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.result
	t.Seconds = r.seconds()
	t.Figures = (&tally{Counts: r.tally.Counts}).figures(1)
	t.Figures.RPS = float64(r.tally.Requests()) / max(t.Seconds, 0.001)
	t.Expected = r.judge(t.Seconds)
	t.Versions = []TrialShare{}
	for _, target := range slices.Sorted(maps.Keys(r.tally.Versions)) {
		service, _, _ := strings.Cut(target, "/")
		all, n := uint64(0), r.tally.Versions[target]
		for other, count := range r.tally.Versions {
			if s, _, _ := strings.Cut(other, "/"); s == service {
				all += count
			}
		}
		s := TrialShare{Target: target, Requests: n, Share: float64(n) / float64(all)}
		s.Low, s.High = stats.Wilson(n, all)
		t.Versions = append(t.Versions, s)
	}
	t.Status = maps.Clone(r.status)
	t.Notes = slices.Clone(t.Notes)
	if r.load != nil {
		t.Pace = pace(r.load.Pace(), r.planned, r.tally.Quantile(0.5))
	}
	if r.tally.Requests() > 0 {
		for _, q := range curveShares {
			t.Curve = append(t.Curve, CurvePoint{q, millis(r.tally.Quantile(q))})
		}
	}
	for i := range r.points {
		p := &r.points[i]
		if i == len(r.shown) {
			r.shown = append(r.shown, Point{At: int64(i)})
		}
		if was := &r.shown[i]; was.OK+was.Failed+was.Refused != p.Requests() {
			*was = Point{At: int64(i), OK: p.OK, Failed: p.Failed, Refused: p.Refused, Success: share(p.OK, p.Requests()),
				P50MS: millis(p.Quantile(0.5)), P95MS: millis(p.Quantile(0.95)), P99MS: millis(p.Quantile(0.99))}
		}
	}
	t.Points = slices.Clone(r.shown)
	return t
}

// seconds is how long the trial has measured.
func (r *trialRun) seconds() float64 {
	return min(max(time.Since(r.begins), 0), r.plan.trial.For).Seconds()
}

// judge compares what was measured so far with what was expected. The caller holds mu.
func (r *trialRun) judge(seconds float64) []trial.Judgement {
	left := r.planned + r.slack - min(r.planned+r.slack, r.tally.Requests())
	if r.load != nil && time.Since(r.begins) >= r.plan.trial.For && r.load.Pace().Flying == 0 {
		left = 0
	}
	out := []trial.Judgement{}
	for i := range r.plan.trial.Expect {
		out = append(out, trial.Judge(&r.plan.trial.Expect[i], &r.tally, seconds, left))
	}
	return out
}

// endTrial ends the trial that runs, since the service ends.
func (c *Control) endTrial() {
	c.trying.Lock()
	r := c.trial
	c.trying.Unlock()
	if r == nil || r.over.Load() != nil {
		return
	}
	r.stop(TrialInterrupted, "the service ended while it ran")
	select {
	case <-r.done:
	case <-time.After(5 * time.Second):
	}
}
