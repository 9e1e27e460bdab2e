package control

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/wire"
)

// Limits of a call.
const (
	MaxCalls       = 100_000
	MaxConcurrency = 256
	maxRate        = 5000
)

// Call is a request to be sent a number of times.
type Call struct {
	Ask
	Count       int     `json:"count,omitempty" doc:"how many requests; 1 when 0, at most 100000"`
	Rate        float64 `json:"rate,omitempty" doc:"requests per second; 0: as fast as they are answered"`
	Concurrency int     `json:"concurrency,omitempty" doc:"requests at once; 8 when 0, at most 256"`
}

// Tally is what came of the requests so far.
type Tally struct {
	Asked     int            `json:"asked" doc:"how many were to be sent"`
	Done      int            `json:"done" doc:"how many have an outcome"`
	Final     bool           `json:"final" doc:"true in the last line"`
	Versions  []VersionTally `json:"versions" doc:"answers by version, with the share that the rules intend"`
	Instances map[string]int `json:"instances" doc:"answers by instance"`
	Routes    map[string]int `json:"routes" doc:"answers by route, as LADDER/ROUTE; LADDER/ alone is plain balancing"`
	Status    map[string]int `json:"status" doc:"answers by status"`
	Reasons   map[string]int `json:"reasons" doc:"answers of the mesh itself, by reason"`
	Failed    int            `json:"failed" doc:"requests without success: 500 and above, refused, or no answer"`
	Success   float64        `json:"success"`
	Low       float64        `json:"low" doc:"95% interval of success"`
	High      float64        `json:"high"`
	P50MS     float64        `json:"p50MS"`
	P95MS     float64        `json:"p95MS"`
	P99MS     float64        `json:"p99MS"`
	Seconds   float64        `json:"seconds"`
	Revisions map[string]int `json:"revisions" doc:"answers by the revision that the proxy followed"`
	Sample    *Sample        `json:"sample,omitempty" doc:"one answer; the first without success, if there is one"`
	Explained *Explained     `json:"explained,omitempty" doc:"in the first and the last line"`
	Error     string         `json:"error,omitempty" doc:"why no request could be sent"`
}

// VersionTally is the answers of one version.
type VersionTally struct {
	Service  string  `json:"service"`
	Version  string  `json:"version"`
	Count    int     `json:"count"`
	Share    float64 `json:"share" doc:"of all outcomes, 0 to 1"`
	Low      float64 `json:"low" doc:"95% interval of the share (Wilson)"`
	High     float64 `json:"high"`
	Expected float64 `json:"expected" doc:"share that the rules intend"`
	Verdict  Verdict `json:"verdict" doc:"as expected, off (the interval does not hold the expected share), or too few requests"`
}

// Verdict compares a share with what was expected.
type Verdict string

// The verdicts.
const (
	AsExpected Verdict = "as expected"
	Off        Verdict = "off"
	TooFew     Verdict = "too few requests" // under 30, nothing is said
)

func verdict(v VersionTally, n int) Verdict {
	const hair = 1e-9 // the bounds are computed in floating point
	switch {
	case n < 30:
		return TooFew
	case v.Expected >= v.Low-hair && v.Expected <= v.High+hair:
		return AsExpected
	}
	return Off
}

// Sample is one answer.
type Sample struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body" doc:"the first 16 KiB"`
}

