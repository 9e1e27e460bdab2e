// Command bench measures a proxy's hop against baselines, all in one go and in
// turn: requests a second, processor time, memory and added latency. It needs wrk
// and bin/nightjar. The figures hold for the machine and the moment; the ratios
// are what to quote. The part grpc needs h2load too.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/test/lean"
)

var (
	rounds  = flag.Int("rounds", 5, "rounds; each measures every target once")
	seconds = flag.Int("seconds", 3, "length of one measurement")
	conns   = flag.Int("connections", 64, "connections of the load")
	only    = flag.String("only", "", "measure these targets beside standard alone, such as nightjar")
	parts   = flag.String("parts", "hop grpc tls guards feed trial releases idle publishes upgrades fleet rotation ingest rollups records console", "what to measure")
)

func main() {
	flag.Parse()
	var err error
	if flag.NArg() == 3 {
		err = role(flag.Arg(0), flag.Arg(1), flag.Arg(2))
	} else {
		err = measure()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// role plays one of the parts until it is killed.
func role(name, listen, backend string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	transport := &http.Transport{MaxIdleConnsPerHost: 512, DisableCompression: true, IdleConnTimeout: time.Minute}
	var h http.Handler
	switch name {
	case "backend":
		body := []byte(strings.Repeat("night ferry. ", 79))[:1024]
		h = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(body) })
	case "standard": // what is to be beaten
		h = &httputil.ReverseProxy{Transport: transport, ErrorLog: log.New(io.Discard, "", 0), Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(&url.URL{Scheme: "http", Host: backend}) }}
	case "pooled": // the same, with a pool for its copy buffers
		h = &httputil.ReverseProxy{Transport: transport, BufferPool: &bufferPool{}, ErrorLog: log.New(io.Discard, "", 0), Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(&url.URL{Scheme: "http", Host: backend}) }}
	case "delayed":
		h = http.HandlerFunc(delayed)
	case "bare":
		h = bare(transport, backend)
	case "relay":
		return relay(l, backend)
	case "lean":
		return lean.Serve(l)
	case "grpc-backend":
		return grpcBackend(l)
	case "standard-h2", "standard-h2s":
		return standardHTTP2(l, backend, name == "standard-h2s")
	default:
		return fmt.Errorf("no part %q", name)
	}
	return (&http.Server{Handler: h, ErrorLog: log.New(io.Discard, "", 0)}).Serve(l)
}

type bufferPool struct{ sync.Pool }

func (p *bufferPool) Get() []byte {
	if b, ok := p.Pool.Get().(*[]byte); ok {
		return *b
	}
	return make([]byte, 32<<10)
}

func (p *bufferPool) Put(b []byte) { p.Pool.Put(&b) }

// bare is the least that a handler over http.Transport can do.
func bare(t http.RoundTripper, backend string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		out := r.Clone(r.Context())
		out.URL.Scheme, out.URL.Host, out.RequestURI = "http", backend, ""
		resp, err := t.RoundTrip(out)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer resp.Body.Close()
		for k, v := range resp.Header {
			w.Header()[k] = v
		}
		w.WriteHeader(resp.StatusCode)
		io.Copy(w, resp.Body)
	}
}

// relay copies bytes and knows nothing of HTTP.
func relay(l net.Listener, backend string) error {
	for {
		in, err := l.Accept()
		if err != nil {
			return err
		}
		go func() {
			defer in.Close()
			out, err := net.Dial("tcp", backend)
			if err != nil {
				return
			}
			defer out.Close()
			go func() { io.Copy(out, in); out.(*net.TCPConn).CloseWrite() }()
			io.Copy(in, out)
		}()
	}
}

// target is one way to the backend.
type target struct {
	name, addr string
	pid        int // of the proxy; 0: there is none
	client     *client.Client
	settings   string // of the service in its rules
	route      string // more of its second route
	rps        []float64
	cpu        []float64 // µs of the proxy per request
	p50        []float64 // µs at one connection
	open       []float64 // µs, the median at 1,000 requests/s
}

const host = "bench"

// bench is one run: the processes that it started end with it.
type bench struct {
	ctx      context.Context
	children []*exec.Cmd
	backend  string // its address
}

