package releases

import (
	"context"
	"math/rand/v2"
	"net/http"
	"sync/atomic"
	"time"

	"nightjar/control/calls"
	"nightjar/core/engine"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/trial"
	"nightjar/load"
)

const (
	loadTime = 1000 * time.Hour // longer than any release
	maxOpen  = 256              // requests of a load that wait for responses
)

// steadyLoad is the load that a release declares, while it is running.
type steadyLoad struct {
	stop   context.CancelFunc
	isLost atomic.Bool // a request had no response: its door may have moved
}

// tendLoad starts and ends the load of a release as its state asks for. It is called
// every second, so that a load that cannot be sent now is sent later; why it cannot
// is noted in next.
func (r *Releases) tendLoad(x *running, next *release.Run, now time.Time) {
	// While the judge holds a release, it needs requests to come to a conclusion.
	isWaiting := next.State == release.Held && next.By != release.ByJudge
	isUnwanted := isWaiting || next.State.Over()
	if isUnwanted || x.load != nil && x.load.isLost.Load() {
		x.endLoad()
	}
	if isUnwanted || x.load != nil || next.Step < 0 || len(next.Plan.Load) == 0 || r.isClosing() {
		return
	}
	switch started, err := r.startLoad(&next.Plan); {
	case err == nil:
		x.load, x.loadNote = started, ""
	case x.loadNote != err.Error():
		x.loadNote = err.Error()
		next.Note(now.UTC(), "load", "the load cannot be sent yet: "+x.loadNote)
	}
}

func (r *Releases) isClosing() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.isClosed
}

// endLoad ends the load that is sent for the release, if there is one.
func (x *running) endLoad() {
	if x.load != nil {
		x.load.stop()
		x.load = nil
	}
}

// startLoad starts the load that a release declares.
func (r *Releases) startLoad(p *rules.Release) (*steadyLoad, error) {
	rs := r.Revisions.Current().Rules
	ctx, stop := context.WithCancel(context.Background())
	out := &steadyLoad{stop: stop}
	var sources []load.Source
	for i := range p.Load {
		l := &p.Load[i]
		service, name := l.From, ""
		gateway := rs.Gateway(l.To)
		if gateway != nil {
			service, name = "", gateway.Name
		}
		door, err := r.Calls.Door(service, name)
		if err != nil {
			stop()
			return nil, err
		}
		host, _ := calls.HostOf(l, gateway, door)
		arrivals, picks := trial.NewArrivals(l, 0, loadTime, rand.Uint64()), trial.NewPicks(l)
		sources = append(sources, load.Source{
			Address:  door,
			Messages: calls.Messages(l, host, r.Fleet.Key()),
			Head:     l.Method == http.MethodHead,
			Safe:     engine.Idempotent(l.Method),
			Next:     arrivals.Next,
			Pick:     func() int { return picks.Next() + 1 },
			Answered: func(_ int, a *load.Answered) {
				if a.Status == 0 {
					out.isLost.Store(true)
				}
			},
		})
	}
	done := make(chan struct{})
	load.Start(ctx, sources, load.Options{Begin: time.Now(), MaxOpen: maxOpen}, func() { close(done) })
	r.loads.Go(func() { <-done })
	return out, nil
}
