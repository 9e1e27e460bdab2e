package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/core/effect"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/load"
	"nightjar/store"
)

// Limits of trials.
const (
	maxTrialTime = time.Hour
	maxTrialRate = 50_000 // requests a second, of all loads
	trialTick    = 200 * time.Millisecond
	trialCaller  = ownCaller
)

// States of a trial.
const (
	TrialRunning     = "running"
	TrialMet         = "met"         // every expectation is
	TrialMissed      = "missed"      // an expectation is not
	TrialStopped     = "stopped"     // by somebody, before its end
	TrialInterrupted = "interrupted" // the service ended while it ran
)

// TrialAsk asks for a trial.
type TrialAsk struct {
	Name   string       `json:"name" doc:"of a trial in the rules in force, in the rules to rehearse or in the file"`
	File   []rules.File `json:"file,omitempty" doc:"files that hold the trial, when the rules in force do not"`
	Rules  []rules.File `json:"rules,omitempty" doc:"draft of a bundle to rehearse: only the requests of the trial follow it"`
	Bundle string       `json:"bundle,omitempty" doc:"bundle that the draft replaces; main when empty"`
	For    string       `json:"for,omitempty" doc:"how long, in place of what the trial says"`
	ToEnd  bool         `json:"toEnd,omitempty" doc:"go on when an expectation cannot be met any more"`
	By     string       `json:"by,omitempty"`
}

// Trial is a load with expectations that runs, or ran.
type Trial struct {
	Number   uint              `json:"number"`
	Name     string            `json:"name"`
	By       string            `json:"by"`
	State    string            `json:"state" doc:"running, met, missed, stopped or interrupted"`
	Began    time.Time         `json:"began"`
	Ended    *time.Time        `json:"ended,omitempty"`
	Revision uint              `json:"revision" doc:"in force when it began"`
	Draft    []rules.Change    `json:"draft,omitempty" doc:"rehearsed: what the draft would change"`
	Rehearse bool              `json:"rehearse" doc:"its requests followed a draft, and real traffic did not"`
	Seconds  float64           `json:"seconds" doc:"measured so far, without the warm-up"`
	For      float64           `json:"for" doc:"seconds that it is to measure"`
	WarmUp   float64           `json:"warmUp" doc:"seconds before that, which do not count"`
	Planned  uint64            `json:"planned" doc:"requests that are due while it measures"`
	Loads    []string          `json:"loads" doc:"in words"`
	Figures  Figures           `json:"figures"`
	Expected []trial.Judgement `json:"expected"`
	Versions []TrialShare      `json:"versions"`
	Status   map[string]int    `json:"status" doc:"answers by status; none: no answer"`
	Pace     TrialPace         `json:"pace"`
	Why      string            `json:"why,omitempty" doc:"why it ended before its time"`
	Notes    []string          `json:"notes"`
	Curve    []CurvePoint      `json:"curve,omitempty" doc:"latency by share of the requests; not in lists"`
	Points   []Point           `json:"points,omitempty" doc:"every second, from 0 on; not in lists"`
}

// TrialShare is the answers of one version.
type TrialShare struct {
	Target   string  `json:"target" doc:"SERVICE/VERSION"`
	Requests uint64  `json:"requests"`
	Share    float64 `json:"share" doc:"of the answers of its service, 0 to 1"`
	Low      float64 `json:"low" doc:"95% interval (Wilson)"`
	High     float64 `json:"high"`
}

// TrialPace is how well the requests left on time.
type TrialPace struct {
	Sent       uint64  `json:"sent" doc:"with the warm-up"`
	Unsent     uint64  `json:"unsent" doc:"that did not leave, since too many were open"`
	Late50MS   float64 `json:"late50MS" doc:"how late half of them left at most"`
	Late99MS   float64 `json:"late99MS"`
	Bottleneck string  `json:"bottleneck,omitempty" doc:"why the figures tell of this machine's limits too"`
}

// CurvePoint is the latency that a share of the requests did not exceed.
type CurvePoint struct {
	Share float64 `json:"share" doc:"0 to 1"`
	MS    float64 `json:"ms"`
}

// curveShares are the points of a latency curve.
var curveShares = []float64{0.01, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.925, 0.95, 0.975, 0.99, 0.995, 0.999}

// keptTrial is a trial as it is stored.
type keptTrial struct {
	Trial
	Parts []trialPart
}

// trialPart is what the requests of one group came to.
type trialPart struct {
	Names  effect.Names
	Counts []byte
}

// tally is the parts as one side of a comparison.
func (k *keptTrial) tally() (*effect.Tally, error) {
	t := &effect.Tally{Seconds: k.Seconds}
	for _, p := range k.Parts {
		var c stats.Counts
		if _, err := c.Decode(p.Counts); err != nil {
			return nil, err
		}
		t.Add(p.Names, &c)
	}
	return t, nil
}