func (b *bench) spawn(path string, args ...string) (int, error) {
	c := exec.CommandContext(b.ctx, path, args...)
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		return 0, err
	}
	b.children = append(b.children, c)
	return c.Process.Pid, nil
}

func (b *bench) end() {
	for _, c := range b.children {
		c.Process.Kill()
		c.Wait()
	}
	b.children = nil
}

func measure() error {
	ctx, stop := context.WithTimeout(context.Background(), 40*time.Minute)
	defer stop()
	fmt.Printf("%s, %d processors\n", runtime.Version(), runtime.NumCPU())
	for _, part := range []struct {
		name string
		run  func(*bench) error
	}{{"hop", hop}, {"grpc", grpc}, {"tls", secure}, {"guards", guards}, {"feed", feed}, {"trial", trialPart}, {"releases", releasesPart}, {"idle", idle}, {"publishes", publishes}, {"upgrades", upgrades}, {"fleet", fleet}, {"rotation", rotation}, {"ingest", ingest}, {"rollups", rollups}, {"records", records}, {"console", consolePart}} {
		if !strings.Contains(*parts, part.name) {
			continue
		}
		b := &bench{ctx: ctx, backend: freeAddr()}
		self, err := os.Executable()
		if err == nil {
			_, err = b.spawn(self, "backend", b.backend, "-")
		}
		if err == nil {
			err = part.run(b)
		}
		b.end()
		if err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

// hop compares the proxy with the baselines.
func hop(b *bench) error {
	ctx, spawn, backend := b.ctx, b.spawn, b.backend
	self, err := os.Executable()
	if err != nil {
		return err
	}
	targets := []*target{{name: "no proxy", addr: backend}}
	for _, name := range []string{"relay", "standard", "pooled", "bare"} {
		t := &target{name: name, addr: freeAddr()}
		if t.pid, err = spawn(self, name, t.addr, backend); err != nil {
			return err
		}
		targets = append(targets, t)
	}
	n := &target{name: "nightjar", addr: freeAddr()}
	if err := startNightjar(ctx, spawn, n, backend, nil); err != nil {
		return err
	}
	targets = append(targets, n)
	direct, std := targets[0], targets[2]
	if *only != "" {
		targets = slices.DeleteFunc(targets, func(t *target) bool { return t != direct && t != std && !strings.Contains(*only, t.name) })
	}
	for _, t := range targets {
		if err := ready(t.addr); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
	}

	fmt.Printf("\na hop: %d rounds of %d s for each, in turn; %d connections, answers of 1 KiB\n", *rounds, *seconds, *conns)
	for round := range *rounds + 1 { // the first is not counted
		slices.Reverse(targets) // so that none is always the last
		for _, t := range targets {
			before := processorTime(t.pid)
			rps, total, _, err := wrk(ctx, t.addr, *conns)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			used := processorTime(t.pid) - before
			_, _, p50, err := wrk(ctx, t.addr, 1)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			open, err := openLoop(t.addr, 1000, time.Duration(*seconds)*time.Second)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if round > 0 {
				t.rps, t.cpu, t.p50, t.open = append(t.rps, rps), append(t.cpu, used.Seconds()*1e6/total), append(t.p50, p50), append(t.open, open)
			}
		}
	}
	fmt.Println("target     requests/s   × standard (min–max)   CPU µs/request   × standard   RSS MiB   added p50 µs: 1 connection   1,000/s")
	for _, t := range targets {
		r, c := ratios(t.rps, std.rps), ratios(t.cpu, std.cpu)
		added, open := make([]float64, len(t.p50)), make([]float64, len(t.p50))
		for i := range t.p50 {
			added[i], open[i] = t.p50[i]-direct.p50[i], t.open[i]-direct.open[i]
		}
		fmt.Printf("%-10s %10.0f   %9.2f (%.2f–%.2f)   %14.0f   %10.2f   %7.0f   %26.0f   %7.0f\n", t.name, median(t.rps), median(r), slices.Min(r), slices.Max(r), median(t.cpu), median(c), memory(t.pid), median(added), median(open))
	}
	return nil
}

// startNightjar runs a service and one proxy, which calls the backend as an
// instance outside the mesh: one hop, with everything switched on.
func startNightjar(ctx context.Context, spawn func(string, ...string) (int, error), t *target, backend string, more func() string) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	server := freeAddr()
	if _, err := spawn("bin/nightjar", "serve", "--listen", server, "--data", dir); err != nil {
		return err
	}
	if t.pid, err = spawn("bin/nightjar", "proxy", "--server", server, "--service", "caller", "--version", "v1", "--outbound", t.addr, "--state", dir); err != nil {
		return err
	}
	c, err := client.New(server)
	if err != nil {
		return err
	}
	t.client = c
	text := fmt.Sprintf("services:\n  bench:\n    versions: [v1, v2]\n    instances: [{at: \"http://%[1]s\", version: v1}, {at: \"http://%[1]s\", version: v2}]\n%[2]s"+
		"    routes:\n      - {name: crew, when: {headers: {x-crew: \"yes\"}}, send: v2}\n      - {name: all, when: {path: /ferry/**, method: [GET, HEAD]}, send: {v1: 85, v2: 15}, timeout: 2s%[3]s}\n", backend, t.settings, t.route)
	if more != nil {
		text += more()
	}
	for range 100 {
		out, err := c.Publish(ctx, model.PublishRequest{Files: []model.File{{Name: "bench.yaml", Text: text}}}, nil)
		if err == nil && out.Rollout.Acknowledged >= 2 {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("the rules did not come into force")
}

var (
	wrkRate  = regexp.MustCompile(`Requests/sec:\s+([\d.]+)`)
	wrkTotal = regexp.MustCompile(`(\d+) requests in`)
	wrkP50   = regexp.MustCompile(`50%\s+([\d.]+)(us|ms|s)`)
	wrkBad   = regexp.MustCompile(`Non-2xx[^\n]*|Socket errors: (connect [1-9]|connect 0, read [1-9]|connect 0, read 0, write [1-9])[^\n]*`) // a late answer on a stalled machine is not a wrong one
)

func wrk(ctx context.Context, addr string, conns int) (rps, total, p50 float64, err error) {
	out, err := exec.CommandContext(ctx, "wrk", "--latency", "--timeout", "10s", "-t", strconv.Itoa(min(conns, 2)), "-c", strconv.Itoa(conns), "-d", strconv.Itoa(*seconds)+"s",
		"-H", "Host: "+host, "http://"+addr+"/ferry/times").CombinedOutput()
	if err != nil {
		return 0, 0, 0, fmt.Errorf("wrk: %w: %s", err, out)
	}
	if bad := wrkBad.Find(out); bad != nil {
		return 0, 0, 0, fmt.Errorf("wrk: %s", bad)
	}
	num := func(re *regexp.Regexp) float64 {
		m := re.FindSubmatch(out)
		if m == nil {
			err = fmt.Errorf("wrk said:\n%s", out)
			return 0
		}
		f, _ := strconv.ParseFloat(string(m[1]), 64)
		if len(m) > 2 {
			f *= map[string]float64{"us": 1, "ms": 1e3, "s": 1e6}[string(m[2])]
		}
		return f
	}
	return num(wrkRate), num(wrkTotal), num(wrkP50), err
}

// processorTime is the user and system time of a process (proc(5), stat).
func processorTime(pid int) time.Duration {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// memory is the resident memory of a process in MiB.
func memory(pid int) float64 {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if m := regexp.MustCompile(`VmRSS:\s+(\d+)`).FindSubmatch(b); m != nil {
		kb, _ := strconv.ParseFloat(string(m[1]), 64)
		return kb / 1024
	}
	return 0
}

func ratios(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] / b[i]
	}
	return out
}

func median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}

func freeAddr() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "127.0.0.1:0"
	}
	defer l.Close()
	return l.Addr().String()
}

func ready(addr string) error {
	var err error
	for range 100 {
		req, _ := http.NewRequest("GET", "http://"+addr+"/ferry/times", nil)
		req.Host = host
		var resp *http.Response
		if resp, err = http.DefaultClient.Do(req); err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
			err = fmt.Errorf("answered %s", resp.Status)
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}
