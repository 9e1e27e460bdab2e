package calls

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/wire"
)

// Send sends requests through the mesh and reports the results a few times a
// second, and once more when all are done.
func (c *Calls) Send(ctx context.Context, q model.CallRequest, report func(model.CallResult)) error {
	if err := check(&q); err != nil {
		return err
	}
	req, err := c.read(q.RequestSpec)
	if err != nil {
		return err
	}
	door, err := c.Door(q.From, req.gateway)
	if err != nil {
		return err
	}
	explanation := c.explain(q.RequestSpec, req)
	s := &sending{
		q:       q,
		request: req,
		door:    door,
		key:     c.Fleet.Key(),
		client:  newClient(q.Concurrency, req.tls),
		odds:    explanation.Odds,
		began:   time.Now(),
		counts:  map[target]int{},
		result: model.CallResult{
			Planned:   q.Count,
			Instances: map[string]int{},
			Routes:    map[string]int{},
			Status:    map[string]int{},
			Reasons:   map[string]int{},
			Revisions: map[string]int{},
		},
	}
	defer s.client.CloseIdleConnections()
	first := s.state()
	first.Explanation = &explanation
	report(first)
	s.all(ctx, report)
	last := s.state()
	last.IsFinal, last.Explanation = true, &explanation
	report(last)
	return ctx.Err()
}

type target struct{ service, version string }

// sending is requests on their way.
type sending struct {
	q       model.CallRequest
	request *request
	door    string
	key     string // see fleet.Fleet.Key
	client  *http.Client
	odds    []model.Odds
	began   time.Time

	mu      sync.Mutex // guards what follows
	result  model.CallResult
	counts  map[target]int
	latency stats.Histogram
}

// Reasons of a failure besides those of the mesh.
const (
	noResponse     = "no response"
	badCertificate = "certificate not trusted"
	notOfTheMesh   = "not answered by the mesh"
)

// all sends every request, with a bounded number at once, and reports meanwhile.
func (s *sending) all(ctx context.Context, report func(model.CallResult)) {
	turns := make(chan struct{})
	var workers sync.WaitGroup
	for range min(s.q.Concurrency, s.q.Count) {
		workers.Go(func() {
			for range turns {
				s.one(ctx)
			}
		})
	}
	progress := time.NewTicker(reportEvery)
	defer progress.Stop()
	for i := range s.q.Count {
		if !s.turn(ctx, i, turns, progress.C, report) {
			close(turns)
			workers.Wait()
			return
		}
	}
	close(turns)
	finished := make(chan struct{})
	go func() { workers.Wait(); close(finished) }()
	for {
		select {
		case <-finished:
			return
		case <-progress.C:
			report(s.state())
		}
	}
}

// turn lets a worker send request i when it is due. It returns false when the
// caller has left.
func (s *sending) turn(
	ctx context.Context,
	i int,
	turns chan<- struct{},
	progress <-chan time.Time,
	report func(model.CallResult),
) bool {
	var due <-chan time.Time
	if s.q.Rate > 0 {
		at := s.began.Add(time.Duration(float64(i) / s.q.Rate * float64(time.Second)))
		timer := time.NewTimer(time.Until(at))
		defer timer.Stop()
		due = timer.C
	}
	for {
		to := turns
		if due != nil {
			to = nil
		}
		select {
		case <-ctx.Done():
			return false
		case <-due:
			due = nil
		case <-progress:
			report(s.state())
		case to <- struct{}{}:
			return true
		}
	}
}

