package control

import (
	"context"
	"math/rand/v2"
	"net/http"
	"time"

	"nightjar/core/engine"
	"nightjar/core/trial"
	"nightjar/load"
)

// steadyLoad is the load of a release, while it goes on.
type steadyLoad struct {
	stop context.CancelFunc
	done chan struct{}
}

// steadyTime is longer than any release lasts at one step.
const steadyTime = 1000 * time.Hour

// steadyLoad starts the load that a release declares; nil: it declares none, or
// has nobody to send it by, which its events say.
func (c *Control) steadyLoad(x *releaseRun) *steadyLoad {
	if len(x.run.Plan.Load) == 0 {
		return nil
	}
	rs := c.InForce().Rules
	var sources []load.Source
	for i := range x.run.Plan.Load {
		l := &x.run.Plan.Load[i]
		gateway := rs.Gateway(l.To)
		a := asked{}
		from := l.From
		if gateway != nil {
			a.gateway, from = gateway.Name, ""
		}
		door, err := c.door(Ask{From: from}, &a)
		if err != nil {
			x.run.Note(c.now().UTC(), "load", "the load cannot be sent: "+err.Error())
			return nil
		}
		host, _ := hostOf(l, gateway, door)
		arrivals, picks := trial.NewArrivals(l, 0, steadyTime, rand.Uint64()), trial.NewPicks(l)
		sources = append(sources, load.Source{Address: reachable(door), Messages: messagesOf(l, host), Head: l.Method == http.MethodHead, Safe: engine.Idempotent(l.Method),
			Next: arrivals.Next, Pick: func() int { return picks.Next() + 1 }, Answered: func(int, *load.Answered) {}})
	}
	ctx, stop := context.WithCancel(context.Background())
	out := &steadyLoad{stop, make(chan struct{})}
	load.Start(ctx, sources, load.Options{Begin: time.Now(), MaxOpen: 256}, func() { close(out.done) })
	return out
}

// end stops the load, and waits for it for a moment.
func (l *steadyLoad) end() {
	if l == nil {
		return
	}
	l.stop()
	select {
	case <-l.done:
	case <-time.After(time.Second):
	}
}