// head is the trial as lists show it.
func (t Trial) head() Trial {
	t.Curve, t.Points, t.Draft = nil, nil, nil
	return t
}

// Busy means that something of the kind runs already.
type Busy struct{ Why string }

func (e Busy) Error() string { return e.Why }

// StartTrial begins a trial, which goes on by itself.
func (c *Control) StartTrial(ctx context.Context, ask TrialAsk) (Trial, error) {
	plan, err := c.plan(ask)
	if err != nil {
		return Trial{}, err
	}
	c.trying.Lock()
	defer c.trying.Unlock()
	if r := c.trial; r != nil && r.over.Load() == nil {
		return Trial{}, Busy{fmt.Sprintf("trial %d (%s) of %s is running: two at once would measure each other; wait for its end, or stop it", r.head.Number, r.head.Name, r.result.By)}
	}
	run, err := c.begin(ctx, plan, ask)
	if err != nil {
		return Trial{}, err
	}
	c.trial = run
	c.happened(store.Activity{At: run.head.Began, Who: run.result.By, Kind: "trial-began", Detail: fmt.Sprintf("trial %d: %s, for %s", run.head.Number, plan.trial.Name, plan.trial.For)})
	return run.state(), nil
}

// plan is a trial that can be run.
type plan struct {
	trial   *rules.Trial
	rules   *rules.Rules // that its requests follow
	changes []rules.Change
	notes   []string
}

// plan finds the trial and checks that it can be run.
func (c *Control) plan(ask TrialAsk) (*plan, error) {
	force := c.InForce()
	p := &plan{rules: force.Rules}
	bundles := force.Revision.Bundles
	if len(ask.Rules) > 0 {
		rs, rep, err := c.check(cmp.Or(ask.Bundle, MainBundle), ask.Rules)
		if err != nil {
			return nil, err
		}
		if rep.Mistakes > 0 {
			return nil, Mistaken{rep.Findings}
		}
		p.rules, p.changes = rs, rep.Changes
		bundles = with(bundles, cmp.Or(ask.Bundle, MainBundle), ask.Rules)
	}
	from := p.rules
	if len(ask.File) > 0 {
		c.mu.Lock()
		live := c.live()
		c.mu.Unlock()
		var found []rules.Finding
		if from, found = rules.Check(append(joined(bundles), ask.File...), live); rules.Mistakes(found) > 0 {
			return nil, Mistaken{found}
		}
	}
	var names []string
	for _, t := range from.Trials {
		if names = append(names, t.Name); t.Name == ask.Name || ask.Name == "" && len(from.Trials) == 1 {
			one := *t
			p.trial = &one
		}
	}
	switch {
	case p.trial == nil && len(names) == 0:
		return nil, Unusable{"the rules hold no trial: write one in the section trials and publish it, or name its file"}
	case p.trial == nil:
		return nil, Unusable{fmt.Sprintf("there is no trial %q; there are %s", ask.Name, strings.Join(slices.Sorted(slices.Values(names)), ", "))}
	}
	if ask.For != "" {
		d, err := time.ParseDuration(ask.For)
		if err != nil {
			return nil, Unusable{fmt.Sprintf("for: %q is not a time, such as 30s", ask.For)}
		}
		p.trial.For = d
	}
	t, peak := p.trial, 0.0
	for i := range t.Load {
		l := &t.Load[i]
		peak += trial.NewArrivals(l, t.WarmUp, t.For, 0).Peak()
		if s := p.rules.Service(l.To); s != nil && s.Protocol != "" && s.Protocol != "http" {
			return nil, Unusable{fmt.Sprintf("service %s speaks %s, and trials send plain HTTP/1.1", l.To, s.Protocol)}
		}
	}
	switch {
	case t.For < time.Second || t.For+t.WarmUp > maxTrialTime:
		return nil, Unusable{fmt.Sprintf("a trial measures for a time from 1s to %s, with its warm-up", maxTrialTime)}
	case peak > maxTrialRate:
		return nil, Unusable{fmt.Sprintf("the loads add up to %.0f requests a second, and %d are the most", peak, maxTrialRate)}
	case len(t.Load) == 0:
		return nil, Unusable{fmt.Sprintf("trial %s has no load", t.Name)}
	}
	return p, nil
}

// Trial is a trial as it is now.
func (c *Control) Trial(ctx context.Context, number uint) (Trial, error) {
	c.trying.Lock()
	r := c.trial
	c.trying.Unlock()
	if r != nil && (r.head.Number == number || number == 0) {
		return r.state(), nil
	}
	k, err := c.keptTrial(ctx, number)
	return k.Trial, err
}

