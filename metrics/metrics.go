// Package metrics shows what was counted in the OpenMetrics format, for the
// service and for a proxy alike.
package metrics

import (
	"net/http"
	"strings"
	"sync"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/wire"
)

// maxSeries bounds the sets of labels; past it, requests count as wire.Other.
const maxSeries = 5000

// bounds of the latency histograms, in seconds. A request counts by the middle
// of its bucket in core/stats, which is within 0.8% of its latency.
var bounds = [...]float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}

// labels of one series.
type labels struct {
	app                                   bool
	caller, service, version, gate, route string
}

// total is what was counted of one series since the program began.
type total struct {
	stats.Counts // without its latencies
	under        [len(bounds) + 1]uint64
	seconds      float64
}

// Totals adds up series for as long as the program runs. The zero value is
// ready; a nil one adds up nothing.
type Totals struct {
	mu     sync.Mutex
	series map[labels]*total
}

// Add adds what a proxy counted for a caller. Copies of a mirror do not count.
func (t *Totals) Add(caller string, list []wire.Series) {
	if t == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.series == nil {
		t.series = map[labels]*total{}
	}
	for i := range list {
		s := &list[i]
		if s.Copy {
			continue
		}
		k := labels{s.App, caller, s.Service, s.Version, s.Gate, s.Route}
		if s.App {
			k.caller = s.Caller
		}
		one := t.series[k]
		if one == nil {
			if len(t.series) >= maxSeries {
				k = labels{app: s.App, caller: wire.Other, service: wire.Other}
				one = t.series[k]
			}
			if one == nil {
				one = &total{}
				for _, name := range []*string{&k.caller, &k.service, &k.version, &k.gate, &k.route} {
					*name = strings.Clone(*name) // they are parts of what was received
				}
				t.series[k] = one
			}
		}
		one.add(&s.Counts)
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
	link     = []string{"caller", "service", "version", "gateway_route", "route"}
	appNames = []string{"caller", "service", "version"}

	requests  = desc("nightjar_requests_total", "Requests by what they came to: ok, failed, refused, abandoned or caller-fault.", append(link, "outcome")...)
	answers   = desc("nightjar_answers_total", "Answers that callers got, by class of status.", append(link, "class")...)
	refusals  = desc("nightjar_mesh_answers_total", "Answers that the mesh itself gave, by reason.", append(link, "reason")...)
	tries     = desc("nightjar_tries_total", "Times that requests were sent to an instance.", link...)
	firstOK   = desc("nightjar_first_try_ok_total", "Requests whose first try went well.", link...)
	sent      = inUnit("bytes", "nightjar_request_body_bytes_total", "Bytes of the bodies of requests.", link...)
	received  = inUnit("bytes", "nightjar_answer_body_bytes_total", "Bytes of the bodies of answers that reached the caller.", link...)
	took      = inUnit("seconds", "nightjar_request_duration_seconds", "Time until the last byte of the answer had gone to the caller.", link...)
	appAnswer = desc("nightjar_app_requests_total", "Requests that came to a workload, tries of retried ones each by itself, by what it answered.", append(appNames, "outcome")...)
	appTook   = inUnit("seconds", "nightjar_app_request_duration_seconds", "Time that a workload took to answer, as the proxy beside it saw it.", appNames...)
)

func desc(name, help string, names ...string) *prometheus.Desc {
	return inUnit("", name, help, names...)
}

func inUnit(unit, name, help string, names ...string) *prometheus.Desc {
	return prometheus.V2.NewDesc(name, help, prometheus.UnconstrainedLabels(names), nil, prometheus.WithUnit(unit))
}

// Describe is for prometheus.Collector.
func (t *Totals) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{requests, answers, refusals, tries, firstOK, sent, received, took, appAnswer, appTook} {
		out <- d
	}
}

// Collect is for prometheus.Collector.
func (t *Totals) Collect(out chan<- prometheus.Metric) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, s := range t.series {
		n, buckets := s.histogram()
		outcomes := [...]uint64{engine.OK: s.OK, engine.Failed: s.Failed, engine.Refused: s.Refused, engine.Abandoned: s.Abandoned, engine.CallerFault: s.CallerFault}
		if k.app {
			for class, count := range outcomes {
				out <- counter(appAnswer, count, k.caller, k.service, k.version, engine.Class(class).String())
			}
			out <- prometheus.MustNewConstHistogram(appTook, n, s.seconds, buckets, k.caller, k.service, k.version)
			continue
		}
		names := []string{k.caller, k.service, k.version, k.gate, k.route}
		with := func(last string) []string { return append(names[:5:5], last) }
		for class, count := range outcomes {
			out <- counter(requests, count, with(engine.Class(class).String())...)
		}
		for i, count := range s.Status {
			if count > 0 {
				out <- counter(answers, count, with(string(rune('0'+i))+"xx")...)
			}
		}
		for i, reason := range engine.Reasons {
			if count := s.Reasons[i]; count > 0 {
				out <- counter(refusals, count, with(string(reason))...)
			}
		}
		out <- counter(tries, s.Tries, names...)
		out <- counter(firstOK, s.FirstOK, names...)
		out <- counter(sent, s.Sent, names...)
		out <- counter(received, s.Received, names...)
		out <- prometheus.MustNewConstHistogram(took, n, s.seconds, buckets, names...)
	}
}

func counter(d *prometheus.Desc, n uint64, names ...string) prometheus.Metric {
	return prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(n), names...)
}

// Value is one number that is asked for whenever the metrics are read.
type Value struct {
	Name, Help string
	Unit       string // empty: it is a number of things
	Counter    bool   // it only rises; else it is a gauge
	Labels     map[string]string
	Read       func() float64
}

// Handler serves the totals and the values, with those of the process.
func Handler(t *Totals, program string, values ...Value) http.Handler {
	r := prometheus.NewRegistry()
	// One of the memory statistics has a name that OpenMetrics does not allow.
	r.MustRegister(t, collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled()), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	values = append(values, Value{Name: "nightjar_build_info", Help: "The version of the program, as a label.", Labels: map[string]string{"version": program}, Read: func() float64 { return 1 }})
	for _, v := range values {
		if v.Counter {
			r.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: v.Name, Help: v.Help, Unit: v.Unit, ConstLabels: v.Labels}, v.Read))
		} else {
			r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: v.Name, Help: v.Help, Unit: v.Unit, ConstLabels: v.Labels}, v.Read))
		}
	}
	open := promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true, MaxRequestsInFlight: 4})
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if a := q.Header.Get("Accept"); !strings.Contains(a, "text/plain") { // who does not ask for the older format gets OpenMetrics
			q.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
		}
		open.ServeHTTP(w, q)
	})
}
