package follow

import (
	"context"
	"math/rand/v2"
	"net/http"
	"slices"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

const (
	maxUnsent = 120 // telemetry that is kept while the service is away, in seconds

	// telemetryTick: reports cover whole seconds of the clock, so that both sides of a
	// call count it in the same one. telemetrySpread: proxies do not all report at once.
	telemetryTick   = time.Second
	telemetrySpread = 150 * time.Millisecond
)

// unsentDelta is a report, with the middle of the time that it covers.
type unsentDelta struct {
	at    time.Time
	delta wire.Delta
}

// count tells of what was counted, until ctx is done.
func (s *Session) count(ctx context.Context) {
	spread := time.Duration(rand.Int64N(int64(telemetrySpread)))
	wait := func(d time.Duration) bool {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(d):
			return true
		}
	}
	for {
		now := time.Now()
		if !wait(now.Truncate(telemetryTick).Add(telemetryTick).Sub(now)) {
			return
		}
		s.Collect()
		if !wait(spread) {
			return
		}
		s.Flush()
	}
}

// Collect keeps what was counted since the last time, and drops the oldest
// when too much is kept.
func (s *Session) Collect() {
	s.sending.Lock()
	defer s.sending.Unlock()
	now := time.Now()
	middle := now.Add(-min(now.Sub(s.taken), telemetryTick) / 2) // of what is counted now
	s.taken = now
	d := wire.Delta{
		Nonce:         s.cfg.Nonce,
		Caller:        s.follower.cfg.Caller,
		CallerVersion: s.cfg.CallerVersion,
		CallerSite:    s.follower.cfg.Site,
	}
	d.Series, d.Open = s.cfg.Recorder.Collect(s.cfg.Self)
	s.tellOthers()
	s.guards(&d)
	if s.cfg.News != nil {
		s.cfg.News(&d)
	}
	if len(d.Series) == 0 && len(d.Open) == 0 && !s.wasOpen && d.Status == nil && len(d.Events) == 0 &&
		len(d.Watched) == 0 && len(d.Unproven) == 0 {
		return
	}
	s.wasOpen = len(d.Open) > 0 // that none is open any more is news too
	s.seq++
	d.Sequence = s.seq
	for i := range s.unsent { // what they say of the guards is no news any more
		s.unsent[i].delta.Status = nil
	}
	s.unsent = append(s.unsent, unsentDelta{middle, d})
	s.forget(len(s.unsent) - maxUnsent)
}

// tellOthers says in the log that requests were counted without their names, for
// want of room: once a minute at most.
func (s *Session) tellOthers() {
	n := s.cfg.Recorder.Others()
	if n == s.others || time.Since(s.othersAt) < time.Minute {
		return
	}
	s.cfg.Log.Warn(
		"too many different routes, instances and callers to count each by itself: these requests count as \"other\"",
		"requests",
		n-s.others,
	)
	s.others, s.othersAt = n, time.Now()
}

// forget drops the n oldest of what is kept.
func (s *Session) forget(n int) {
	if n > 0 {
		s.unsent = append(s.unsent[:0], s.unsent[n:]...)
		s.sent = max(s.sent-n, 0)
	}
}

// stillTold is after how many quiet seconds the guards are told of once more.
const stillTold = 5

// guards adds how the guards stand, every second while one of them acts.
func (s *Session) guards(d *wire.Delta) {
	table, now := s.follower.Table.Load(), s.follower.now()
	if table == nil {
		return
	}
	d.Events = table.Events(now)
	status := table.Status(now)
	if s.quiet++; len(d.Series) > 0 || len(d.Events) > 0 || slices.ContainsFunc(status, engine.Status.Acts) {
		s.quiet = 0
	}
	if s.quiet%stillTold == 0 && (len(status) > 0 || len(d.Events) > 0) {
		d.Status = status
	}
}

// sendAgain sends once more what the service may have lost, since it may be
// another process now. What it has it passes over.
func (s *Session) sendAgain() {
	s.sending.Lock()
	defer s.sending.Unlock()
	s.sent = 0
}

// Flush sends what was not sent yet, oldest first. What was sent is kept until
// the service says that it cannot lose it any more; a service that comes back
// without it asks for it again.
func (s *Session) Flush() {
	s.sending.Lock()
	defer s.sending.Unlock()
	asked := false
	for s.sent < len(s.unsent) {
		u := &s.unsent[s.sent]
		u.delta.AgoMS, u.delta.Holds = time.Since(u.at).Milliseconds(), s.unsent[0].delta.Sequence
		var kept wire.Kept
		if s.call(context.Background(), http.MethodPost, "/telemetry", u.delta, &kept) != nil {
			return
		}
		if kept.Again {
			if asked { // it asked already, and has been sent all there is
				return
			}
			s.sent, asked = 0, true
			continue
		}
		s.sent++
		safe := 0
		for safe < s.sent && s.unsent[safe].delta.Sequence <= kept.Sequence {
			safe++
		}
		s.forget(safe)
	}
}

// tell sends what there is to tell of single requests. What the service does
// not take is lost, and counted.
func (s *Session) tell() {
	var seen wire.Seen
	seen.Watches, seen.Failures = s.follower.cfg.Feed.Take()
	seen.Spans, seen.Lost = s.follower.cfg.Spans.Take()
	seen.Lost += s.lost
	if len(seen.Watches)+len(seen.Failures)+len(seen.Spans) == 0 {
		return
	}
	if err := s.call(s.ctx, http.MethodPost, "/seen", seen, nil); err != nil {
		s.lost = seen.Lost + uint64(len(seen.Spans))
		return
	}
	s.lost = 0
}
