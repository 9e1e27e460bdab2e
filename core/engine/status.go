package engine

import (
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/guard"
	"nightjar/core/lease"
)

// Status is how the guards of one called service stand in one proxy.
type Status struct {
	Service  string          `json:"service"`
	Versions []VersionStatus `json:"versions,omitempty"` // those that have something to tell, by name
	Retries  *RetryStatus    `json:"retries,omitempty"`  // absent where nothing is retried
	Limits   []LimitStatus   `json:"limits,omitempty"`   // of its routes
}

// VersionStatus is how the guards of one version stand.
type VersionStatus struct {
	Version   string         `json:"version"`
	Breaker   *BreakerStatus `json:"breaker,omitempty"`
	Queue     *QueueStatus   `json:"queue,omitempty"`
	Sidelined []OutStatus    `json:"sidelined,omitempty"`
	Down      []string       `json:"down,omitempty"` // instances whose health checks fail
	Shut      []string       `json:"shut,omitempty"` // instances that a drill takes down

	// instances to which this caller gets no connection
	Unreachable []ReachStatus `json:"unreachable,omitempty"`

	// more than half are unhealthy at once, so all are called
	Mistrusted bool         `json:"mistrusted,omitempty"`
	Sites      []SiteStatus `json:"sites,omitempty"` // in the order of failover
}

// BreakerStatus is how a breaker stands.
type BreakerStatus struct {
	State   string `json:"state"`            // closed, open or probing
	SinceMS int64  `json:"sinceMS"`          // for how long
	LeftMS  int64  `json:"leftMS,omitempty"` // until probes are let through, when it is open
	// requests in its window; of an open or probing one, those that opened it
	Seen   uint64 `json:"seen"`
	Failed uint64 `json:"failed"`
	Slow   uint64 `json:"slow"`
}

// QueueStatus is what is under way and what waits.
type QueueStatus struct {
	InFlight    int `json:"inFlight"`
	InFlightMax int `json:"inFlightMax"`
	Waiting     int `json:"waiting"`
	WaitingMax  int `json:"waitingMax"`
}

// OutStatus is a sidelined instance.
type OutStatus struct {
	Instance string `json:"instance"`
	Cause    string `json:"cause"`           // the last failure: a status or a reason
	LeftMS   int64  `json:"leftMS"`          // until a request tries it; 0: the next one does
	ForMS    int64  `json:"forMS"`           // length of this stay
	Times    int    `json:"times"`           // stays in a row
	Trial    bool   `json:"trial,omitempty"` // a request is trying it
}

// ReachStatus is an instance to which no connection comes about.
type ReachStatus struct {
	Instance string `json:"instance"`
	Cause    string `json:"cause"`  // what became of the last attempt
	ForMS    int64  `json:"forMS"`  // since it could last be reached
	NextMS   int64  `json:"nextMS"` // until it is tried again
}

// SiteStatus is one site in the order of failover.
type SiteStatus struct {
	Site   string  `json:"site"`
	Usable float64 `json:"usable"` // part of its instances that take requests, 0 to 1
	Share  float64 `json:"share"`  // of the requests that goes there now, 0 to 1
}

// RetryStatus is the budget for retries.
type RetryStatus struct {
	Requests uint64 `json:"requests"` // in the last 10 s
	Retries  uint64 `json:"retries"`  // of these
	// retries that may be sent now, by the budget of the service or else its first route that
	// retries
	Left int `json:"left"`
}

// LimitStatus is a limit of a route.
type LimitStatus struct {
	Route string `json:"route"`
	Keys  int    `json:"keys"` // values that it knows now
	Most  int    `json:"most"` // that it can know
	// of a limit of the whole mesh, what this proxy has of it
	Shared *lease.Status `json:"shared,omitempty"`
}

// Acts tells whether one of the guards does something to requests now.
func (s Status) Acts() bool {
	return slices.ContainsFunc(s.Versions, func(v VersionStatus) bool {
		return v.Breaker != nil && v.Breaker.State != guard.Closed.String() || v.Queue != nil && v.Queue.InFlight > 0 ||
			v.Sidelined != nil ||
			v.Down != nil ||
			v.Shut != nil ||
			v.Unreachable != nil
	})
}

