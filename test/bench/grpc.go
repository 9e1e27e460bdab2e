package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/test/lean"
)

// grpcPath is what a request of gRPC asks for.
const grpcPath = "/ferry.Line/Times"

// standardHTTP2 is the standard library's reverse proxy between connections of HTTP/2 without
// TLS, or with it towards the caller.
func standardHTTP2(l net.Listener, backend string, isSecure bool) error {
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	two.SetHTTP2(true)
	proxy := &httputil.ReverseProxy{
		Transport:     &http.Transport{Protocols: two, DisableCompression: true},
		FlushInterval: -1,
		ErrorLog:      log.New(io.Discard, "", 0),
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "http", Host: backend})
			r.Out.Host = r.In.Host
		},
	}
	srv := &http.Server{Handler: proxy, Protocols: two, ErrorLog: log.New(io.Discard, "", 0), HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 1000}}
	if !isSecure {
		return srv.Serve(l)
	}
	cert, key, err := selfSigned()
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return err
	}
	srv.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}}
	return srv.ServeTLS(l, "", "")
}

// selfSigned is a certificate for the host lean, as PEM.
func selfSigned() (cert, key []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"lean"}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &k.PublicKey, k)
	if err != nil {
		return nil, nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), err
}

// grpcBackend answers like the lean workload, over net/http.
func grpcBackend(l net.Listener) error {
	body := []byte(strings.Repeat("night ferry. ", 79))[:1024]
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/grpc")
		w.Write(body)
		w.Header().Set(http.TrailerPrefix+"Grpc-Status", "0")
	})
	return (&http.Server{Handler: h, Protocols: two, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 1000}, ErrorLog: log.New(io.Discard, "", 0)}).Serve(l)
}

// grpcTarget is a proxy, and what was measured of it.
type grpcTarget struct {
	name      string
	authority string // service that its requests are for
	addr      string
	pid       int
	scheme    string
	rps       []float64
	cpu       []float64 // µs of the proxy per request
	p50       []float64 // µs
}

// grpcCase is one load.
type grpcCase struct {
	name           string
	conns, streams int
	requests       int // of a proxy that is as quick as the standard one
	targets        []*grpcTarget
	run            func(c *grpcCase, t *grpcTarget, requests int) (rps, p50 float64, err error)
}

// grpc compares requests of gRPC through the proxy with those through the standard library's
// reverse proxy, between the same ends.
func grpc(b *bench) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	leanAt, slowAt := freeAddr(), freeAddr()
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	spawn := func(role, at, backend string) (pid int) {
		if err == nil {
			pid, err = b.spawn(self, role, at, backend)
		}
		return pid
	}
	spawn("lean", leanAt, "-")
	spawn("grpc-backend", slowAt, "-")
	standard := func(role, backend, scheme string) *grpcTarget {
		t := &grpcTarget{name: "standard", authority: "standard", addr: freeAddr(), scheme: scheme}
		t.pid = spawn(role, t.addr, backend)
		return t
	}
	toLean, toSlow, secure := standard("standard-h2", leanAt, "http"), standard("standard-h2", slowAt, "http"), standard("standard-h2s", leanAt, "https")
	if err != nil {
		return err
	}
	ours, edge, idle, err := startGRPC(b, dir, leanAt, slowAt)
	if err != nil {
		return err
	}
	own := func(t *grpcTarget, authority string) *grpcTarget {
		c := *t
		c.authority = authority
		return &c
	}
	direct := &grpcTarget{name: "no proxy", authority: "none", addr: leanAt, scheme: "http"}
	cases := []*grpcCase{
		{"8 connections × 32 streams, lean backend", 8, 32, 20_000, []*grpcTarget{toLean, own(ours, "lean")}, h2load},
		{"the same, net/http backend", 8, 32, 20_000, []*grpcTarget{toSlow, own(ours, "slow")}, h2load},
		{"8 × 1", 8, 1, 15_000, []*grpcTarget{toLean, own(ours, "lean")}, h2load},
		{"one stream at a time", 1, 1, 3_000, []*grpcTarget{direct, toLean, own(ours, "lean")}, h2load},
		{"32 echo streams, messages of 1 KiB", 4, 8, 20_000, []*grpcTarget{toLean, own(ours, "lean")}, echoes},
		{"TLS from callers, 8 × 32", 8, 32, 20_000, []*grpcTarget{secure, edge}, h2load},
	}
	fmt.Printf("\ngRPC: %d rounds for each, in turn; answers of 1 KiB; routes, a split, retries, a breaker, deadlines and telemetry on\n", *rounds)
	fmt.Println("load                                        proxy          requests/s   × standard (min–max)    CPU µs/request   × standard   p50 µs")
	for _, c := range cases {
		if err := c.measure(); err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
	}
	return grpcMemory(idle)
}

