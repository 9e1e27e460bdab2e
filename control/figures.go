package control

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/wire"
)

// Count takes a Delta of the proxy of that ID.
func (c *Control) Count(id string, d wire.Delta) wire.Kept {
	now := c.now()
	kept, fresh := c.telemetry.Count(&d, now)
	if fresh {
		c.Totals.Add(d.Caller, d.Series)
		c.counters.add(&d, telemetry.At(&d, now))
		c.saw(id, d, now)
	}
	return kept
}

// maxBatches bounds what waits for a disk that does not take it: an hour.
const maxBatches = 360

// writeTelemetry writes down what was counted. What cannot be written waits for
// the next time, and proxies keep it meanwhile.
func (c *Control) writeTelemetry(ctx context.Context) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	if b := c.telemetry.Take(); b != nil {
		if c.unwritten = append(c.unwritten, b); len(c.unwritten) > maxBatches {
			c.unwritten = slices.Delete(c.unwritten, 0, 1)
		}
	}
	for len(c.unwritten) > 0 {
		ctx, stop := context.WithTimeout(ctx, 10*time.Second)
		err := c.store.AddTelemetry(ctx, c.unwritten[0], c.now().Unix())
		stop()
		if err != nil {
			return err
		}
		c.telemetry.Written(c.unwritten[0])
		c.unwritten = c.unwritten[1:]
	}
	return nil
}

// ageTelemetry rolls up and prunes what is on disk.
func (c *Control) ageTelemetry(ctx context.Context) error {
	for more := true; more && ctx.Err() == nil; {
		var err error
		if more, err = c.store.RollUp(ctx, c.now().Unix()); err != nil {
			return err
		}
	}
	// Finding series that nothing is of reads all there is.
	if now := c.now(); now.Sub(c.pruned) >= pruneEvery {
		gone, err := c.store.PruneTelemetry(ctx, now.Unix())
		if err != nil {
			return err
		}
		c.telemetry.Forget(gone)
		c.pruned = now
	}
	return nil
}

// recallTelemetry makes the memory know what is on disk.
func (c *Control) recallTelemetry(ctx context.Context) error {
	known, seen, first, err := c.store.TelemetryState(ctx)
	if err != nil {
		return err
	}
	now := c.now().Unix()
	var slots []telemetry.Slot
	err = c.store.Telemetry(ctx, c.memoryFrom(now), now+telemetry.Step, func(s telemetry.Slot) error {
		slots = append(slots, s)
		return nil
	})
	if err != nil {
		return err
	}
	return c.telemetry.Recall(known, slots, seen, first, now)
}

// memoryFrom is the second from which all is in memory; what is before it is
// read from disk.
func (c *Control) memoryFrom(now int64) int64 {
	from := now - telemetry.Kept
	return from - from%telemetry.Step
}

// sum visits every series with what it counted from from to before to. Of times
// that are on disk alone, whole steps count.
func (c *Control) sum(ctx context.Context, from, to int64, visit telemetry.Visit) error {
	if memory := c.memoryFrom(c.now().Unix()); from < memory {
		err := c.store.Telemetry(ctx, from, min(to, memory), func(s telemetry.Slot) error { return c.telemetry.Read(s.Sealed, visit) })
		if err != nil {
			return err
		}
		from = memory
	}
	c.telemetry.Sum(from, to, visit)
	return nil
}

// span is the window of so many seconds that ends at end, or else with the last
// second that is complete. It is shorter right after the first request.
func (c *Control) span(seconds, end int64) (from, to int64) {
	now := c.complete()
	if end <= 0 || end > now {
		end = now
	}
	from = end - seconds
	if first := c.telemetry.First(); first > from {
		from = min(first, end-1)
	}
	return from, end
}

// tellTime is how long proxies take to tell of a second that is over.
const tellTime = 400 * time.Millisecond

// complete is the end of the last second of which all proxies have told.
func (c *Control) complete() int64 { return c.now().Add(-tellTime).Unix() }

// trafficSeconds is how far back traffic looks.
const trafficSeconds = 60