// Status tells how the guards of all services stand that have any and were
// called in the last minute, by name.
// The limits of a gateway's own routes stand under the gateway's name.
func (t *Table) Status(now time.Duration) []Status {
	out := []Status{}
	told := slices.Clone(t.guarded)
	for _, s := range t.memory.lost.services(t) {
		if !slices.Contains(told, s) {
			told = append(told, s)
		}
	}
	slices.SortFunc(told, func(a, b *service) int { return strings.Compare(a.name, b.name) })
	for _, s := range told {
		st := Status{Service: s.name}
		for _, v := range slices.Sorted(maps.Keys(s.versions)) {
			if vs, any := s.versions[v].status(now); any {
				st.Versions = append(st.Versions, vs)
			}
		}
		r := s.retry
		if s.ladder != nil {
			st.Limits = s.ladder.limits(now)
			for _, rt := range s.ladder.routes {
				if r == nil {
					r = rt.retry
				}
			}
		}
		if r != nil {
			var b RetryStatus
			if b.Requests, b.Retries, b.Left = s.budget.State(r.Budget, now); b.Requests > 0 {
				st.Retries = &b
			}
		}
		if st.Versions != nil || st.Retries != nil || st.Limits != nil {
			out = append(out, st)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(t.gateways)) {
		if l := t.gateways[name].ladder.limits(now); l != nil {
			out = append(out, Status{Service: name, Limits: l})
		}
	}
	return out
}

func (l *ladder) limits(now time.Duration) (out []LimitStatus) {
	for _, rt := range l.routes {
		if rt.limit != nil {
			if n := rt.limit.Keys(); n > 0 {
				out = append(out, LimitStatus{Route: rt.Name(), Keys: n, Most: guard.MaxKeys})
			}
		}
		if rt.shared != nil {
			if s := rt.shared.Status(now); s.Keys > 0 {
				out = append(out, LimitStatus{Route: rt.Name(), Keys: s.Keys, Most: guard.MaxKeys, Shared: &s})
			}
		}
	}
	return out
}

func (p *pool) status(now time.Duration) (st VersionStatus, any bool) {
	v := p.version
	v.endDrills(now)
	st.Version = v.name
	if b := v.breaker; b != nil {
		s := b.State(now)
		st.Breaker = &BreakerStatus{
			State:   s.Mode.String(),
			SinceMS: (now - s.Since).Milliseconds(),
			Seen:    s.Seen,
			Failed:  s.Failed,
			Slow:    s.Slow,
		}
		if s.Mode == guard.Open {
			st.Breaker.LeftMS = max(s.Until-now, 0).Milliseconds()
		}
	}
	if v.queue != nil {
		s := v.queue.State()
		st.Queue = &QueueStatus{s.InFlight, s.InFlightMax, s.Waiting, s.WaitingMax}
	}
	st.Mistrusted = v.mistrusts.Load()
	for _, c := range v.peers {
		if s, out := v.side.State(c.Peer); out {
			st.Sidelined = append(
				st.Sidelined,
				OutStatus{
					c.ID,
					s.Cause,
					max(s.Until-now, 0).Milliseconds(),
					(s.Until - s.Since).Milliseconds(),
					s.Times,
					s.Trial,
				},
			)
		}
		if c.Sick.Load() {
			st.Down = append(st.Down, c.ID)
		}
		if c.IsShut() {
			st.Shut = append(st.Shut, c.ID)
		}
		if s, is := c.Reach(); is {
			st.Unreachable = append(st.Unreachable,
				ReachStatus{c.ID, s.Cause, (now - s.Since).Milliseconds(), max(s.Next-now, 0).Milliseconds()})
		}
	}
	for i, share := range p.shares(now, nil) {
		st.Sites = append(st.Sites, SiteStatus{p.sites[i][0].Site, usable(p.sites[i], now), share})
	}
	if v.unused(now) {
		st.Sites, st.Down, st.Shut, st.Mistrusted = nil, nil, nil, false
		if st.Queue = nil; st.Breaker != nil && st.Breaker.State == guard.Closed.String() {
			st.Breaker = nil
		}
	}
	any = st.Breaker != nil || st.Queue != nil || st.Mistrusted || st.Sidelined != nil || st.Down != nil ||
		st.Shut != nil ||
		st.Unreachable != nil ||
		st.Sites != nil
	return st, any
}
