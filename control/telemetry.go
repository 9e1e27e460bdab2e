package control

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
)

const (
	keptSeconds = 15 * 60
	maxSeries   = 5000 // past this, new names are counted as Other
	maxNonces   = 10_000
)

// Other stands for the names of series past the bound.
const Other = "other"

// seriesKey is the names under which requests are counted.
type seriesKey struct {
	caller, callerVersion, gate, service, version, instance, routeOf, route string
}

// telemetry keeps what proxies counted, by series and second, for 15 minutes.
type telemetry struct {
	mu     sync.Mutex
	series map[seriesKey]*series
	seen   map[string]uint64 // last Delta of every proxy process, so that none counts twice
	first  int64             // second of the first request ever
	over   uint64            // requests counted as Other
}

// series is a ring of seconds.
type series struct {
	cells [keptSeconds]*cell
	last  int64 // newest second
}

// cell is one second of one series under one revision.
type cell struct {
	second int64
	wire.Series
	next *cell // the same second under another revision
}

func newTelemetry() *telemetry {
	return &telemetry{series: map[seriesKey]*series{}, seen: map[string]uint64{}}
}

// Count takes a Delta of the proxy of that ID. A Delta that came before is
// passed over.
func (c *Control) Count(id string, d wire.Delta) {
	if now := c.now(); c.telemetry.count(d, now) {
		c.saw(id, d, now)
	}
}

// count tells whether the Delta is new.
func (t *telemetry) count(d wire.Delta, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if d.Sequence <= t.seen[d.Nonce] {
		return false
	}
	if len(t.seen) >= maxNonces {
		clear(t.seen) // only processes long gone fill it; a re-sent Delta of now could count twice
	}
	t.seen[d.Nonce] = d.Sequence
	second := now.Unix() - min(max(d.AgoMS, 0)/1000, keptSeconds-1)
	if t.first == 0 || second < t.first {
		t.first = second
	}
	for _, s := range d.Series {
		k := seriesKey{d.Caller, d.CallerVersion, s.Gate, s.Service, s.Version, s.Instance, s.RouteOf, s.Route}
		ring := t.series[k]
		if ring == nil {
			if len(t.series) >= maxSeries {
				t.over += s.OK + s.Failed + s.Refused
				k = seriesKey{caller: Other, service: Other}
				ring = t.series[k]
			}
			if ring == nil {
				ring = new(series)
				t.series[k] = ring
			}
		}
		ring.add(second, s)
	}
	return true
}

func (r *series) add(second int64, s wire.Series) {
	r.last = max(r.last, second)
	at := &r.cells[second%keptSeconds]
	switch {
	case *at != nil && (*at).second > second:
		return // older than what is kept
	case *at == nil || (*at).second != second:
		*at = &cell{second: second, Series: s}
		return
	}
	c := *at
	for c.Revision != s.Revision {
		if c.next == nil {
			c.next = &cell{second: second, Series: s}
			return
		}
		c = c.next
	}
	c.OK += s.OK
	c.Failed += s.Failed
	c.Refused += s.Refused
	c.Abandoned += s.Abandoned
	c.Tries += s.Tries
	c.FirstOK += s.FirstOK
	c.Status = addMaps(c.Status, s.Status)
	c.Reasons = addMaps(c.Reasons, s.Reasons)
	c.Latency = append(c.Latency, s.Latency...)
}

func addMaps(to, from map[string]uint64) map[string]uint64 {
	if to == nil {
		return from
	}
	for k, n := range from {
		to[k] += n
	}
	return to
}

// tidy forgets series without a request in the time that is kept.
func (t *telemetry) tidy(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, r := range t.series {
		if r.last < now.Unix()-keptSeconds {
			delete(t.series, k)
		}
	}
}

// tally adds up cells.
type tally struct {
	ok, failed, refused, tries, firstOK uint64
	reasons                             map[string]uint64
	latency                             stats.Histogram
}

func (t *tally) requests() uint64 { return t.ok + t.failed + t.refused }

func (t *tally) add(c *cell) {
	t.ok += c.OK
	t.failed += c.Failed
	t.refused += c.Refused
	t.tries += c.Tries
	t.firstOK += c.FirstOK
	for k, n := range c.Reasons {
		if t.reasons == nil {
			t.reasons = map[string]uint64{}
		}
		t.reasons[k] += n
	}
	for _, b := range c.Latency {
		t.latency.Add(int(b[0]), uint64(b[1]))
	}
}