// measure runs the case and prints it.
func (c *grpcCase) measure() error {
	targets := make([]*grpcTarget, len(c.targets))
	for i, t := range c.targets {
		own := *t
		targets[i] = &own
	}
	inTurn := slices.Clone(targets)
	for round := range *rounds + 1 { // the first is not counted
		slices.Reverse(inTurn)
		for _, t := range inTurn {
			n := c.requests
			if !strings.HasPrefix(t.name, "standard") {
				n *= 4
			}
			before := processorTime(t.pid)
			rps, p50, err := c.run(c, t, n)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			used := processorTime(t.pid) - before
			if round > 0 {
				t.rps, t.cpu, t.p50 = append(t.rps, rps), append(t.cpu, used.Seconds()*1e6/float64(n)), append(t.p50, p50)
			}
		}
	}
	std := targets[len(targets)-2]
	for _, t := range targets {
		r, cpu := ratios(t.rps, std.rps), ratios(t.cpu, std.cpu)
		fmt.Printf("%-43s %-14s %10.0f   %9.2f (%.2f–%.2f)   %15.1f   %10.3f   %6.0f\n", c.name, t.name, median(t.rps), median(r), slices.Min(r), slices.Max(r), median(t.cpu), median(cpu), median(t.p50))
	}
	return nil
}

var (
	h2loadRate = regexp.MustCompile(`finished in [^,]+, ([\d.]+) req/s`)
	h2loadDone = regexp.MustCompile(`(\d+) succeeded`)
)

// h2load makes requests by a program that is not ours.
func h2load(c *grpcCase, t *grpcTarget, n int) (rps, p50 float64, err error) {
	dir, err := os.MkdirTemp("", "nightjar-h2load-")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	times, body := filepath.Join(dir, "times"), filepath.Join(dir, "body")
	if err := os.WriteFile(body, []byte("\x00\x00\x00\x00\x03tea"), 0o600); err != nil {
		return 0, 0, err
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	out, err := exec.CommandContext(ctx, "h2load", "-n", strconv.Itoa(n), "-c", strconv.Itoa(c.conns), "-m", strconv.Itoa(c.streams), "--log-file="+times, "-d", body,
		"-H", "content-type: application/grpc", "-H", "te: trailers", "-H", ":authority: "+t.authority, t.scheme+"://"+t.addr+grpcPath).CombinedOutput()
	if err != nil {
		return 0, 0, fmt.Errorf("h2load (of nghttp2): %w: %s", err, out)
	}
	rate, done := h2loadRate.FindSubmatch(out), h2loadDone.FindSubmatch(out)
	if rate == nil || done == nil || string(done[1]) != strconv.Itoa(n) {
		return 0, 0, fmt.Errorf("h2load said:\n%s", out)
	}
	rps, _ = strconv.ParseFloat(string(rate[1]), 64)
	text, err := os.ReadFile(times)
	if err != nil {
		return 0, 0, err
	}
	var took []float64
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) == 3 && f[1] == "200" {
			us, _ := strconv.ParseFloat(f[2], 64)
			took = append(took, us)
		}
	}
	return rps, median(took), nil
}

// echoes sends messages on streams that stay open.
func echoes(c *grpcCase, t *grpcTarget, n int) (rps, p50 float64, err error) {
	took, err := lean.Run(lean.Load{
		Address:   t.addr,
		Authority: t.authority,
		Path:      lean.EchoPath,
		Conns:     c.conns,
		Streams:   c.streams,
		Requests:  int64(n),
		Messages:  true,
	})
	return float64(n) / took.Seconds(), 0, err
}