// one sends the request once and counts the result.
func (s *sending) one(ctx context.Context) {
	r := s.request
	u := *r.url
	u.Host = s.door
	req, err := http.NewRequestWithContext(ctx, r.method, u.String(), strings.NewReader(s.q.Body))
	if err != nil {
		return
	}
	req.URL, req.Host, req.Header = &u, r.host, r.header.Clone()
	req.Header.Set(wire.HeaderAsk, s.key)
	if req.Header.Get("User-Agent") == "" {
		req.Header.Set("User-Agent", "nightjar")
	}
	began := time.Now()
	resp, err := s.client.Do(req)
	var body []byte
	if err == nil {
		body, err = io.ReadAll(io.LimitReader(resp.Body, sampleBytes))
		if err == nil {
			_, err = io.Copy(io.Discard, resp.Body)
		}
		resp.Body.Close()
	}
	took := time.Since(began)
	if ctx.Err() != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.result.Done++
	s.latency.Add(stats.Bucket(took), 1)
	if err != nil {
		s.result.Failed++
		s.result.Status["none"]++
		reason := noResponse
		var untrusted *tls.CertificateVerificationError
		if errors.As(err, &untrusted) {
			reason = badCertificate
			s.result.Sample = &model.Response{
				Headers: map[string]string{},
				Body:    "the certificate of the gateway is not trusted: " + untrusted.Err.Error(),
			}
		}
		s.result.Reasons[reason]++
		return
	}
	s.count(resp, body)
}

// count counts a response. The caller holds mu.
func (s *sending) count(resp *http.Response, body []byte) {
	out := &s.result
	out.Status[strconv.Itoa(resp.StatusCode)]++
	reason := ReasonOf(resp.Header.Get("Proxy-Status"))
	if reason != "" {
		out.Reasons[string(reason)]++
	}
	answered := resp.Header.Get(wire.HeaderAnswered)
	isStranger := reason == "" && answered == ""
	if isStranger {
		out.Reasons[notOfTheMesh]++
	}
	hasFailed := isStranger || engine.Classify(reason, resp.StatusCode) != engine.OK
	if hasFailed {
		out.Failed++
	}
	who := ReadAnswered(answered)
	if who.Service != "" {
		if reason == "" && who.Instance != "" { // else a route answered by itself
			s.counts[target{who.Service, who.Version}]++
			out.Instances[who.Instance]++
		}
		out.Routes[who.routeOf()]++
		out.Revisions[who.Revision]++
	}
	if out.Sample == nil || hasFailed && out.Failed == 1 {
		out.Sample = &model.Response{Status: resp.StatusCode, Headers: headersOf(resp.Header), Body: string(body)}
	}
}

// state is the results so far.
func (s *sending) state() model.CallResult {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.result
	out.Instances, out.Routes, out.Status = maps.Clone(out.Instances), maps.Clone(out.Routes), maps.Clone(out.Status)
	out.Reasons, out.Revisions = maps.Clone(out.Reasons), maps.Clone(out.Revisions)
	out.Seconds = time.Since(s.began).Seconds()
	out.Versions = s.versions()
	good := out.Done - out.Failed
	out.Low, out.High = stats.Wilson(uint64(good), uint64(out.Done))
	if out.Done > 0 {
		out.Success = float64(good) / float64(out.Done)
	}
	ms := func(q float64) float64 { return float64(s.latency.Quantile(q).Microseconds()) / 1000 }
	out.P50MS, out.P95MS, out.P99MS = ms(0.50), ms(0.95), ms(0.99)
	return out
}

// versions is the responses of each version against what the rules intend. The
// caller holds mu.
func (s *sending) versions() []model.VersionCount {
	counts, expected := maps.Clone(s.counts), map[target]float64{}
	for _, o := range s.odds {
		k := target{o.Service, o.Version}
		expected[k] += o.Share // a version can be there once for each site
		counts[k] += 0
	}
	out := []model.VersionCount{}
	for k, n := range counts {
		v := model.VersionCount{Service: k.service, Version: k.version, Count: n, Expected: expected[k]}
		if s.result.Done > 0 {
			v.Share = float64(n) / float64(s.result.Done)
		}
		v.Low, v.High = stats.Wilson(uint64(n), uint64(s.result.Done))
		v.Verdict = verdict(&v, s.result.Done)
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b model.VersionCount) int {
		return cmp.Or(cmp.Compare(a.Service, b.Service), cmp.Compare(a.Version, b.Version))
	})
	return out
}

// verdict compares the share of a version with what the rules intend.
func verdict(v *model.VersionCount, n int) string {
	const rounding = 1e-9 // of the bounds
	switch {
	case n < model.LeastRequests:
		return model.ShareTooFew
	case v.Expected >= v.Low-rounding && v.Expected <= v.High+rounding:
		return model.ShareAsExpected
	}
	return model.ShareDiffers
}
