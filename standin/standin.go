// Package standin simulates workloads: small real HTTP servers with a service time, an
// error rate, a concurrency limit, and calls of their own. The sample mesh, a night
// ferry line, consists of them.
package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
)

// usualConcurrency is how many requests a stand-in works on at once when its profile
// does not say.
const usualConcurrency = 64

// Profile is how a stand-in behaves.
type Profile struct {
	Median time.Duration // of the service time, which is log-normal
	Spread float64       // standard deviation of its logarithm
	Slow   float64       // share of requests that take ten times as long
	Errors float64       // share of requests answered with 500
	AtOnce int           // requests worked on at once; more than that wait
	Calls  []Call        // made one after the other before the answer
	Board  []string      // lines of the answer
}

// Call is a call that a stand-in makes.
type Call struct {
	Service string
	Path    string
	Share   float64 // of requests that make it; 0 means all
	Needed  bool    // without it the stand-in answers 502
	Missing string  // what the board says then
}

// StandIn is one instance.
type StandIn struct {
	Service, Version, Instance, Site string

	sample   Profile    // as it began
	changing sync.Mutex // one change at a time
	now      atomic.Pointer[behaviour]
	outbound string // host:port of the proxy that its calls go through
	client   *http.Client
}

// behaviour is a profile with the places for its requests.
type behaviour struct {
	Profile
	places chan struct{}
}

// Set changes how the stand-in behaves from the next request on.
func (s *StandIn) Set(p Profile) {
	if p.AtOnce == 0 {
		p.AtOnce = usualConcurrency
	}
	places := make(chan struct{}, p.AtOnce)
	if was := s.now.Load(); was != nil && was.AtOnce == p.AtOnce {
		places = was.places
	}
	s.now.Store(&behaviour{p, places})
}

// Profile is how it behaves now.
func (s *StandIn) Profile() Profile { return s.now.Load().Profile }

// passedOn are the headers that a stand-in passes on to the services that it calls:
// the trace context, and what the rules match.
var passedOn = []string{"Traceparent", "Tracestate", "X-Crew", "Cookie"}

// New makes a stand-in whose calls go to the proxy at outbound.
func New(service, version, instance, site, outbound string, p Profile) *StandIn {
	s := &StandIn{
		Service:  service,
		Version:  version,
		Instance: instance,
		Site:     site,
		sample:   p,
		outbound: outbound,
		client: &http.Client{
			Timeout: 10 * time.Second,
			Transport: &http.Transport{
				Proxy:               nil,
				MaxIdleConnsPerHost: max(p.AtOnce, usualConcurrency),
				IdleConnTimeout:     20 * time.Second,
			},
		},
	}
	s.Set(p)
	return s
}

// answer is what a stand-in says.
type answer struct {
	Service  string   `json:"service"`
	Version  string   `json:"version"`
	Instance string   `json:"instance"`
	Site     string   `json:"site"`
	Path     string   `json:"path"`
	Board    []string `json:"board"`
	Calls    []called `json:"calls,omitempty"`
	Error    string   `json:"error,omitempty"`
}

// called is how a call went.
type called struct {
	Service string `json:"service"`
	Version string `json:"version,omitempty"`
	Status  int    `json:"status"` // 0: no answer
}

func (s *StandIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a := answer{
		Service:  s.Service,
		Version:  s.Version,
		Instance: s.Instance,
		Site:     s.Site,
		Path:     r.URL.Path,
	}
	status := s.now.Load().work(s, r, &a)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(a)
}

// work waits for a place, takes its time and makes its calls.
func (b *behaviour) work(s *StandIn, r *http.Request, a *answer) int {
	a.Board = b.Board
	ctx := r.Context()
	select {
	case b.places <- struct{}{}:
		defer func() { <-b.places }()
	case <-ctx.Done():
		return http.StatusServiceUnavailable
	}
	took := time.Duration(float64(b.Median) * math.Exp(b.Spread*rand.NormFloat64()))
	if rand.Float64() < b.Slow {
		took *= 10
	}
	select {
	case <-time.After(took):
	case <-ctx.Done():
		return http.StatusServiceUnavailable
	}
	if rand.Float64() < b.Errors {
		a.Error = "the ink ran out"
		return http.StatusInternalServerError
	}
	for _, c := range b.Calls {
		if c.Share > 0 && rand.Float64() >= c.Share {
			continue
		}
		got := s.call(ctx, r.Header, c)
		a.Calls = append(a.Calls, got)
		if c.Needed && (got.Status == 0 || got.Status >= 500) {
			a.Error = fmt.Sprintf("%s answered %d", c.Service, got.Status)
			if c.Missing != "" {
				a.Board = []string{b.Board[0], c.Missing}
			}
			return http.StatusBadGateway
		}
	}
	return http.StatusOK
}

func (s *StandIn) call(ctx context.Context, header http.Header, c Call) called {
	out := called{Service: c.Service}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.outbound+c.Path, nil)
	if err != nil {
		return out
	}
	req.Host = c.Service
	for _, k := range passedOn {
		if v := header[k]; v != nil {
			req.Header[k] = v
		}
	}
	resp, err := s.client.Do(req)
	if err != nil {
		return out
	}
	defer resp.Body.Close()
	out.Status = resp.StatusCode
	var a answer
	if json.NewDecoder(io.LimitReader(resp.Body, 64<<10)).Decode(&a) == nil {
		out.Version = a.Version
	}
	io.Copy(io.Discard, resp.Body)
	return out
}
