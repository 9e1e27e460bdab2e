// Package telemetry keeps the counts that proxies report: by series and second for 15
// minutes in memory, and in steps of ten seconds for the disk.
//
// A series is one set of names. A delta of a proxy adds to an open second; after a few
// seconds a second is sealed, which takes a tenth of the memory. Batches for the disk
// hold the sequence numbers of the deltas in them, so that each delta counts once,
// whatever is sent again after a crash.
package telemetry

import (
	"cmp"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/core/stats"
	"nightjar/wire"
)

// Limits of the store.
const (
	Kept      = 15 * 60   // seconds in memory
	Step      = 10        // seconds of a Slot
	MaxSeries = 5000      // with requests in memory; beyond it, new names count as wire.Other
	maxNames  = 200_000   // series in total
	MaxSeen   = 50_000    // processes of proxies of which the last report is known
	open      = 5         // seconds until a second is sealed
	ring      = Kept + 64 // seconds of the ring
)

// Names identify a series. The JSON is stored.
type Names struct {
	App           bool   `json:"app,omitempty"`  // requests as the workload answered them
	Copy          bool   `json:"copy,omitempty"` // with App: copies by a mirror
	Caller        string `json:"caller,omitempty"`
	CallerVersion string `json:"callerVersion,omitempty"`
	CallerSite    string `json:"callerSite,omitempty"`
	Gate          string `json:"gate,omitempty"` // route of the gateway
	Service       string `json:"service,omitempty"`
	Version       string `json:"version,omitempty"`
	Instance      string `json:"instance,omitempty"`
	RouteOf       string `json:"routeOf,omitempty"` // service whose route it is
	Route         string `json:"route,omitempty"`
	Site          string `json:"site,omitempty"` // of the instance
}

// Store is the telemetry of a mesh. Make one with New.
type Store struct {
	mu      sync.Mutex
	series  map[Names]*series
	byID    []*series // nil: the series was forgotten
	active  int       // series with requests in memory
	seconds [ring]second
	seen    map[string]*process
	first   int64  // second of the oldest request
	unnamed uint64 // requests counted without names
	pending map[int64]map[key]*stats.Counts
	unsaved []Named // series that are in no Batch yet
	writer  string  // tells the batches of this store from those of others
	batches uint64  // that were taken
}

type series struct {
	Names
	id   uint32
	last int64 // newest second
}

// key is a series and the revision that its requests followed.
type key struct {
	id       uint32
	revision uint32
}

// second is the counts of one second: those that can still grow, and sealed ones.
type second struct {
	at     int64
	open   map[key]*stats.Counts
	sealed [][]byte
}

// process is one process of a proxy.
type process struct {
	counted uint64 // last Delta that was counted
	durable uint64 // last Delta that is on disk
	last    int64
	changed bool // since the last Batch
}

// New makes an empty store.
func New() *Store {
	return &Store{
		series:  map[Names]*series{},
		seen:    map[string]*process{},
		pending: map[int64]map[key]*stats.Counts{},
		writer:  "batches-" + rand.Text(),
	}
}

// At is the second to which a Delta that arrives now belongs.
func At(d *wire.Delta, now time.Time) int64 {
	ago := min(max(d.AgoMS, 0), (Kept-1)*1000)
	return now.Add(-time.Duration(ago) * time.Millisecond).Unix()
}

// Count counts a Delta. isNew is false for one that was counted before, and for one
// that must be sent again because an earlier one is missing.
func (t *Store) Count(d *wire.Delta, now time.Time) (kept wire.Kept, isNew bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.seen[d.Nonce]
	if p == nil {
		if len(t.seen) >= MaxSeen {
			t.forgetProcesses()
		}
		p = &process{}
		t.seen[d.Nonce] = p
	}
	p.last = now.Unix()
	kept.Sequence = p.durable
	switch {
	case d.Sequence <= p.counted:
		return kept, false
	case max(p.counted+1, d.Holds) < d.Sequence:
		kept.Again = true
		return kept, false
	}
	p.counted, p.changed = d.Sequence, true
	at := At(d, now)
	if t.first == 0 || at < t.first {
		t.first = at
	}
	sec, slot := t.second(at), t.slot(at)
	for i := range d.Series {
		s := &d.Series[i]
		n := Names{
			s.App,
			s.Copy,
			d.Caller,
			d.CallerVersion,
			d.CallerSite,
			s.Gate,
			s.Service,
			s.Version,
			s.Instance,
			s.RouteOf,
			s.Route,
			s.Site,
		}
		if s.App { // who called is what the proxy was told
			n.Caller, n.CallerVersion, n.CallerSite, n.Site = s.Caller, "", "", d.CallerSite
		}
		n.makeValid()
		k := key{t.seriesFor(n, at, &s.Counts), uint32(s.Revision)}
		countsOf(sec.open, k).Add(&s.Counts)
		countsOf(slot, k).Add(&s.Counts)
	}
	return kept, true
}