// window visits every cell of the last seconds that are complete, and returns
// how many seconds that is: fewer right after the first request.
func (t *telemetry) window(now time.Time, seconds int64, visit func(seriesKey, *cell)) int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	end := now.Unix() // the second that runs is not complete
	begin := end - seconds
	if t.first > begin {
		begin = min(t.first, end-1)
	}
	for k, r := range t.series {
		if r.last < begin {
			continue
		}
		for s := begin; s < end; s++ {
			for c := r.cells[s%keptSeconds]; c != nil && c.second == s; c = c.next {
				visit(k, c)
			}
		}
	}
	return end - begin
}

// trafficSeconds is how far back traffic looks.
const trafficSeconds = 60

// traffic tells who called whom in the last minute, and for every version how
// many requests one proxy of its busiest caller had under way, on average.
func (t *telemetry) traffic(now time.Time, proxies map[string]int) (links []rules.Link, busy map[string]float64) {
	type edge struct{ from, to, version string }
	took := map[edge]float64{} // seconds that requests took
	seen := map[rules.Link]bool{}
	seconds := t.window(now, trafficSeconds, func(k seriesKey, c *cell) {
		if k.service == "" || k.service == Other || c.OK+c.Failed+c.Refused == 0 {
			return
		}
		if l := (rules.Link{From: k.caller, To: k.service}); !seen[l] {
			seen[l] = true
			links = append(links, l)
		}
		if k.version != "" {
			for _, b := range c.Latency {
				took[edge{k.caller, k.service, k.version}] += stats.BucketMiddle(int(b[0])).Seconds() * float64(b[1])
			}
		}
	})
	slices.SortFunc(links, func(a, b rules.Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	busy = map[string]float64{}
	for e, sum := range took {
		at := e.to + "/" + e.version
		busy[at] = max(busy[at], sum/float64(max(seconds, 1))/float64(max(proxies[e.from], 1)))
	}
	return links, busy
}

// Figures are the measurements of one group of requests over the window.
type Figures struct {
	Requests    uint64            `json:"requests"`
	RPS         float64           `json:"rps" doc:"requests per second"`
	OK          uint64            `json:"ok" doc:"answers below 500"`
	Failed      uint64            `json:"failed" doc:"5xx of the application, unreachable, reset, timeout"`
	Refused     uint64            `json:"refused" doc:"answered by the mesh itself"`
	Success     *float64          `json:"success" jsonschema:"nullable" doc:"ok of all, 0 to 1; null without requests"`
	SuccessLow  float64           `json:"successLow" doc:"95% interval (Wilson)"`
	SuccessHigh float64           `json:"successHigh"`
	FirstTry    *float64          `json:"firstTry" jsonschema:"nullable" doc:"requests whose first try went well, 0 to 1; what success has beyond it is bought by retries"`
	LoadFactor  *float64          `json:"loadFactor" jsonschema:"nullable" doc:"tries for each request; above 1 by retries, below by refusals"`
	P50MS       float64           `json:"p50MS" doc:"latency in milliseconds, within 1%"`
	P95MS       float64           `json:"p95MS"`
	P99MS       float64           `json:"p99MS"`
	Reasons     map[string]uint64 `json:"reasons,omitempty" doc:"why the mesh answered, by reason"`
}

func (t *tally) figures(seconds int64) Figures {
	n := t.requests()
	f := Figures{Requests: n, RPS: float64(n) / float64(max(seconds, 1)), OK: t.ok, Failed: t.failed, Refused: t.refused, Reasons: t.reasons}
	f.SuccessLow, f.SuccessHigh = stats.Wilson(t.ok, n)
	if n > 0 {
		rate := float64(t.ok) / float64(n)
		first, load := float64(t.firstOK)/float64(n), float64(t.tries)/float64(n)
		f.Success, f.FirstTry, f.LoadFactor = &rate, &first, &load
	}
	ms := func(q float64) float64 { return float64(t.latency.Quantile(q).Microseconds()) / 1000 }
	f.P50MS, f.P95MS, f.P99MS = ms(0.50), ms(0.95), ms(0.99)
	return f
}