// traffic tells who called whom in the last minute, and for every version how
// many requests one proxy of its busiest caller had under way, on average.
func (c *Control) traffic(proxies map[string]int) (links []rules.Link, busy map[string]float64) {
	type edge struct{ from, to, version string }
	took := map[edge]float64{} // seconds that requests took
	seen := map[rules.Link]bool{}
	from, to := c.span(trafficSeconds, 0)
	c.telemetry.Sum(from, to, func(n *telemetry.Names, _ uint, s *stats.Counts) {
		if n.App || n.Service == "" || n.Service == wire.Other || s.Requests() == 0 {
			return
		}
		if l := (rules.Link{From: n.Caller, To: n.Service}); !seen[l] {
			seen[l] = true
			links = append(links, l)
		}
		if n.Version != "" {
			for _, b := range s.Latency {
				took[edge{n.Caller, n.Service, n.Version}] += stats.BucketMiddle(int(b.Bucket)).Seconds() * float64(b.N)
			}
		}
	})
	slices.SortFunc(links, func(a, b rules.Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	busy = map[string]float64{}
	for e, sum := range took {
		at := e.to + "/" + e.version
		busy[at] = max(busy[at], sum/float64(to-from)/float64(max(proxies[e.from], 1)))
	}
	return links, busy
}

// Figures are the measurements of one group of requests over a window.
type Figures struct {
	Requests    uint64            `json:"requests" doc:"that count: ok, failed and refused"`
	RPS         float64           `json:"rps" doc:"requests per second"`
	OK          uint64            `json:"ok" doc:"answers below 500"`
	Failed      uint64            `json:"failed" doc:"5xx of the application, unreachable, reset, timeout"`
	Refused     uint64            `json:"refused" doc:"answered by the mesh itself"`
	Abandoned   uint64            `json:"abandoned,omitempty" doc:"whose caller left; they do not count"`
	CallerFault uint64            `json:"callerFault,omitempty" doc:"whose caller sent what could not be carried, such as a body that broke off; they do not count"`
	Success     *float64          `json:"success" jsonschema:"nullable" doc:"ok of all, 0 to 1; null without requests"`
	SuccessLow  float64           `json:"successLow" doc:"95% interval (Wilson)"`
	SuccessHigh float64           `json:"successHigh"`
	FirstTry    *float64          `json:"firstTry" jsonschema:"nullable" doc:"requests whose first try went well, 0 to 1; what success has beyond it is bought by retries"`
	Tries       uint64            `json:"tries,omitempty" doc:"how often requests were sent to an instance"`
	LoadFactor  *float64          `json:"loadFactor" jsonschema:"nullable" doc:"tries for each request; above 1 by retries, below by refusals"`
	P50MS       float64           `json:"p50MS" doc:"latency in milliseconds, within 1%"`
	P95MS       float64           `json:"p95MS"`
	P99MS       float64           `json:"p99MS"`
	Sent        uint64            `json:"sent,omitempty" doc:"bytes of the bodies of requests"`
	Received    uint64            `json:"received,omitempty" doc:"bytes of the bodies of answers that reached the caller"`
	Open        int64             `json:"open,omitempty" doc:"TCP connections that are open now"`
	Status      map[string]uint64 `json:"status,omitempty" doc:"answers by class, such as 2xx"`
	Reasons     map[string]uint64 `json:"reasons,omitempty" doc:"why the mesh answered, by reason"`
	App         *AppFigures       `json:"app,omitempty" doc:"what the workloads themselves answered, as the proxies beside them saw it; absent where there is no such proxy"`
}

// AppFigures are the same requests as the workloads saw them: each try by
// itself, without what the mesh added or saved.
type AppFigures struct {
	Requests uint64   `json:"requests" doc:"that came to the workload: tries of retried ones each by itself"`
	RPS      float64  `json:"rps"`
	Success  *float64 `json:"success" jsonschema:"nullable" doc:"0 to 1; null without requests"`
	P50MS    float64  `json:"p50MS"`
	P95MS    float64  `json:"p95MS"`
	P99MS    float64  `json:"p99MS"`
	Copies   uint64   `json:"copies,omitempty" doc:"copies of a mirror, which do not count"`
}

// tally adds up a group of requests.
type tally struct {
	stats.Counts
	app    stats.Counts
	copies uint64
	open   int64
}

func (t *tally) take(n *telemetry.Names, c *stats.Counts) {
	switch {
	case n.Copy:
		t.copies += c.Requests()
	case n.App:
		t.app.Add(c)
	default:
		t.Add(c)
	}
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func (t *tally) figures(seconds int64) Figures {
	n, per := t.Requests(), float64(max(seconds, 1))
	f := Figures{Requests: n, RPS: float64(n) / per, OK: t.OK, Failed: t.Failed, Refused: t.Refused, Abandoned: t.Abandoned, CallerFault: t.CallerFault, Tries: t.Tries,
		Sent: t.Sent, Received: t.Received, Open: t.open, P50MS: millis(t.Quantile(0.50)), P95MS: millis(t.Quantile(0.95)), P99MS: millis(t.Quantile(0.99))}
	f.SuccessLow, f.SuccessHigh = stats.Wilson(t.OK, n)
	if n > 0 {
		f.Success, f.FirstTry, f.LoadFactor = share(t.OK, n), share(t.FirstOK, n), share(t.Tries, n)
	}
	for i, count := range t.Status {
		if count > 0 {
			f.Status = put(f.Status, strconv.Itoa(i)+"xx", count)
		}
	}
	for i, reason := range engine.Reasons {
		if count := t.Reasons[i]; count > 0 {
			f.Reasons = put(f.Reasons, string(reason), count)
		}
	}
	if a := &t.app; a.Requests()+t.copies > 0 {
		f.App = &AppFigures{Requests: a.Requests(), RPS: float64(a.Requests()) / per, Success: share(a.OK, a.Requests()),
			P50MS: millis(a.Quantile(0.50)), P95MS: millis(a.Quantile(0.95)), P99MS: millis(a.Quantile(0.99)), Copies: t.copies}
	}
	return f
}

func put(m map[string]uint64, k string, n uint64) map[string]uint64 {
	if m == nil {
		m = map[string]uint64{}
	}
	m[k] = n
	return m
}

// TimelineAsk asks for the figures of a group of requests over time. Of the
// names, those that are empty do not matter.
type TimelineAsk struct {
	From, To, Step int64 // seconds since 1970; Step 0: about a hundred points
	Caller         string
	Service        string
	Version        string
	Instance       string
	Ladder, Route  string // a route of a service or a gateway
}

// Timeline is the figures of a group of requests over time.
type Timeline struct {
	From   int64   `json:"from" doc:"seconds since 1970"`
	To     int64   `json:"to"`
	Step   int64   `json:"step" doc:"seconds that each point covers"`
	Points []Point `json:"points" doc:"in order of time; points without requests too"`
	Marks  []Mark  `json:"marks" doc:"what people did meanwhile"`
}

// Point is the figures of one step.
type Point struct {
	At      int64    `json:"at" doc:"begin, in seconds since 1970"`
	OK      uint64   `json:"ok"`
	Failed  uint64   `json:"failed"`
	Refused uint64   `json:"refused"`
	Success *float64 `json:"success" jsonschema:"nullable"`
	P50MS   float64  `json:"p50MS"`
	P95MS   float64  `json:"p95MS"`
	P99MS   float64  `json:"p99MS"`
	AppOK   uint64   `json:"appOK" doc:"as the workloads answered"`
	AppAll  uint64   `json:"appAll"`
}

// Mark is a moment at which something was done.
type Mark struct {
	At   int64  `json:"at" doc:"seconds since 1970"`
	Ends int64  `json:"ends,omitempty" doc:"of a drill"`
	Kind string `json:"kind" doc:"revision, release (a revision that a release made) or drill"`
	Name string `json:"name" doc:"number of the revision, or of the drill"`
	Step string `json:"step,omitempty" doc:"of a release: the stage, done or back"`
	Text string `json:"text"`
	By   string `json:"by"`
}

// steps are the steps of a Timeline that nobody chose.
var steps = []int64{telemetry.Step, 30, 60, 300, 600, 1800, 3600, 3 * 3600}

func (q *TimelineAsk) takes(n *telemetry.Names) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	if !is(q.Caller, n.Caller) || !is(q.Service, n.Service) || !is(q.Version, n.Version) || !is(q.Instance, n.Instance) || n.Copy {
		return false
	}
	return q.Ladder == "" || n.RouteOf == q.Ladder && n.Route == q.Route || n.Gate != "" && n.Caller == q.Ladder && n.Gate == q.Route
}

// maxPoints bounds a Timeline.
const maxPoints = 2000

// Timeline returns the figures of a group of requests over time, with what
// people did meanwhile.
func (c *Control) Timeline(ctx context.Context, q TimelineAsk) (Timeline, error) {
	now := c.complete()
	if q.To <= 0 || q.To > now {
		q.To = now
	}
	if q.From <= 0 {
		q.From = q.To - telemetry.Kept
	}
	q.From = max(q.From, q.To-store.CoarseTime)
	for i := 0; q.Step == 0; i++ {
		if (q.To-q.From)/steps[i] <= 120 || i == len(steps)-1 {
			q.Step = steps[i]
		}
	}
	if q.From >= q.To || q.Step < 1 || (q.To-q.From)/q.Step > maxPoints {
		return Timeline{}, Unusable{"a timeline goes from an earlier to a later time in at most 2000 steps"}
	}
	q.From -= q.From % q.Step
	n := (q.To - q.From + q.Step - 1) / q.Step
	tallies := make([]tally, n)
	take := func(at int64, names *telemetry.Names, counts *stats.Counts) {
		if q.takes(names) {
			tallies[(at-q.From)/q.Step].take(names, counts)
		}
	}
	from := q.From
	if memory := c.memoryFrom(now); from < memory {
		err := c.store.Telemetry(ctx, from, min(q.To, memory), func(s telemetry.Slot) error {
			return c.telemetry.Read(s.Sealed, func(names *telemetry.Names, _ uint, counts *stats.Counts) { take(s.At, names, counts) })
		})
		if err != nil {
			return Timeline{}, err
		}
		from = memory
	}
	c.telemetry.Each(from, q.To, func(at int64, names *telemetry.Names, _ uint, counts *stats.Counts) { take(at, names, counts) })
	out := Timeline{From: q.From, To: q.To, Step: q.Step, Points: make([]Point, n), Marks: []Mark{}}
	for i := range tallies {
		t := &tallies[i]
		out.Points[i] = Point{At: q.From + int64(i)*q.Step, OK: t.OK, Failed: t.Failed, Refused: t.Refused, Success: share(t.OK, t.Requests()),
			P50MS: millis(t.Quantile(0.5)), P95MS: millis(t.Quantile(0.95)), P99MS: millis(t.Quantile(0.99)), AppOK: t.app.OK, AppAll: t.app.Requests()}
	}
	var err error
	out.Marks, err = c.marks(ctx, q.From, q.To)
	return out, err
}

// marks are the revisions and drills that began in a time.
func (c *Control) marks(ctx context.Context, from, to int64) ([]Mark, error) {
	out := []Mark{}
	revisions, err := c.store.Revisions(ctx, 0, 200)
	if err != nil {
		return nil, err
	}
	for _, r := range revisions {
		if at := r.At.Unix(); at >= from && at < to {
			m := Mark{At: at, Kind: "revision", Name: strconv.Itoa(int(r.Number)), Text: cmp.Or(r.Message, r.Kind), By: r.Author}
			if r.Kind == "release" {
				m.Kind, m.Step = "release", stepOf(r.Message)
			}
			out = append(out, m)
		}
	}
	drills, err := c.Drills(ctx, 200)
	if err != nil {
		return nil, err
	}
	for _, d := range drills {
		if at := d.Began.Unix(); at >= from && at < to {
			out = append(out, Mark{At: at, Ends: d.Ends.Unix(), Kind: "drill", Name: d.ID, Text: d.What, By: d.By})
		}
	}
	slices.SortFunc(out, func(a, b Mark) int { return cmp.Compare(a.At, b.At) })
	return out, nil
}
