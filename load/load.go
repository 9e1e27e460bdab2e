// Package load sends requests at fixed times, whatever comes of those before:
// an open loop, as the many callers of a service are one. A latency counts from
// the moment when the request was due, so that no stall is hidden, neither of
// who answers nor of this package.
package load

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"nightjar/core/stats"
)

// Source is a stream of requests.
type Source struct {
	Address  string                         // host:port that they are sent to
	Messages [][]byte                       // whole HTTP/1.1 requests
	Head     bool                           // they are HEAD requests
	Safe     bool                           // they may be sent again when a kept connection turns out to be closed
	Next     func() (time.Duration, bool)   // when the next one is due since the begin; false: there is none any more
	Pick     func() int                     // which of Messages it is
	Answered func(message int, a *Answered) // called for each, also from several goroutines
}

// Answered is how one request went.
type Answered struct {
	Due    time.Duration // since the begin
	Took   time.Duration // since then, until the last byte of the answer
	Status int           // 0: there was no answer
	Fields Fields        // of the answer; good until Answered returns
	Err    error         // why there was none
}

// Fields finds a field of an answer by its name.
type Fields interface{ Get(name string) string }

// Options of a run.
type Options struct {
	Begin   time.Time     // from which requests are due; those that are due before it are a warm-up
	MaxOpen int           // connections to all addresses; 4096 when 0
	Wait    time.Duration // the longest wait for an answer; 30s when 0
}

// Run is a load that is under way. Start it with Start.
type Run struct {
	opt  Options
	ctx  context.Context // of whoever may end it early
	ends context.Context // when nothing is under way any more

	mu     sync.Mutex
	idle   map[string][]*conn
	all    map[*conn]bool // that are open
	late   stats.Counts   // how late requests were sent
	sent   uint64
	unsent uint64

	flying  sync.WaitGroup
	conns   sync.WaitGroup
	waiting atomic.Int64
}

// Pace is how well the generator kept its times.
type Pace struct {
	Sent   uint64        // requests that went out
	Unsent uint64        // that did not, since too many were open
	Flying int64         // that wait for their answers
	Late50 time.Duration // how long after its time half of them were sent at most
	Late99 time.Duration
}

// maxOpen bounds the connections that are open at once.
const maxOpen = 4096

// look is how often a sleeping generator looks up whether it is to end.
const look = 20 * time.Millisecond

// Start sends the requests of all sources until they end or ctx is done, and
// calls done when every answer is there, or given up.
func Start(ctx context.Context, sources []Source, opt Options, done func()) *Run {
	if opt.MaxOpen == 0 {
		opt.MaxOpen = maxOpen
	}
	if opt.Wait == 0 {
		opt.Wait = 30 * time.Second
	}
	ends, end := context.WithCancel(ctx)
	r := &Run{
		opt:  opt,
		ctx:  ctx,
		ends: ends,
		idle: map[string][]*conn{},
		all:  map[*conn]bool{},
	}
	go func() {
		r.pace(ctx, sources)
		stop := context.AfterFunc(ctx, r.hurry)
		r.flying.Wait()
		stop()
		end()
		r.closeIdle()
		r.conns.Wait()
		done()
	}()
	return r
}

// Pace tells how well the times were kept so far.
func (r *Run) Pace() Pace {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Pace{
		Sent:   r.sent,
		Unsent: r.unsent,
		Flying: r.waiting.Load(),
		Late50: r.late.Quantile(0.5),
		Late99: r.late.Quantile(0.99),
	}
}

// pace sends every request when it is due. The thread sleeps by itself: the
// runtime's timers may wake up a millisecond late.
func (r *Run) pace(ctx context.Context, sources []Source) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	next := make([]time.Duration, len(sources))
	live := make([]bool, len(sources))
	for i := range sources {
		next[i], live[i] = sources[i].Next()
	}
	for {
		first := -1
		for i := range sources {
			if live[i] && (first < 0 || next[i] < next[first]) {
				first = i
			}
		}
		if first < 0 {
			return
		}
		due := next[first]
		for {
			left := due - time.Since(r.opt.Begin)
			if ctx.Err() != nil {
				return
			}
			if left <= 0 {
				break
			}
			nap := unix.NsecToTimespec(int64(min(left, look)))
			unix.Nanosleep(&nap, nil)
		}
		s := &sources[first]
		r.send(s, s.Pick(), due)
		next[first], live[first] = s.Next()
	}
}

// send sends a request on a kept connection, or on a new one.
func (r *Run) send(s *Source, message int, due time.Duration) {
	r.mu.Lock()
	list := r.idle[s.Address]
	var c *conn
	kept := len(list) > 0
	switch {
	case kept:
		c = list[len(list)-1]
		r.idle[s.Address] = list[:len(list)-1]
	case len(r.all) >= r.opt.MaxOpen:
		r.unsent++
		r.mu.Unlock()
		return
	default:
		c = &conn{run: r, jobs: make(chan job, 1)}
		r.all[c] = true
	}
	r.sent++
	r.late.Observe(time.Since(r.opt.Begin) - due)
	r.mu.Unlock()
	r.flying.Add(1)
	r.waiting.Add(1)
	j := job{s: s, message: message, due: due}
	if kept {
		j.sent = c.write(&j)
	} else {
		r.conns.Go(c.work)
	}
	c.jobs <- j
}

// grace is how long answers are waited for when a run is ended early.
const grace = 2 * time.Second

// hurry makes what is under way end soon.
func (r *Run) hurry() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.all {
		if c.net != nil {
			c.net.SetDeadline(time.Now().Add(grace))
		}
	}
}

func (r *Run) finished(s *Source, message int, a *Answered) {
	s.Answered(message, a)
	r.waiting.Add(-1)
	r.flying.Done()
}

func (r *Run) closeIdle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, list := range r.idle {
		for _, c := range list {
			close(c.jobs)
		}
	}
	r.idle = nil
}
