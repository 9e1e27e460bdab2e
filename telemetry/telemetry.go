// Package telemetry keeps what proxies counted: by series and second for 15
// minutes in memory, and in steps of ten seconds for who writes them to disk.
package telemetry

import (
	"encoding/binary"
	"errors"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"nightjar/core/stats"
	"nightjar/wire"
)

// What is kept, and how much of it.
const (
	Kept      = 15 * 60   // seconds in memory
	Step      = 10        // seconds of a Slot
	MaxSeries = 5000      // with requests in the time that is kept in memory; past this, new names count as wire.Other
	maxNames  = 200_000   // that are known at all
	maxNonces = 20_000    // processes of proxies
	open      = 5         // seconds for which a second stays open for more
	ring      = Kept + 64 // seconds of the ring
)

// Names are what a series is of.
type Names struct {
	App           bool   `json:"app,omitempty"`
	Copy          bool   `json:"copy,omitempty"`
	Caller        string `json:"caller,omitempty"`
	CallerVersion string `json:"callerVersion,omitempty"`
	Gate          string `json:"gate,omitempty"`
	Service       string `json:"service,omitempty"`
	Version       string `json:"version,omitempty"`
	Instance      string `json:"instance,omitempty"`
	RouteOf       string `json:"routeOf,omitempty"`
	Route         string `json:"route,omitempty"`
}

// Store is the telemetry of a mesh. Make one with New.
type Store struct {
	mu      sync.Mutex
	series  map[Names]*series
	byID    []*series // nil where nothing is known any more
	active  int       // series with requests in the time that is kept
	seconds [ring]second
	seen    map[string]*process
	first   int64  // second of the first request that is known
	over    uint64 // requests counted without names
	pending map[int64]map[key]*stats.Counts
	fresh   []Named // series that are not in any Batch yet
}

type series struct {
	Names
	id   uint32
	last int64 // newest second
}

// key is a series under one revision.
type key struct {
	id       uint32
	revision uint32
}

// second is what was counted in one second: what may still grow, and what was
// sealed, since that takes a tenth of the memory.
type second struct {
	at     int64
	open   map[key]*stats.Counts
	sealed [][]byte
}

// process is one process of a proxy.
type process struct {
	seen    uint64 // last Delta that was counted
	durable uint64 // last Delta that is on disk
	last    int64
	changed bool // since the last Batch
}

// New makes an empty store.
func New() *Store {
	return &Store{series: map[Names]*series{}, seen: map[string]*process{}, pending: map[int64]map[key]*stats.Counts{}}
}

// At is the second in which a Delta counts that comes now.
func At(d *wire.Delta, now time.Time) int64 {
	ago := min(max(d.AgoMS, 0), (Kept-1)*1000)
	return now.Add(-time.Duration(ago) * time.Millisecond).Unix()
}

// Count takes a Delta. fresh is false for one that came before, and for one that
// is to come again in its order.
func (t *Store) Count(d *wire.Delta, now time.Time) (kept wire.Kept, fresh bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.seen[d.Nonce]
	if p == nil {
		if len(t.seen) >= maxNonces {
			t.forgetProcesses(now.Unix())
		}
		p = &process{}
		t.seen[d.Nonce] = p
	}
	p.last = now.Unix()
	kept.Sequence = p.durable
	switch {
	case d.Sequence <= p.seen:
		return kept, false
	case max(p.seen+1, d.Holds) < d.Sequence:
		kept.Again = true
		return kept, false
	}
	p.seen, p.changed = d.Sequence, true
	at := At(d, now)
	if t.first == 0 || at < t.first {
		t.first = at
	}
	sec, slot := t.second(at), t.slot(at)
	for i := range d.Series {
		s := &d.Series[i]
		n := Names{s.App, s.Copy, d.Caller, d.CallerVersion, s.Gate, s.Service, s.Version, s.Instance, s.RouteOf, s.Route}
		if s.App {
			n.Caller, n.CallerVersion = s.Caller, ""
		}
		n.makeValid()
		k := key{t.of(n, at, &s.Counts), uint32(s.Revision)}
		if sec != nil {
			into(sec.open, k).Add(&s.Counts)
		}
		into(slot, k).Add(&s.Counts)
	}
	return kept, true
}

// longestName bounds a name in bytes.
const longestName = 256

// all are the names, to be changed.
func (n *Names) all() [8]*string {
	return [8]*string{&n.Caller, &n.CallerVersion, &n.Gate, &n.Service, &n.Version, &n.Instance, &n.RouteOf, &n.Route}
}

// makeValid puts wire.Other in the place of what can be no name, so that whoever
// shows or exports names can rely on them: they come from others.
func (n *Names) makeValid() {
	for _, name := range n.all() {
		if len(*name) > longestName || !utf8.ValidString(*name) {
			*name = wire.Other
		}
	}
}

func into(m map[key]*stats.Counts, k key) *stats.Counts {
	c := m[k]
	if c == nil {
		c = &stats.Counts{}
		m[k] = c
	}
	return c
}

