package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/prometheus/common/expfmt"
	metric "github.com/prometheus/common/model"

	"nightjar/api/model"
)

const seenRules = `
services:
  lamp:
    versions: [v1]
    routes:
      - {name: slow, when: {path: /slow}, timeout: 2s, send: v1}
      - {name: flaky, when: {path: /flaky/**}, retry: {times: 1, budget: 100%%}, send: v1}
      - {name: all, send: v1, timeout: 20s}
gateways:
  pier: {listen: %q, hosts: ["*"], routes: [{name: lights, send: lamp}]}
`

// sent is what somebody sent who counts on his own.
type sent struct {
	ok, failed, abandoned, tries, firstOK uint64
	up, down                              uint64 // bytes of bodies
	appOK, appFailed, appGone             uint64 // as the workload sees it
}

func (s sent) plus(o sent) sent {
	return sent{s.ok + o.ok, s.failed + o.failed, s.abandoned + o.abandoned, s.tries + o.tries, s.firstOK + o.firstOK, s.up + o.up, s.down + o.down,
		s.appOK + o.appOK, s.appFailed + o.appFailed, s.appGone + o.appGone}
}

// lamp is the workload: it does what the path says. here is told of every
// request that is to be left.
func lamp(here chan<- struct{}) http.Handler {
	var mu sync.Mutex
	seen := map[string]bool{}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		n, _ := strconv.Atoi(rest)
		io.Copy(io.Discard, r.Body)
		switch kind {
		case "ok", "late":
			if kind == "late" {
				time.Sleep(time.Duration(n) * time.Millisecond)
				n = 5
			}
			w.Header().Set("Content-Length", strconv.Itoa(n))
			io.WriteString(w, strings.Repeat("x", n))
		case "chunks":
			for range n {
				io.WriteString(w, "0123456789")
				w.(http.Flusher).Flush()
			}
		case "fail":
			w.WriteHeader(http.StatusInternalServerError)
			io.WriteString(w, "dark!")
		case "slow", "leave":
			if kind == "leave" {
				here <- struct{}{}
			}
			<-r.Context().Done()
		case "flaky":
			mu.Lock()
			first := !seen[rest]
			seen[rest] = true
			mu.Unlock()
			if first {
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
			io.WriteString(w, "at last")
		}
	})
}

// send sends a known mix through the gateway and returns what it was. round
// makes the paths of flaky requests new.
func send(t *testing.T, gateway string, here <-chan struct{}, round int) (s sent) {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 4}, Timeout: patience}
	defer client.CloseIdleConnections()
	do := func(ctx context.Context, method, path, body string) (status, n int) {
		req, _ := http.NewRequestWithContext(ctx, method, "http://"+gateway+path, strings.NewReader(body))
		resp, err := client.Do(req)
		if err != nil {
			return 0, 0
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, len(b)
	}
	take := func(method, path, body string, want int) {
		t.Helper()
		status, n := do(t.Context(), method, path, body)
		if status != want {
			t.Fatalf("%s %s: %d, want %d", method, path, status, want)
		}
		s.up += uint64(len(body))
		s.down += uint64(n)
	}
	for i := range 40 {
		take("GET", fmt.Sprintf("/ok/%d", 10+i*37), "", 200)
		take("POST", "/ok/1", strings.Repeat("y", i*11), 200)
	}
	take("POST", "/ok/20", strings.Repeat("z", 100_000), 200) // streamed
	take("GET", "/ok/300000", "", 200)
	take("GET", "/chunks/100", "", 200)
	take("HEAD", "/ok/4000", "", 200)
	s.ok, s.tries, s.firstOK, s.appOK = 84, 84, 84, 84
	for range 7 {
		take("GET", "/fail", "", 500)
	}
	s.failed, s.tries, s.appFailed = 7, 91, 7
	for i := range 6 {
		take("GET", fmt.Sprintf("/flaky/%d.%d", round, i), "", 200)
	}
	s.ok, s.tries, s.appFailed, s.appOK = 90, 103, 13, 90
	take("GET", "/slow", "", 504)
	s.failed, s.tries, s.appFailed = 8, 104, 14
	for range 2 {
		ctx, leave := context.WithCancel(t.Context())
		go func() { <-here; leave() }()
		do(ctx, "GET", "/leave", "")
	}
	s.abandoned, s.tries, s.appGone = 2, 104, 2
	return s
}

