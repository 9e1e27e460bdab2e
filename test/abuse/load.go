package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"nightjar/load"
)

// steady is a page that is called at a steady rate.
type steady struct {
	run   *load.Run
	begin time.Time
	end   context.CancelFunc
	ended chan struct{}

	mu    sync.Mutex
	sent  int
	fails []failure
	took  []time.Duration
	due   []time.Duration // since begin, of the same
}

type failure struct {
	at   time.Time // when it was due
	over time.Time
	what string
}

// call starts to call a page through the gateway at a rate per second.
func (w *world) call(service string, rate float64) *steady {
	ctx, end := context.WithCancel(w.ctx)
	s := &steady{begin: time.Now().Add(50 * time.Millisecond), end: end, ended: make(chan struct{})}
	n := 0
	source := load.Source{
		Address:  w.edge,
		Messages: [][]byte{load.Message("GET", "/"+service+"/page", "edge.example", nil, "")},
		Safe:     true,
		Next: func() (time.Duration, bool) {
			n++
			return time.Duration(float64(n) / rate * float64(time.Second)), ctx.Err() == nil
		},
		Pick:     func() int { return 0 },
		Answered: func(_ int, a *load.Answered) { s.answered(a) },
	}
	s.run = load.Start(w.ctx, []load.Source{source}, load.Options{Begin: s.begin, Wait: 5 * time.Second}, func() { close(s.ended) })
	return s
}

func (s *steady) answered(a *load.Answered) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent++
	s.took, s.due = append(s.took, a.Took), append(s.due, a.Due)
	if a.Status != 200 {
		due := s.begin.Add(a.Due)
		s.fails = append(s.fails, failure{due, due.Add(a.Took), fmt.Sprint(a.Status, " ", a.Err)})
	}
}

// stop ends the calls and waits for the last answers.
func (s *steady) stop() {
	s.end()
	<-s.ended
}

// underWay is how many waited for their answers at some moment between two others.
func (s *steady) underWay(from, to time.Time) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, due := range s.due {
		if at := s.begin.Add(due); at.Before(to) && at.Add(s.took[i]).After(from) {
			n++
		}
	}
	return n
}

func (s *steady) success() string {
	return fmt.Sprintf("%d of %d", s.sent-len(s.fails), s.sent)
}

// windows is in how many parts a quantile is looked at, so that a stall of the machine
// does not decide it.
const windows = 5

// p99 is the median over equal parts of the time of the 99th percentile of the times
// until the answer.
func (s *steady) p99() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []time.Duration
	n := len(s.took) / windows
	for i := range windows {
		if part := slices.Sorted(slices.Values(s.took[i*n : (i+1)*n])); n > 0 {
			all = append(all, part[n*99/100])
		}
	}
	if slices.Sort(all); len(all) == 0 {
		return 0
	}
	return all[len(all)/2]
}

// since are the failures of requests that were due after a moment, or were under way
// then, and how long after it the last of them was due.
func (s *steady) since(at time.Time) (failed int, last time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.fails {
		if f.over.After(at) {
			failed++
			last = max(last, f.at.Sub(at))
		}
	}
	return failed, last
}