// Call sends requests through the mesh and reports the tally a few times a
// second, and once more when all are done.
func (c *Control) Call(ctx context.Context, q Call, report func(Tally)) error {
	q.Count = max(q.Count, 1)
	if q.Concurrency == 0 {
		q.Concurrency = 8
	}
	if q.Count > MaxCalls || q.Concurrency < 1 || q.Concurrency > MaxConcurrency || q.Rate < 0 || q.Rate > maxRate {
		return Unusable{fmt.Sprintf("at most %d requests, %d at once and %d a second can be sent in one go", MaxCalls, MaxConcurrency, maxRate)}
	}
	a, err := c.understand(q.Ask)
	if err != nil {
		return err
	}
	door, err := c.door(q.Ask, a)
	if err != nil {
		return err
	}
	run := &run{q: q, a: a, door: reachable(door), key: c.ledger.key, explained: c.explain(q.Ask, a), counts: map[[2]string]int{}, began: time.Now(),
		tally: Tally{Asked: q.Count, Instances: map[string]int{}, Routes: map[string]int{}, Status: map[string]int{}, Reasons: map[string]int{}, Revisions: map[string]int{}},
		client: &http.Client{Timeout: time.Minute, Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: q.Concurrency, DisableCompression: true},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	defer run.client.CloseIdleConnections()
	first := run.state()
	first.Explained = &run.explained
	report(first)
	run.all(ctx, report)
	last := run.state()
	last.Final, last.Explained = true, &run.explained
	report(last)
	return ctx.Err()
}

type run struct {
	q         Call
	a         *asked
	door      string
	key       string // that the mesh's own calls show
	client    *http.Client
	explained Explained
	began     time.Time

	mu      sync.Mutex
	tally   Tally
	counts  map[[2]string]int
	latency stats.Histogram
}

// all sends every request, with a bounded number at once, and reports while
// they are on their way.
func (r *run) all(ctx context.Context, report func(Tally)) {
	places := make(chan int)
	var workers sync.WaitGroup
	for range min(r.q.Concurrency, r.q.Count) {
		workers.Go(func() {
			for range places {
				r.one(ctx)
			}
		})
	}
	progress := time.NewTicker(200 * time.Millisecond)
	defer progress.Stop()
	for i := range r.q.Count {
		var due <-chan time.Time
		var timer *time.Timer
		if r.q.Rate > 0 {
			timer = time.NewTimer(time.Until(r.began.Add(time.Duration(float64(i) / r.q.Rate * float64(time.Second)))))
			due = timer.C
		}
		for sent := false; !sent; {
			to := places
			if due != nil {
				to = nil
			}
			select {
			case <-ctx.Done():
				close(places)
				workers.Wait()
				return
			case <-due:
				due = nil
			case <-progress.C:
				report(r.state())
			case to <- i:
				sent = true
			}
		}
	}
	close(places)
	finished := make(chan struct{})
	go func() { workers.Wait(); close(finished) }()
	for {
		select {
		case <-finished:
			return
		case <-progress.C:
			report(r.state())
		}
	}
}

// one sends the request once and counts what came of it.
func (r *run) one(ctx context.Context) {
	req, err := http.NewRequestWithContext(ctx, r.a.method, "http://"+r.door, strings.NewReader(r.q.Body))
	if err != nil {
		return
	}
	u := *r.a.url
	u.Scheme, u.Host = "http", r.door
	req.URL, req.Host, req.Header = &u, r.a.host, r.a.header.Clone()
	req.Header.Set(wire.HeaderAsk, r.key)
	if req.Header.Get("User-Agent") == "" {
		req.Header.Set("User-Agent", "nightjar")
	}
	began := time.Now()
	resp, err := r.client.Do(req)
	var body []byte
	if err == nil {
		body, err = io.ReadAll(io.LimitReader(resp.Body, 16<<10))
		if err == nil {
			_, err = io.Copy(io.Discard, resp.Body)
		}
		resp.Body.Close()
	}
	took := time.Since(began)
	if ctx.Err() != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tally.Done++
	r.latency.Add(stats.Bucket(took), 1)
	if err != nil {
		r.tally.Failed++
		r.tally.Status["none"]++
		r.tally.Reasons["no answer"]++
		return
	}
	r.tally.Status[fmt.Sprint(resp.StatusCode)]++
	reason := refusal(resp.Header.Get("Proxy-Status"))
	if reason != "" {
		r.tally.Reasons[reason]++
	}
	failed := engine.Classify(engine.Reason(reason), resp.StatusCode) != engine.OK
	if failed {
		r.tally.Failed++
	}
	who := parseAnswered(resp.Header.Get(wire.HeaderAnswered))
	if s, v, _ := strings.Cut(who.target, "/"); s != "" {
		if reason == "" && who.instance != "" { // else a route answered by itself
			r.counts[[2]string{s, v}]++
			r.tally.Instances[who.instance]++
		}
		r.tally.Routes[s+"/"+who.route]++
		r.tally.Revisions[who.revision]++
	}
	if r.tally.Sample == nil || failed && r.tally.Failed == 1 {
		s := &Sample{Status: resp.StatusCode, Headers: map[string]string{}, Body: string(body)}
		for k, v := range resp.Header {
			if k != wire.HeaderAnswered {
				s.Headers[k] = strings.Join(v, ", ")
			}
		}
		r.tally.Sample = s
	}
}

// state is the tally as it is now.
func (r *run) state() Tally {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.tally
	t.Instances, t.Routes, t.Status = maps.Clone(t.Instances), maps.Clone(t.Routes), maps.Clone(t.Status)
	t.Reasons, t.Revisions = maps.Clone(t.Reasons), maps.Clone(t.Revisions)
	t.Seconds = time.Since(r.began).Seconds()
	t.Versions = []VersionTally{}
	all := maps.Clone(r.counts)
	expected := map[[2]string]float64{}
	for _, o := range r.explained.Odds {
		k := [2]string{o.Service, o.Version}
		expected[k] += o.Share // of a version at several sites
		all[k] += 0
	}
	for k, n := range all {
		v := VersionTally{Service: k[0], Version: k[1], Count: n, Expected: expected[k]}
		if t.Done > 0 {
			v.Share = float64(n) / float64(t.Done)
		}
		v.Low, v.High = stats.Wilson(uint64(n), uint64(t.Done))
		v.Verdict = verdict(v, t.Done)
		t.Versions = append(t.Versions, v)
	}
	slices.SortFunc(t.Versions, func(a, b VersionTally) int {
		return cmp.Or(cmp.Compare(a.Service, b.Service), cmp.Compare(a.Version, b.Version))
	})
	good := t.Done - t.Failed
	t.Low, t.High = stats.Wilson(uint64(good), uint64(t.Done))
	if t.Done > 0 {
		t.Success = float64(good) / float64(t.Done)
	}
	ms := func(q float64) float64 { return float64(r.latency.Quantile(q).Microseconds()) / 1000 }
	t.P50MS, t.P95MS, t.P99MS = ms(0.50), ms(0.95), ms(0.99)
	return t
}

// refusal is the reason that a Proxy-Status field of ours names.
func refusal(field string) string {
	_, rest, ok := strings.Cut(field, `details="`)
	if !ok {
		return ""
	}
	reason, _, _ := strings.Cut(rest, ":")
	return reason
}

type answered struct {
	target, instance, revision string
	route                      string // the service's, or else the gateway's
	own, gate                  string // the service's and the gateway's
	tries, first               string // empty: one try, and it went well
}

// parseAnswered reads wire.HeaderAnswered.
func parseAnswered(field string) answered {
	var a answered
	for i, part := range strings.Split(field, ";") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		v = strings.Trim(v, `"`)
		switch {
		case i == 0:
			a.target = k
		case k == "instance":
			a.instance = v
		case k == "route":
			a.route, a.own = v, v
		case k == "gate":
			a.route, a.gate = cmp.Or(a.route, v), v
		case k == "tries":
			a.tries = v
		case k == "first":
			a.first = v
		case k == "revision":
			a.revision = v
		}
	}
	return a
}

// reachable is an address to call, for a listener on every address.
func reachable(address string) string {
	if h, p, err := net.SplitHostPort(address); err == nil {
		if ip := net.ParseIP(h); ip != nil && ip.IsUnspecified() {
			return net.JoinHostPort("127.0.0.1", p)
		}
	}
	return address
}