// of is the series of these names, or the one of those without names.
func (t *Store) of(n Names, at int64, c *stats.Counts) uint32 {
	s := t.series[n]
	if s == nil || s.last == 0 {
		if t.active >= MaxSeries || s == nil && len(t.series) >= maxNames {
			if !n.App {
				t.over += c.Requests()
			}
			n = Names{App: n.App, Caller: wire.Other, Service: wire.Other}
			s = t.series[n]
		}
		if s == nil {
			for _, name := range n.all() {
				*name = strings.Clone(*name) // they are parts of what was received
			}
			s = t.know(n, uint32(len(t.byID)))
			t.fresh = append(t.fresh, Named{s.id, n})
		}
		if s.last == 0 {
			t.active++
		}
	}
	s.last = max(s.last, at)
	return s.id
}

func (t *Store) know(n Names, id uint32) *series {
	for uint32(len(t.byID)) <= id {
		t.byID = append(t.byID, nil)
	}
	s := &series{Names: n, id: id}
	t.series[n], t.byID[id] = s, s
	return s
}

// second is the place of a second in the ring, open for more; nil: it is past.
func (t *Store) second(at int64) *second {
	s := &t.seconds[at%ring]
	if s.at > at {
		return nil
	}
	if s.at < at {
		*s = second{at: at}
	}
	if s.open == nil {
		s.open = map[key]*stats.Counts{}
	}
	return s
}

func (t *Store) slot(at int64) map[key]*stats.Counts {
	at -= at % Step
	s := t.pending[at]
	if s == nil {
		s = map[key]*stats.Counts{}
		t.pending[at] = s
	}
	return s
}

// Tidy seals seconds that are over, and lets go of what is past.
func (t *Store) Tidy(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := range t.seconds {
		s := &t.seconds[i]
		switch {
		case s.at < now.Unix()-Kept-Step:
			*s = second{}
		case s.open != nil && s.at < now.Unix()-open:
			s.sealed = append(s.sealed, seal(s.open))
			s.open = nil
		}
	}
	for _, s := range t.series {
		if s.last > 0 && s.last < now.Unix()-Kept {
			s.last = 0
			t.active--
		}
	}
}

// forgetProcesses drops those that were not heard of for the time that proxies
// keep what they counted.
func (t *Store) forgetProcesses(now int64) {
	for nonce, p := range t.seen {
		if p.last < now-Kept {
			delete(t.seen, nonce)
		}
	}
	if len(t.seen) >= maxNonces {
		clear(t.seen) // a Delta of now that comes once more could count twice
	}
}

func seal(m map[key]*stats.Counts) []byte {
	var b []byte
	for k, c := range m {
		b = binary.AppendUvarint(b, uint64(k.id))
		b = binary.AppendUvarint(b, uint64(k.revision))
		b, _ = c.AppendBinary(b)
	}
	return append(make([]byte, 0, len(b)), b...)
}

var errSealed = errors.New("telemetry: what is on disk is not what was written there")

func unseal(b []byte, visit func(key, *stats.Counts)) (err error) {
	var c stats.Counts
	for len(b) > 0 {
		id, n := binary.Uvarint(b)
		revision, m := binary.Uvarint(b[max(n, 0):])
		if n <= 0 || m <= 0 {
			return errSealed
		}
		if b, err = c.Decode(b[n+m:]); err != nil {
			return errSealed
		}
		visit(key{uint32(id), uint32(revision)}, &c)
	}
	return nil
}

// Visit is called with what a series counted under one revision. It may not
// keep c, nor change anything.
type Visit func(n *Names, revision uint, c *stats.Counts)

// Each visits what was counted in every second from from to before to, as far
// as it is kept, in order of time.
func (t *Store) Each(from, to int64, visit func(at int64, n *Names, revision uint, c *stats.Counts)) {
	type part struct {
		at     int64
		sealed []byte
	}
	var parts []part
	t.mu.Lock()
	for at := max(from, to-ring); at < to; at++ {
		s := &t.seconds[at%ring]
		if s.at != at {
			continue
		}
		for _, b := range s.sealed {
			parts = append(parts, part{at, b})
		}
		if len(s.open) > 0 {
			parts = append(parts, part{at, seal(s.open)})
		}
	}
	byID := t.byID
	t.mu.Unlock()
	for _, p := range parts {
		unseal(p.sealed, func(k key, c *stats.Counts) {
			if s := byID[k.id]; s != nil {
				visit(p.at, &s.Names, uint(k.revision), c)
			}
		})
	}
}

// Sum visits every series once with what it counted from from to before to.
func (t *Store) Sum(from, to int64, visit Visit) {
	type of struct {
		*Names
		revision uint
	}
	sums := map[of]*stats.Counts{}
	t.Each(from, to, func(_ int64, n *Names, revision uint, c *stats.Counts) {
		k := of{n, revision}
		sum := sums[k]
		if sum == nil {
			sum = &stats.Counts{}
			sums[k] = sum
		}
		sum.Add(c)
	})
	for k, c := range sums {
		visit(k.Names, k.revision, c)
	}
}

// First is the second of the first request that is known; 0: there was none.
func (t *Store) First() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.first
}

// State tells how many series have requests now, and how many requests were
// counted without names.
func (t *Store) State() (active int, over uint64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.active, t.over
}
