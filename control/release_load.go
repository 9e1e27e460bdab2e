package control

import (
	"context"
	"math/rand/v2"
	"net/http"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/trial"
	"nightjar/load"
)

// steadyTime is longer than any release lasts at one step.
const steadyTime = 1000 * time.Hour

// steadyLoad is the load of a release, while it goes on.
type steadyLoad struct {
	stop context.CancelFunc
	lost atomic.Bool // a request had no answer: its door may have moved
}

// tendLoad starts and ends the load of a release as its state asks for. It is
// called again and again, so that a load that cannot be sent now is sent later.
func (c *Control) tendLoad(x *releaseRun) {
	r := x.run
	waits := r.State == release.Held && r.By != release.ByJudge // the judge needs requests to see clearer
	if waits || r.State.Over() || x.load != nil && x.load.lost.Load() {
		x.endLoad()
	}
	if waits || r.State.Over() || x.load != nil || r.Step < 0 || len(r.Plan.Load) == 0 || c.ending {
		return
	}
	switch run, err := c.steadyLoad(&r.Plan); {
	case err == nil:
		x.load, x.noLoad = run, ""
	case x.noLoad != err.Error():
		x.noLoad = err.Error()
		r.Note(c.now().UTC(), "load", "the load cannot be sent yet: "+x.noLoad)
	}
}

// endLoad ends the load that is sent for the release, if there is one.
func (x *releaseRun) endLoad() {
	if x.load != nil {
		x.load.stop()
		x.load = nil
	}
}

// steadyLoad starts the load that a release declares.
func (c *Control) steadyLoad(p *rules.Release) (*steadyLoad, error) {
	rs := c.InForce().Rules
	ctx, stop := context.WithCancel(context.Background())
	out := &steadyLoad{stop: stop}
	var sources []load.Source
	for i := range p.Load {
		l := &p.Load[i]
		gateway := rs.Gateway(l.To)
		a := asked{}
		from := l.From
		if gateway != nil {
			a.gateway, from = gateway.Name, ""
		}
		door, err := c.door(Ask{From: from}, &a)
		if err != nil {
			stop()
			return nil, err
		}
		host, _ := hostOf(l, gateway, door)
		arrivals, picks := trial.NewArrivals(l, 0, steadyTime, rand.Uint64()), trial.NewPicks(l)
		sources = append(sources, load.Source{Address: reachable(door), Messages: messagesOf(l, host, c.ledger.key), Head: l.Method == http.MethodHead, Safe: engine.Idempotent(l.Method),
			Next: arrivals.Next, Pick: func() int { return picks.Next() + 1 }, Answered: func(_ int, a *load.Answered) {
				if a.Status == 0 {
					out.lost.Store(true)
				}
			}})
	}
	done := make(chan struct{})
	load.Start(ctx, sources, load.Options{Begin: time.Now(), MaxOpen: 256}, func() { close(done) })
	c.beside.Go(func() { <-done })
	return out, nil
}