// TestWhatIsShownIsWhatWasSent: every figure in the API, the command line, the
// console and the metrics is what was sent, to the unit and the byte; also when
// the service is killed in the middle, and what was counted without it arrives once.
func TestWhatIsShownIsWhatWasSent(t *testing.T) {
	t.Parallel()
	addr, data := freeBase(t), t.TempDir()
	service := start(t, "Console and API", "serve", "--listen", addr, "--data", data, "--trace-share", "100%")
	m := newMesh(t, service, addr)
	here := make(chan struct{})
	app := httptest.NewServer(lamp(here))
	t.Cleanup(app.Close)
	gateway, metrics := freeBase(t), freeBase(t)
	start(t, "proxy ready", "proxy", "--server", addr, "--service", "lamp", "--version", "v1", "--name", "lamp-a", "--app", strings.TrimPrefix(app.URL, "http://"))
	if _, err := m.api.Publish(t.Context(), model.PublishRequest{Files: []model.File{{Name: "lamp.yaml", Text: fmt.Sprintf(seenRules, gateway)}}}, nil); err != nil {
		t.Fatal(err)
	}
	start(t, "proxy ready", "proxy", "--server", addr, "--gateway", "pier", "--metrics", metrics)

	b := openTab(t, m)
	want := send(t, gateway, here, 1)
	m.shows(t, want)
	m.pageSays(t, b, want)
	m.metricsSay(t, "http://"+metrics+"/metrics", want, false)
	m.metricsSay(t, "http://"+addr+"/metrics", want, true)

	// Killed before anything of it is on disk, and away while more is counted.
	service.cmd.Process.Signal(syscall.SIGKILL)
	<-service.done
	want = want.plus(send(t, gateway, here, 2))
	service = start(t, "Console and API", "serve", "--listen", addr, "--data", data)
	m.shows(t, want)
	want = want.plus(send(t, gateway, here, 3))
	m.shows(t, want)
	m.metricsSay(t, "http://"+metrics+"/metrics", want, false)

	// Killed right after it was written: nothing comes twice.
	interruptAndWait(t, service)
	start(t, "Console and API", "serve", "--listen", addr, "--data", data)
	m.shows(t, want)
}

func interruptAndWait(t *testing.T, p *process) {
	t.Helper()
	p.cmd.Process.Signal(interrupt)
	select {
	case <-p.done:
	case <-time.After(patience):
		t.Fatal("the service did not end")
	}
}

// shows compares what the API and the commands say.
func (m *mesh) shows(t *testing.T, want sent) {
	t.Helper()
	var got model.Mesh
	counted := func(f model.Figures) sent {
		s := sent{ok: f.OK, failed: f.Failed, abandoned: f.Abandoned, tries: f.Attempts, up: f.RequestBytes, down: f.ResponseBytes}
		if f.FirstAttempt != nil {
			s.firstOK = uint64(math.Round(*f.FirstAttempt * float64(f.Requests)))
		}
		if f.Workload != nil {
			s.appOK = uint64(math.Round(*f.Workload.Success * float64(f.Workload.Requests)))
			s.appFailed = f.Workload.Requests - s.appOK
		}
		return s
	}
	expected := want
	expected.appGone = 0
	var last sent
	eventually(t, fmt.Sprintf("%+v", expected), func() bool {
		var err error
		if got, err = m.api.MeshAt(t.Context(), 600, 0, ""); err != nil || len(got.Links) != 1 || len(got.Services[0].Versions[0].Instances) != 1 {
			return false
		}
		if now := counted(got.Links[0].Figures); now != last {
			last = now
			t.Logf("so far %+v", now)
		}
		return last == expected
	})
	lamp := got.Services[0]
	for name, f := range map[string]model.Figures{"service": lamp.Figures, "version": lamp.Versions[0].Figures, "instance": lamp.Versions[0].Instances[0].Figures} {
		if counted(f) != expected {
			t.Errorf("%s: %+v, want %+v", name, counted(f), expected)
		}
	}
	if f := got.Gateways[0].Figures; f.OK != want.ok || f.ResponseBytes != want.down || f.Status["5xx"] != want.failed || f.Reasons["timeout"]*8 != want.failed {
		t.Errorf("gateway: %+v", f)
	}
	var routes uint64
	for _, r := range lamp.Routes {
		routes += r.Figures.Requests
	}
	if routes != want.ok+want.failed {
		t.Errorf("%d requests on the routes, want %d", routes, want.ok+want.failed)
	}
	var links struct{ Links []model.Link }
	if err := json.Unmarshal([]byte(m.must(0, "links", "--window", "600", "-o", "json")), &links); err != nil || len(links.Links) != 1 || counted(links.Links[0].Figures) != expected {
		t.Errorf("links: %+v, %v", links, err)
	}
	if out := m.must(0, "routes", "lamp", "--window", "600", "-o", "csv"); !strings.Contains(out, "lamp,flaky,path /flaky/**,") || !strings.Contains(out, ",2.00,0\n") {
		t.Errorf("routes:\n%s", out)
	}
}

