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
	"nightjar/store"
	"nightjar/telemetry"
)

// Windows of an effect that nobody chose, in seconds.
const (
	EffectWindow = 5 * 60 // before and after, each at most
	EffectSettle = 5      // left out after a change: until it is everywhere, and what was under way has ended
)

// EffectAsk asks what a change did: a revision, or any moment.
type EffectAsk struct {
	Revision uint  // 0: the moment At, or else the newest revision
	At       int64 // seconds since 1970
	Window   int64 // seconds on each side, at most; 0: EffectWindow
	Settle   int64 // seconds left out after the change; negative: EffectSettle
}

// Window is one side of an effect.
type Window struct {
	From     int64 `json:"from" doc:"seconds since 1970"`
	To       int64 `json:"to"`
	Seconds  int64 `json:"seconds"`
	Revision uint  `json:"revision" doc:"that was in force; requests that followed another one are left out; 0: none"`
}

// Effect is what a change did.
type Effect struct {
	Revision uint         `json:"revision,omitempty" doc:"that changed something; absent: any moment"`
	At       time.Time    `json:"at" doc:"when it changed"`
	Kind     string       `json:"kind,omitempty" doc:"publish, split or restore"`
	Author   string       `json:"author,omitempty"`
	Message  string       `json:"message,omitempty"`
	Before   Window       `json:"before"`
	After    Window       `json:"after"`
	Settle   int64        `json:"settle" doc:"seconds left out after the change"`
	Complete bool         `json:"complete" doc:"the window after is as long as it will be"`
	Due      *time.Time   `json:"due,omitempty" doc:"when it will be"`
	Recorded bool         `json:"recorded" doc:"it was worked out when its window was full, and is kept"`
	Rows     []effect.Row `json:"rows" doc:"the mesh, then the worst first"`
	Notes    []string     `json:"notes" doc:"what to know about the windows"`
}

// Whole is the row of the whole mesh; nil when there were no requests.
func (e *Effect) Whole() *effect.Row {
	if len(e.Rows) > 0 && e.Rows[0].Kind == effect.Mesh {
		return &e.Rows[0]
	}
	return nil
}

// Name says what an effect is of.
func (e *Effect) Name() string {
	if e.Revision > 0 {
		return fmt.Sprintf("revision %d", e.Revision)
	}
	return "what happened at " + e.At.Format("2006-01-02 15:04:05 UTC")
}

// Windows tells which times an effect compares.
func (e *Effect) Windows() string {
	text := fmt.Sprintf("Compared: %d s before with %d s after; %d s after the change are left out.", e.Before.Seconds, e.After.Seconds, e.Settle)
	if !e.Complete {
		text += " The window after is not full yet."
	}
	return text
}

// EffectHead is an effect in a list.
type EffectHead struct {
	Revision uint           `json:"revision"`
	At       time.Time      `json:"at"`
	Kind     string         `json:"kind"`
	Author   string         `json:"author"`
	Message  string         `json:"message"`
	Complete bool           `json:"complete" doc:"false: its window is not full yet, and nothing is recorded"`
	Due      *time.Time     `json:"due,omitempty" doc:"when it will be"`
	Verdict  effect.Verdict `json:"verdict,omitempty" doc:"of success in the whole mesh"`
	Success  *effect.Figure `json:"success,omitempty"`
	Worse    int            `json:"worse" doc:"rows whose success became worse"`
	Better   int            `json:"better"`
	Worst    string         `json:"worst,omitempty" doc:"the row that became worse most"`
}

// Effect works out what a change did, or reads what was recorded of it.
func (c *Control) Effect(ctx context.Context, q EffectAsk) (Effect, error) {
	usual := q.Window == 0 && q.Settle < 0
	if q.Window == 0 {
		q.Window = EffectWindow
	}
	if q.Settle < 0 {
		q.Settle = EffectSettle
	}
	if q.Window < 1 || q.Window > 24*3600 || q.Settle > 3600 {
		return Effect{}, Unusable{"an effect compares up to 24 hours on each side, and leaves out up to an hour after the change"}
	}
	var rev store.Revision
	if q.Revision > 0 || q.At == 0 {
		var err error
		if rev, err = c.store.Revision(ctx, q.Revision); err != nil {
			return Effect{}, err
		}
		if usual {
			if e, err := c.recordedEffect(ctx, rev.Number); err == nil || !errors.Is(err, store.ErrNotFound) {
				return e, err
			}
		}
	} else {
		if q.At > c.now().Unix() || q.At < c.now().Unix()-store.CoarseTime {
			return Effect{}, Unusable{"the moment is to be in the last 14 days, for which figures are kept"}
		}
		rev.At = time.Unix(q.At, 0)
	}
	return c.effect(ctx, rev, q)
}

