package engine

import (
	"fmt"
	"sync"
	"time"

	"nightjar/core/guard"
)

// Event is a change of state that people should hear of.
type Event struct {
	At       time.Duration `json:"-"`
	AgoMS    int64         `json:"agoMS"`
	Service  string        `json:"service"`
	Version  string        `json:"version,omitempty"`
	Instance string        `json:"instance,omitempty"`
	// breaker-open, breaker-probing, breaker-closed, sidelined, still-sidelined, returned, down,
	// up, health-ignored, health-used, spills, settled, unreachable or reachable
	Kind   string `json:"kind"`
	Detail string `json:"detail"`
}

// maxEvents bounds the events that wait to be told.
const maxEvents = 256

// eventLog keeps the events that nobody has taken yet; past its bound the
// oldest are lost.
type eventLog struct {
	mu   sync.Mutex
	list []Event
}

func (l *eventLog) add(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.list) == maxEvents {
		l.list = append(l.list[:0], l.list[1:]...)
	}
	l.list = append(l.list, e)
}

// Events takes the events since the last time, oldest first.
func (t *Table) Events(now time.Duration) []Event {
	for _, s := range t.guarded {
		for _, p := range s.versions {
			if p.sites != nil && p.version.used.Load() > 0 {
				p.spilled(now)
			}
		}
	}
	l := &t.memory.log
	l.mu.Lock()
	defer l.mu.Unlock()
	out := l.list
	l.list = nil
	for i := range out {
		out[i].AgoMS = (now - out[i].At).Milliseconds()
	}
	return out
}

// spilled tells of requests that begin or cease to go to another site.
func (p *pool) spilled(now time.Duration) {
	var room [8]float64
	first := p.shares(now, room[:0])[0]
	if spills := first < 1; p.version.spills.Swap(spills) != spills {
		kind, detail := "settled", fmt.Sprintf("all requests go to %s again", p.sites[0][0].Site)
		if spills {
			kind, detail = "spills", fmt.Sprintf(
				"too few instances at %s can be used: %.0f%% of the requests go to other sites",
				p.sites[0][0].Site,
				100*(1-first),
			)
		}
		p.version.tell(now, kind, "", detail)
	}
}

func (v *version) tell(now time.Duration, kind, instance, detail string) {
	v.memory.log.add(
		Event{
			At:       now,
			Service:  v.service,
			Version:  v.name,
			Instance: instance,
			Kind:     kind,
			Detail:   detail,
		},
	)
}

// note tells of what a report to a machine changed.
func (v *version) note(c guard.Change, in *Instance, now time.Duration) {
	switch c {
	case guard.Same:
	case guard.Opened:
		s, slow := v.breaker.State(now), ""
		if v.rules.Breaker.Slow > 0 {
			slow = fmt.Sprintf(" and %d were slow", s.Slow)
		}
		v.tell(
			now,
			"breaker-open",
			"",
			fmt.Sprintf(
				"%d of the last %d requests failed%s; requests are refused for %s",
				s.Failed,
				s.Seen,
				slow,
				v.rules.Breaker.OpenFor,
			),
		)
	case guard.Reopened:
		v.tell(
			now,
			"breaker-open",
			"",
			fmt.Sprintf("a probe failed; requests are refused for another %s", v.rules.Breaker.OpenFor),
		)
	case guard.Probes:
		v.tell(
			now,
			"breaker-probing",
			"",
			fmt.Sprintf("%d requests are let through as probes", v.rules.Breaker.Probes),
		)
	case guard.Reclosed:
		v.tell(now, "breaker-closed", "", "the probes went well")
	case guard.Out, guard.Longer:
		for _, c2 := range v.peers {
			if s, out := v.side.State(c2.Peer); c2.ID == in.ID && out {
				kind, what := "sidelined", fmt.Sprintf(
					"%d failures in a row, the last: %s",
					v.rules.Sideline.After,
					s.Cause,
				)
				if c == guard.Longer {
					kind, what = "still-sidelined", "a probe failed: "+s.Cause
				}
				v.tell(now, kind, in.ID, fmt.Sprintf("%s; out for %s", what, s.Until-s.Since))
			}
		}
	case guard.Lost, guard.Found:
		v.noteReached(c, in, now)
	case guard.Back:
		v.tell(now, "returned", in.ID, "a probe succeeded")
	}
}