// metricsSay compares what a page of metrics says, read by the public parser.
func (m *mesh) metricsSay(t *testing.T, url string, want sent, both bool) {
	t.Helper()
	var text []byte
	read := func() map[string]float64 {
		req, _ := http.NewRequest("GET", url, nil)
		req.Header.Set("Accept", "text/plain")
		req.Header.Set("Authorization", "Bearer "+m.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ = io.ReadAll(resp.Body)
		parser := expfmt.NewTextParser(metric.UTF8Validation)
		families, err := parser.TextToMetricFamilies(bytes.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		sums := map[string]float64{}
		for name, f := range families {
			for _, one := range f.Metric {
				key := name
				for _, l := range one.Label {
					if l.GetName() == "outcome" || l.GetName() == "class" || l.GetName() == "reason" {
						key += " " + l.GetValue()
					}
				}
				sums[key] += one.GetCounter().GetValue() + float64(one.GetHistogram().GetSampleCount())
			}
		}
		return sums
	}
	expected := map[string]uint64{"nightjar_requests_total ok": want.ok, "nightjar_requests_total failed": want.failed, "nightjar_requests_total abandoned": want.abandoned,
		"nightjar_requests_total refused": 0, "nightjar_attempts_total": want.tries, "nightjar_first_attempt_ok_total": want.firstOK, "nightjar_request_body_bytes_total": want.up,
		"nightjar_response_body_bytes_total": want.down, "nightjar_responses_total 5xx": want.failed, "nightjar_request_duration_seconds": want.ok + want.failed,
		"nightjar_mesh_responses_total timeout": want.failed / 8}
	if both {
		maps.Copy(expected, map[string]uint64{"nightjar_workload_requests_total ok": want.appOK, "nightjar_workload_requests_total failed": want.appFailed, "nightjar_workload_requests_total abandoned": want.appGone})
	}
	eventually(t, "the metrics of "+url, func() bool { return read()["nightjar_attempts_total"] >= float64(want.tries) })
	got := read()
	for name, n := range expected {
		if got[name] != float64(n) {
			t.Errorf("%s of %s: %v, want %d\n%s", name, url, got[name], n, text)
		}
	}
}

// pageSays compares what the bars of the console's timeline add up to.
func (m *mesh) pageSays(t *testing.T, b tab, want sent) {
	t.Helper()
	b.visit("/services/lamp?range=15m") // whose figures stay, however slow the machine is
	b.says("[data-test='table-links of lamp']", "pier")
	b.click("tab-instances")
	b.says("[data-test='table-instances of lamp']", "lamp-a")
	b.visit("/?range=15m")
	b.until(fmt.Sprintf(`[...document.querySelectorAll("[data-test=timebar] title")].map((t) => Number(/(\d+) requests? in/.exec(t.textContent)?.[1] ?? 0)).reduce((a, b) => a + b, 0) === %d`, want.ok+want.failed))
	b.do(chromedp.Focus(chromedp.CSS("[data-test='ribbon-pier~lamp']")), chromedp.KeyEvent("\r"))
	b.says("[data-test=failures]", "504 timeout GET /slow")
}

// TestTheFeed: a filter takes what it says and nothing else; each request has
// all its tries; and the percentiles are those of the single requests.
func TestTheFeed(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	type watched struct {
		mu      sync.Mutex
		list    []model.RequestRecord
		ready   bool
		dropped uint64
	}
	watch := func(f model.RequestFilter) *watched {
		w := &watched{}
		go m.api.Requests(ctx, f, func(l model.FeedLine) bool {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.ready = true
			w.dropped += l.Dropped
			if l.Request != nil {
				w.list = append(w.list, *l.Request)
			}
			return true
		})
		eventually(t, "a stream of requests", func() bool { w.mu.Lock(); defer w.mu.Unlock(); return w.ready })
		return w
	}
	have := func(w *watched, n int) []model.RequestRecord {
		t.Helper()
		var list []model.RequestRecord
		eventually(t, fmt.Sprintf("%d requests", n), func() bool { w.mu.Lock(); defer w.mu.Unlock(); list = slices.Clone(w.list); return len(list) >= n })
		return list
	}
	all := watch(model.RequestFilter{From: "nightjar", To: "berths"})
	crew := watch(model.RequestFilter{To: "berths", Header: "x-crew=yes", Path: "/berths"})
	refused := watch(model.RequestFilter{Outcome: model.OutcomeNotOK, Status: "5xx", Reason: "fault"})
	elsewhere := watch(model.RequestFilter{From: "kiosk", To: "berths"})
	drill := m.drill("--service", "berths", "--instance", "berths-v1-a", "--fail", "100%", "--for", "5m")
	m.call(200, "http://berths/berths/free")
	m.call(7, "http://berths/berths/free", "-H", "X-Crew: yes")
	list := have(all, 207)
	if got := have(crew, 7); len(got) != 7 {
		t.Errorf("%d requests of the crew", len(got))
	}
	bad := 0
	for _, r := range list {
		if r.Outcome != "ok" {
			bad++
		}
		if n := len(r.Segments); n != 1 || r.Segments[0].Instance != r.Instance || r.Service != "berths" || r.Caller != "nightjar" || r.Route != "all" || r.Method != "GET" || r.Path != "/berths/free" || r.DurationMS <= 0 || r.Trace == "" {
			t.Fatalf("%+v", r)
		}
		if (r.Instance == "berths-v1-a") != (r.Outcome == "refused" && r.Status == 503 && r.Reason == "fault" && strings.Contains(r.Detail, "drill")) {
			t.Fatalf("%+v", r)
		}
	}
	if got := have(refused, bad); len(got) != bad || bad < 40 || len(elsewhere.list) != 0 {
		t.Errorf("%d harmed requests by their reason, %d among all; %d of a caller that sent none", len(got), bad, len(elsewhere.list))
	}
	if past, err := m.api.Failures(t.Context(), model.RequestFilter{To: "berths"}, 5); err != nil || len(past.Requests) == 0 || past.Requests[0].Reason != "fault" {
		t.Errorf("remembered: %+v, %v", past, err)
	}

	// The percentiles of the figures are those of the single requests.
	var took []float64
	for _, r := range list {
		took = append(took, r.DurationMS)
	}
	slices.Sort(took)
	exact := func(q float64) float64 { return took[int(math.Ceil(q*float64(len(took))))-1] }
	mesh, err := m.api.MeshAt(t.Context(), 600, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(mesh.Links, func(l model.Link) bool { return l.From == "nightjar" && l.To == "berths" })
	eventually(t, "all in the figures", func() bool {
		mesh, err = m.api.MeshAt(t.Context(), 600, 0, "")
		i = slices.IndexFunc(mesh.Links, func(l model.Link) bool { return l.From == "nightjar" && l.To == "berths" })
		return err == nil && i >= 0 && mesh.Links[i].Figures.Requests == 207
	})
	f := mesh.Links[i].Figures
	for q, got := range map[float64]float64{0.5: f.P50MS, 0.95: f.P95MS, 0.99: f.P99MS} {
		if want := exact(q); math.Abs(got-want) > 0.01*want+0.001 { // a record has microseconds
			t.Errorf("p%v is %v ms, the requests say %v", 100*q, got, want)
		}
	}
	m.must(0, "drill", "stop", drill)
	if out := m.must(0, "requests", "--past", "--to", "berths", "-n", "2", "-o", "json"); strings.Count(out, "\n") != 2 || !strings.Contains(out, `"reason":"fault"`) {
		t.Errorf("one object a line:\n%s", out)
	}
	if out := m.must(0, "requests", "--past", "--to", "berths", "--status", "504"); out != "" {
		t.Errorf("none was a timeout:\n%s", out)
	}
	for args, words := range map[string]string{"--status 6xx": "expected a status such as 503", "--reason ghost": "expected one of unreachable", "--outcome bad": "expected one of ok",
		"--slower-than -1s": "expected 1ms or more", "--path x": "begins with /", "--header :": "expected NAME", "--past --header x": "not remembered"} {
		if _, errs, code := m.run(append([]string{"requests"}, strings.Fields(args)...)...); code != 2 || !strings.Contains(errs, words) {
			t.Errorf("requests %s: exit %d, %s", args, code, errs)
		}
	}
}