func (c *Control) keptTrial(ctx context.Context, number uint) (keptTrial, error) {
	var k keptTrial
	if number == 0 {
		err := c.store.Trials(ctx, 0, 1, func(t store.TrialHead, _ func(any) error) error {
			number = t.Number
			return nil
		})
		if err != nil {
			return k, err
		}
	}
	head, err := c.store.Trial(ctx, number, &k)
	if err != nil {
		return k, err
	}
	k.fill(head)
	return k, nil
}

// fill sets what the record knows for sure.
func (t *Trial) fill(h store.TrialHead) {
	t.Number, t.Name, t.State, t.Began = h.Number, h.Name, h.State, h.Began
	if h.State == TrialInterrupted {
		t.Why = "the service ended while it ran"
	}
	for _, list := range []*[]string{&t.Loads, &t.Notes} {
		if *list == nil {
			*list = []string{}
		}
	}
	if t.Expected == nil {
		t.Expected = []trial.Judgement{}
	}
	if t.Versions == nil {
		t.Versions = []TrialShare{}
	}
	if t.Status == nil {
		t.Status = map[string]int{}
	}
}

// Trials lists trials below the number before (0: from the newest), newest first.
func (c *Control) Trials(ctx context.Context, before uint, limit int) ([]Trial, error) {
	out := []Trial{}
	err := c.store.Trials(ctx, before, limit, func(h store.TrialHead, read func(any) error) error {
		var t Trial
		if err := read(&t); err != nil {
			return err
		}
		c.trying.Lock()
		if r := c.trial; r != nil && r.head.Number == h.Number {
			t = r.state().head()
		}
		c.trying.Unlock()
		t.fill(h)
		out = append(out, t)
		return nil
	})
	return out, err
}

// StopTrial ends a trial before its time. What was measured is kept.
func (c *Control) StopTrial(ctx context.Context, number uint, by string) (Trial, error) {
	c.trying.Lock()
	r := c.trial
	c.trying.Unlock()
	if r == nil || r.head.Number != number || r.over.Load() != nil {
		if _, err := c.Trial(ctx, number); err != nil {
			return Trial{}, err
		}
		return Trial{}, Unusable{fmt.Sprintf("trial %d is over", number)}
	}
	r.stop(TrialStopped, "stopped by "+cmp.Or(by, "somebody"))
	select {
	case <-r.done:
	case <-ctx.Done():
	}
	return r.state(), nil
}

// TrialComparison is two trials side by side.
type TrialComparison struct {
	Before Trial        `json:"before"`
	After  Trial        `json:"after"`
	Rows   []effect.Row `json:"rows"`
	Notes  []string     `json:"notes"`
}

// CompareTrials compares what two trials measured, as an effect.
func (c *Control) CompareTrials(ctx context.Context, before, after uint) (TrialComparison, error) {
	var out TrialComparison
	var sides [2]*effect.Tally
	for i, n := range []uint{before, after} {
		k, err := c.keptTrial(ctx, n)
		if errors.Is(err, store.ErrNotFound) {
			return out, Unusable{fmt.Sprintf("there is no trial %d", n)}
		}
		if err != nil {
			return out, err
		}
		if k.State == TrialRunning || k.State == TrialInterrupted {
			return out, Unusable{fmt.Sprintf("trial %d is %s: there is nothing to compare", n, k.State)}
		}
		if sides[i], err = k.tally(); err != nil {
			return out, fmt.Errorf("trial %d cannot be read: %w", n, err)
		}
		if i == 0 {
			out.Before = k.Trial.head()
		} else {
			out.After = k.Trial.head()
		}
	}
	out.Notes = []string{}
	if !slices.Equal(out.Before.Loads, out.After.Loads) {
		out.Notes = append(out.Notes, "The loads of the two trials are not the same.")
	}
	out.Rows = effect.Compare(sides[0], sides[1], func(string) []effect.Target { return nil })
	return out, nil
}

// pace tells how well the requests left on time, and says so if that spoils the
// figures.
func pace(p load.Pace, planned uint64, p50 time.Duration) TrialPace {
	out := TrialPace{Sent: p.Sent, Unsent: p.Unsent, Late50MS: millis(p.Late50), Late99MS: millis(p.Late99)}
	switch {
	case p.Unsent > 0:
		out.Bottleneck = fmt.Sprintf("%d requests did not leave, since as many as are kept open waited for their answers: the mesh, or this machine, cannot take this rate", p.Unsent)
	case p.Late99 > 5*time.Millisecond && p.Late99 > p50/10:
		out.Bottleneck = fmt.Sprintf("one request in a hundred left %.1f ms or more after its time: this machine is too busy for this rate, and latencies hold that wait", millis(p.Late99))
	}
	return out
}
