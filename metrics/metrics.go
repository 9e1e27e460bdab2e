// Package metrics shows counts in the OpenMetrics format, for the service and for a
// proxy.
package metrics

import (
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/wire"
)

const (
	// maxSeries bounds the sets of labels; beyond it, requests count as wire.Other.
	maxSeries = 5000
	// idleTime is after how long without a request a set of labels makes room for others.
	idleTime = time.Hour
	// forgetEvery is how often room is looked for.
	forgetEvery = time.Minute
)

// bounds of the latency histograms, in seconds. A request counts by the middle
// of its bucket in core/stats, which is within 0.8% of its latency.
var bounds = [...]float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}

// labels of one series.
type labels struct {
	app                                   bool
	caller, service, version, gate, route string
}

// total is the counts of one series since the program started.
type total struct {
	stats.Counts // without its latencies
	under        [len(bounds) + 1]uint64
	seconds      float64
	last         time.Time // when something was added
}

// Totals adds up series as long as the program runs. The zero value is ready; a nil
// Totals counts nothing.
type Totals struct {
	mu        sync.Mutex // guards what follows
	series    map[labels]*total
	forgotten time.Time        // when room was looked for last
	now       func() time.Time // nil: time.Now
}

// Add adds counts of a proxy for a caller. Copies by a mirror do not count.
func (t *Totals) Add(caller string, list []wire.Series) {
	if t == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.series == nil {
		t.series = map[labels]*total{}
	}
	now := time.Now()
	if t.now != nil {
		now = t.now()
	}
	caller = wire.ValidName(caller)
	for i := range list {
		s := &list[i]
		if s.Copy {
			continue
		}
		k := labels{
			s.App, caller, wire.ValidName(s.Service), wire.ValidName(s.Version), wire.ValidName(s.Gate), wire.ValidName(s.Route),
		}
		if s.App {
			k.caller = wire.ValidName(s.Caller)
		}
		one := t.series[k]
		if one == nil {
			if len(t.series) >= maxSeries {
				t.forget(now)
			}
			if len(t.series) >= maxSeries {
				k = labels{app: s.App, caller: wire.Other, service: wire.Other}
				one = t.series[k]
			}
			if one == nil {
				one = &total{}
				for _, name := range []*string{&k.caller, &k.service, &k.version, &k.gate, &k.route} {
					*name = strings.Clone(*name) // they are parts of the received message
				}
				t.series[k] = one
			}
		}
		one.last = now
		one.add(&s.Counts)
	}
}

// forget drops sets of labels that have been idle for long. Whoever reads the counters
// sees them begin anew when they come back. The caller holds mu.
func (t *Totals) forget(now time.Time) {
	if now.Sub(t.forgotten) < forgetEvery {
		return
	}
	t.forgotten = now
	for k, one := range t.series {
		if now.Sub(one.last) >= idleTime {
			delete(t.series, k)
		}
	}
}

func (t *total) add(c *stats.Counts) {
	plain := *c
	plain.Latency = nil
	t.Counts.Add(&plain)
	for _, b := range c.Latency {
		took := stats.BucketMiddle(int(b.Bucket)).Seconds()
		t.seconds += took * float64(b.N)
		i := 0
		for i < len(bounds) && took > bounds[i] {
			i++
		}
		t.under[i] += b.N
	}
}

func (t *total) histogram() (n uint64, buckets map[float64]uint64) {
	buckets = make(map[float64]uint64, len(bounds))
	for i, bound := range bounds {
		n += t.under[i]
		buckets[bound] = n
	}
	return n + t.under[len(bounds)], buckets
}

var (
	linkLabels     = []string{"caller", "service", "version", "gateway_route", "route"}
	workloadLabels = []string{"caller", "service", "version"}

	requests = desc("nightjar_requests_total",
		"Requests by outcome: ok, failed, refused, abandoned or caller-fault.", append(linkLabels, "outcome")...)
	responses = desc("nightjar_responses_total",
		"Responses that callers got, by class of status.", append(linkLabels, "class")...)
	meshResponses = desc("nightjar_mesh_responses_total",
		"Responses of the mesh itself, by reason.", append(linkLabels, "reason")...)
	attempts = desc("nightjar_attempts_total",
		"Times that requests were sent to an instance.", linkLabels...)
	firstOK = desc("nightjar_first_attempt_ok_total",
		"Requests whose first attempt succeeded.", linkLabels...)
	requestBytes = inUnit("bytes", "nightjar_request_body_bytes_total",
		"Bytes of the bodies of requests.", linkLabels...)
	responseBytes = inUnit("bytes", "nightjar_response_body_bytes_total",
		"Bytes of the bodies of responses that reached the caller.", linkLabels...)
	duration = inUnit("seconds", "nightjar_request_duration_seconds",
		"Time until the last byte of the response was sent to the caller.", linkLabels...)
	workloadRequests = desc("nightjar_workload_requests_total",
		"Requests that reached a workload, each attempt by itself, by outcome.", append(workloadLabels, "outcome")...)
	workloadDuration = inUnit("seconds", "nightjar_workload_request_duration_seconds",
		"Time until a workload responded, as the proxy beside it measured it.", workloadLabels...)
)