// effect compares the windows before and after a revision, or a moment.
func (c *Control) effect(ctx context.Context, rev store.Revision, q EffectAsk) (Effect, error) {
	prev, next, err := c.store.Around(ctx, rev.Number, rev.At)
	if err != nil {
		return Effect{}, err
	}
	now, at := c.now().Unix(), rev.At.Unix()
	e := Effect{Revision: rev.Number, At: rev.At.UTC(), Kind: rev.Kind, Author: rev.Author, Message: rev.Message, Settle: q.Settle, Rows: []effect.Row{}, Notes: []string{}}
	e.Before = Window{From: at - q.Window, To: at, Revision: prev.Number}
	e.After = Window{From: at + q.Settle, To: at + q.Settle + q.Window, Revision: cmp.Or(rev.Number, prev.Number)}
	if rev.Number > 0 {
		e.After.From++ // the second of the change is of both
		e.After.To++
	}
	note := func(format string, args ...any) { e.Notes = append(e.Notes, fmt.Sprintf(format, args...)) }
	if cut := prev.At.Unix() + 1 + q.Settle; prev.Number > 0 && cut > e.Before.From {
		e.Before.From = min(cut, e.Before.To)
		note("The window before is short: revision %d came %s earlier, and what was before it is not mixed in.", prev.Number, brief(rev.At.Sub(prev.At)))
	}
	if first := c.telemetry.First(); first > e.Before.From && first < e.After.To {
		e.Before.From = min(first, e.Before.To)
		note("The window before begins with the first request that is known.")
	}
	e.Complete = e.After.To <= now
	if next.Number > 0 && next.At.Unix() < e.After.To {
		e.After.To, e.Complete = max(next.At.Unix(), e.After.From), true
		note("The window after is short: revision %d came %s later, and what it did is not mixed in.", next.Number, brief(next.At.Sub(rev.At)))
	}
	if !e.Complete {
		due := time.Unix(e.After.To, 0).UTC()
		e.Due, e.After.To = &due, max(min(e.After.To, now), e.After.From)
	}
	e.Before.Seconds, e.After.Seconds = e.Before.To-e.Before.From, e.After.To-e.After.From
	if err := c.meanwhile(ctx, &e); err != nil {
		return e, err
	}
	before, err := c.side(ctx, e.Before, rev.Number > 0)
	if err != nil {
		return e, err
	}
	after, err := c.side(ctx, e.After, rev.Number > 0)
	if err != nil {
		return e, err
	}
	rs := c.InForce().Rules
	if e.After.Revision != c.InForce().Revision.Number {
		if r, err := c.store.Revision(ctx, e.After.Revision); err == nil {
			if rs, err = rulesOf(&r); err != nil {
				return e, err
			}
		}
	}
	e.Rows = effect.Compare(before, after, func(route string) []effect.Target { return weightsOf(rs, route) })
	if n := len(e.Rows); n >= 20 {
		note("Of %d rows without any change about %d would still show one in success, by chance alone: a 95%% interval leaves out the truth once in twenty.", n, (n+10)/20)
	}
	return e, nil
}

// brief is a time in words, to the second.
func brief(d time.Duration) string { return d.Round(time.Second).String() }

// meanwhile notes what else happened in the windows.
func (c *Control) meanwhile(ctx context.Context, e *Effect) error {
	drills, err := c.Drills(ctx, 200)
	if err != nil {
		return err
	}
	where := func(began, ended time.Time) string {
		in := func(w Window) bool { return w.Seconds > 0 && began.Unix() < w.To && ended.Unix() >= w.From }
		switch before, after := in(e.Before), in(e.After); {
		case before && after:
			return "both windows"
		case before:
			return "the window before"
		case after:
			return "the window after"
		}
		return ""
	}
	for _, d := range drills {
		ends := d.Ends
		if d.Stopped != nil {
			ends = *d.Stopped
		}
		if w := where(d.Began, ends); w != "" {
			e.Notes = append(e.Notes, fmt.Sprintf("Drill %s (%s: %s) ran in %s.", d.ID, d.Target, d.What, w))
		}
	}
	trials, err := c.store.TrialsBetween(ctx, TrialRunning, time.Unix(e.Before.From, 0), time.Unix(e.After.To, 0))
	for _, t := range trials {
		ended := t.Ended
		if t.State == TrialRunning {
			ended = c.now()
		} else if ended.Before(t.Began) {
			ended = t.Began // nobody stored when; then it ran at least
		}
		if w := where(t.Began, ended); w != "" {
			e.Notes = append(e.Notes, fmt.Sprintf("Trial %d (%s) sent its requests in %s; they count as calls of %s.", t.Number, t.Name, w, trialCaller))
		}
	}
	return err
}