// startGRPC runs a service, a caller's proxy, a gateway with TLS, and another caller's proxy
// that is left alone.
func startGRPC(b *bench, dir, leanAt, slowAt string) (ours, edge, idle *grpcTarget, err error) {
	server := freeAddr()
	if _, err = b.spawn("bin/nightjar", "serve", "--listen", server, "--data", filepath.Join(dir, "data")); err != nil {
		return nil, nil, nil, err
	}
	ours = &grpcTarget{name: "nightjar", addr: freeAddr(), scheme: "http"}
	idle = &grpcTarget{name: "nightjar", addr: freeAddr(), scheme: "http"}
	edge = &grpcTarget{name: "nightjar", authority: "lean", addr: freeAddr(), scheme: "https"}
	cert, key, err := selfSigned()
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "edge.pem"), cert, 0o600)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "edge.key"), key, 0o600)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	for _, p := range []struct {
		t    *grpcTarget
		args []string
	}{
		{ours, []string{"--service", "caller", "--version", "v1", "--outbound", ours.addr}},
		{idle, []string{"--service", "idler", "--version", "v1", "--outbound", idle.addr}},
		{edge, []string{"--gateway", "edge", "--tls-dir", dir}},
	} {
		if p.t.pid, err = b.spawn("bin/nightjar", append([]string{"proxy", "--server", server, "--state", dir}, p.args...)...); err != nil {
			return nil, nil, nil, err
		}
	}
	c, err := client.New(server)
	if err != nil {
		return nil, nil, nil, err
	}
	service := func(name, at string) string {
		return fmt.Sprintf(`  %s:
    protocol: grpc
    versions: [v1, v2]
    instances: [{at: "http://%[2]s", version: v1}, {at: "http://%[2]s", version: v2}]
    retry: {times: 1, on: [unreachable]}
    guard: {breaker: {errors: 50%%, slow: 80%% over 1s}, sideline: {after: 3}, in-flight: 1000, waiting: 100}
    routes:
      - {name: crew, when: {headers: {x-crew: "yes"}}, send: v2}
      - {name: all, when: {path: /ferry.Line/**}, send: {v1: 85, v2: 15}, timeout: 5s}
`, name, at)
	}
	text := "services:\n  caller: {versions: [v1]}\n  idler: {versions: [v1]}\n" + service("lean", leanAt) + service("slow", slowAt) +
		fmt.Sprintf("  open: {protocol: grpc, versions: [v1], instances: [{at: \"http://%s\", version: v1}]}\n", leanAt) +
		fmt.Sprintf("gateways:\n  edge: {listen: %q, hosts: [lean], tls: {cert: edge.pem, key: edge.key}, routes: [{name: all, send: lean}]}\n", edge.addr)
	for range 100 {
		var out model.Published
		out, err = c.Publish(b.ctx, model.PublishRequest{Files: []model.File{{Name: "bench.yaml", Text: text}}}, nil)
		if err == nil && out.Rollout.Acknowledged >= 3 {
			return ours, edge, idle, nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, nil, nil, fmt.Errorf("the rules did not come into force: %w", err)
}

// grpcMemory measures what connections and streams cost that nothing goes on.
func grpcMemory(t *grpcTarget) error {
	load := lean.Load{Address: t.addr, Authority: "open", Path: lean.EchoPath, Conns: 1, Streams: 1, Requests: 1000, Messages: true}
	if _, err := lean.Run(load); err != nil { // so that what is needed once is there
		return err
	}
	time.Sleep(time.Second)
	before := memory(t.pid)
	end, err := lean.Hold(lean.Load{Address: t.addr, Authority: "open", Path: lean.EchoPath, Conns: 100, Streams: 100})
	if err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	busy := memory(t.pid)
	end()
	fmt.Printf("100 connections × 100 streams that are open: %.0f MiB in all, %.0f before\n", busy, before)
	return nil
}