func desc(name, help string, names ...string) *prometheus.Desc {
	return inUnit("", name, help, names...)
}

func inUnit(unit, name, help string, names ...string) *prometheus.Desc {
	return prometheus.V2.NewDesc(name, help, prometheus.UnconstrainedLabels(names), nil, prometheus.WithUnit(unit))
}

// Describe implements prometheus.Collector.
func (t *Totals) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{requests, responses, meshResponses, attempts, firstOK,
		requestBytes, responseBytes, duration, workloadRequests, workloadDuration} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (t *Totals) Collect(out chan<- prometheus.Metric) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, s := range t.series {
		n, buckets := s.histogram()
		outcomes := [...]uint64{
			engine.OK:          s.OK,
			engine.Failed:      s.Failed,
			engine.Refused:     s.Refused,
			engine.Abandoned:   s.Abandoned,
			engine.CallerFault: s.CallerFault,
		}
		if k.app {
			for class, count := range outcomes {
				out <- counter(workloadRequests, count, k.caller, k.service, k.version, engine.Class(class).String())
			}
			out <- prometheus.MustNewConstHistogram(workloadDuration, n, s.seconds, buckets,
				k.caller, k.service, k.version)
			continue
		}
		names := []string{k.caller, k.service, k.version, k.gate, k.route}
		with := func(last string) []string { return append(names[:5:5], last) }
		for class, count := range outcomes {
			out <- counter(requests, count, with(engine.Class(class).String())...)
		}
		for i, count := range s.Status {
			if count > 0 {
				out <- counter(responses, count, with(string(rune('0'+i))+"xx")...)
			}
		}
		for i, reason := range engine.Reasons {
			if count := s.Reasons[i]; count > 0 {
				out <- counter(meshResponses, count, with(string(reason))...)
			}
		}
		out <- counter(attempts, s.Tries, names...)
		out <- counter(firstOK, s.FirstOK, names...)
		out <- counter(requestBytes, s.Sent, names...)
		out <- counter(responseBytes, s.Received, names...)
		out <- prometheus.MustNewConstHistogram(duration, n, s.seconds, buckets, names...)
	}
}

func counter(d *prometheus.Desc, n uint64, names ...string) prometheus.Metric {
	return prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(n), names...)
}

// Value is a metric that is read by a function.
type Value struct {
	Name, Help string
	Unit       string // empty: a number without unit
	Counter    bool   // false: a gauge
	Labels     map[string]string
	Read       func() float64
}

// Handler serves the totals, the values, and metrics of the process.
func Handler(t *Totals, program string, values ...Value) http.Handler {
	r := prometheus.NewRegistry()
	// One of the memory statistics has a name that OpenMetrics does not allow.
	r.MustRegister(
		t,
		collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled()),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	values = append(
		values,
		Value{
			Name:   "nightjar_build_info",
			Help:   "Version of the program, as a label.",
			Labels: map[string]string{"version": program},
			Read:   func() float64 { return 1 },
		},
	)
	for _, v := range values {
		if v.Counter {
			r.MustRegister(
				prometheus.NewCounterFunc(
					prometheus.CounterOpts{Name: v.Name, Help: v.Help, Unit: v.Unit, ConstLabels: v.Labels},
					v.Read,
				),
			)
		} else {
			opts := prometheus.GaugeOpts{Name: v.Name, Help: v.Help, Unit: v.Unit, ConstLabels: v.Labels}
			r.MustRegister(prometheus.NewGaugeFunc(opts, v.Read))
		}
	}
	open := promhttp.HandlerFor(r, promhttp.HandlerOpts{
		EnableOpenMetrics:   true,
		MaxRequestsInFlight: 4,
		ErrorHandling:       promhttp.ContinueOnError,
	})
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if a := q.Header.Get("Accept"); !strings.Contains(
			a,
			"text/plain",
		) { // OpenMetrics, unless the older format is asked for
			q.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
		}
		open.ServeHTTP(w, q)
	})
}