// side adds up a window. With own, only requests that followed its revision count.
func (c *Control) side(ctx context.Context, w Window, own bool) (*effect.Tally, error) {
	t := &effect.Tally{Seconds: float64(w.Seconds)}
	if w.Seconds <= 0 {
		return t, nil
	}
	err := c.sum(ctx, w.From, w.To, func(n *telemetry.Names, revision uint, counts *stats.Counts) {
		if n.App || n.Copy || own && revision != w.Revision {
			return
		}
		t.Add(effect.Names{Caller: n.Caller, Gate: n.Gate, RouteOf: n.RouteOf, Route: n.Route, Service: n.Service, Version: n.Version}, counts)
	})
	return t, err
}

// weightsOf are the targets of a route, LADDER/ROUTE, that name a version.
func weightsOf(rs *rules.Rules, route string) []effect.Target {
	if rs == nil {
		return nil
	}
	ladder, name, _ := strings.Cut(route, "/")
	rt := findRoute(rs, [2]string{ladder, name})
	if rt == nil {
		return nil
	}
	sums := map[string]float64{}
	var out []effect.Target
	for _, t := range rt.Send {
		if t.Version == "" {
			return nil
		}
		to := t.Service + "/" + t.Version
		if _, known := sums[to]; !known {
			out = append(out, effect.Target{Name: to})
		}
		sums[to] += t.Weight.Share()
	}
	for i := range out {
		out[i].Weight = sums[out[i].Name]
	}
	return out
}

// recordEvery is how often effects are recorded whose windows are full, and
// recordAtOnce how many in one go.
const (
	recordEvery  = 10 * time.Second
	recordAtOnce = 20
)

// recordEffects records the effect of every revision whose window is full.
func (c *Control) recordEffects(ctx context.Context) error {
	list, err := c.store.WithoutEffect(ctx, c.now().Add(-store.CoarseTime*time.Second), recordAtOnce)
	if err != nil {
		return err
	}
	const told = 2 // seconds until proxies have told, who do so once a second
	newest, now := c.InForce().Revision.Number, c.now().Unix()
	for _, rev := range list {
		if rev.Number == newest && now < rev.At.Unix()+EffectSettle+1+EffectWindow+told {
			continue
		}
		e, err := c.effect(ctx, rev, EffectAsk{Window: EffectWindow, Settle: EffectSettle})
		if err != nil {
			return err
		}
		if !e.Complete || now < e.After.To+told {
			continue
		}
		e.Recorded = true
		if err := c.store.AddEffect(ctx, rev.Number, headOf(&e), &e); err != nil {
			return err
		}
	}
	return nil
}

func headOf(e *Effect) EffectHead {
	h := EffectHead{Revision: e.Revision, At: e.At, Kind: e.Kind, Author: e.Author, Message: e.Message, Complete: e.Complete, Due: e.Due}
	for i := range e.Rows {
		r := &e.Rows[i]
		switch {
		case r.Kind == effect.Mesh:
			h.Verdict, h.Success = r.Verdict, &r.Success
		case r.Verdict == effect.Worse:
			if h.Worse++; h.Worst == "" {
				h.Worst = string(r.Kind) + " " + r.Name
			}
		case r.Verdict == effect.Better:
			h.Better++
		}
	}
	return h
}

func (c *Control) recordedEffect(ctx context.Context, revision uint) (Effect, error) {
	var e Effect
	err := c.store.Effect(ctx, revision, &e)
	return e, err
}

// Effects lists the effects of revisions below before (0: from the newest),
// newest first.
func (c *Control) Effects(ctx context.Context, before uint, limit int) ([]EffectHead, error) {
	revisions, err := c.store.Revisions(ctx, before, limit)
	if err != nil || len(revisions) == 0 {
		return []EffectHead{}, err
	}
	known := map[uint]EffectHead{}
	err = c.store.EffectHeads(ctx, revisions[len(revisions)-1].Number, revisions[0].Number, func(n uint, read func(any) error) error {
		var h EffectHead
		err := read(&h)
		known[n] = h
		return err
	})
	out := make([]EffectHead, 0, len(revisions))
	for _, r := range revisions {
		h, ok := known[r.Number]
		if !ok {
			due := r.At.Add((EffectWindow + EffectSettle + 1) * time.Second)
			h = EffectHead{Revision: r.Number, At: r.At, Kind: r.Kind, Author: r.Author, Message: r.Message, Due: &due}
		}
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b EffectHead) int { return cmp.Compare(b.Revision, a.Revision) })
	return out, err
}