// fields are pointers to all names.
func (n *Names) fields() [10]*string {
	return [10]*string{
		&n.Caller, &n.CallerVersion, &n.CallerSite, &n.Gate, &n.Service, &n.Version, &n.Instance, &n.RouteOf, &n.Route, &n.Site,
	}
}

// IsAt tells whether requests were made at a site, or answered there; of any, with an empty
// one.
func (n *Names) IsAt(site string) bool { return site == "" || n.Site == site || n.CallerSite == site }

// makeValid replaces invalid names by wire.Other, so that whoever shows or exports
// names can rely on them: proxies can report anything.
func (n *Names) makeValid() {
	for _, name := range n.fields() {
		*name = wire.ValidName(*name)
	}
}

func countsOf(m map[key]*stats.Counts, k key) *stats.Counts {
	c := m[k]
	if c == nil {
		c = &stats.Counts{}
		m[k] = c
	}
	return c
}

// seriesFor is the number of the series of these names, or of the series for requests
// without names when there are too many.
func (t *Store) seriesFor(n Names, at int64, c *stats.Counts) uint32 {
	s := t.series[n]
	if s == nil || s.last == 0 {
		if t.active >= MaxSeries || s == nil && len(t.series) >= maxNames {
			if !n.App {
				t.unnamed += c.Requests()
			}
			n = Names{App: n.App, Caller: wire.Other, Service: wire.Other}
			s = t.series[n]
		}
		if s == nil {
			for _, name := range n.fields() {
				*name = strings.Clone(*name) // they are parts of the received message
			}
			s = t.addSeries(n, uint32(len(t.byID)))
			t.unsaved = append(t.unsaved, Named{s.id, n})
		}
		if s.last == 0 {
			t.active++
		}
	}
	s.last = max(s.last, at)
	return s.id
}

func (t *Store) addSeries(n Names, id uint32) *series {
	for uint32(len(t.byID)) <= id {
		t.byID = append(t.byID, nil)
	}
	s := &series{Names: n, id: id}
	t.series[n], t.byID[id] = s, s
	return s
}

// second is the open entry of a second in the ring. One that is there with another time
// is too old, or in the future of a clock that was set back.
func (t *Store) second(at int64) *second {
	s := &t.seconds[at%ring]
	if s.at != at {
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

// Tidy seals seconds that are over, and drops those that are too old, or in the future.
func (t *Store) Tidy(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := range t.seconds {
		s := &t.seconds[i]
		switch {
		case s.at < now.Unix()-Kept-Step, s.at > now.Unix()+Step: // the clock was set back
			*s = second{}
		case s.open != nil && s.at < now.Unix()-open:
			s.sealed = append(s.sealed, seal(s.open))
			s.open = nil
		}
	}
	for _, s := range t.series {
		s.last = min(s.last, now.Unix()+Step)
		if s.last > 0 && s.last < now.Unix()-Kept {
			s.last = 0
			t.active--
		}
	}
}

// forgetProcesses drops the processes that have been silent for longest, a tenth of all.
// What a process sends again after that counts twice, but proxies keep their counts for
// a few minutes only.
func (t *Store) forgetProcesses() {
	byAge := slices.SortedFunc(maps.Keys(t.seen), func(a, b string) int {
		return cmp.Compare(t.seen[a].last, t.seen[b].last)
	})
	for _, nonce := range byAge[:max(len(byAge)/10, 1)] {
		delete(t.seen, nonce)
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

var errSealed = errors.New("telemetry on disk is damaged")

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
	return t.active, t.unnamed
}
