package proxy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// TestDrainingCutsOffWithAReason: what is not answered in time gets 503, and
// what was answered in time was not harmed.
func TestDrainingCutsOffWithAReason(t *testing.T) {
	t.Parallel()
	for _, request := range []string{get("/"), "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n"} {
		f := newFake(t)
		begun := make(chan struct{}, 1)
		app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			begun <- struct{}{}
			<-r.Context().Done()
		}))
		defer app.Close()
		p, err := New(Config{ID: "c", Server: f.URL, Service: "caller", Version: "v1", Drain: 300 * time.Millisecond})
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- p.Run(ctx) }()
		f.send(1, toV1, true, engine.Instance{ID: "one", Service: "s", Version: "v1", Address: strings.TrimPrefix(app.URL, "http://")})
		go func() { <-begun; stop() }()
		if got := raw(t, p.Outbound(), request); !strings.Contains(got, "503 Service Unavailable") || !strings.Contains(got, "draining") {
			t.Errorf("got\n%s", got)
		}
		if err := <-ended; err != nil && !errors.Is(err, context.Canceled) {
			t.Error(err)
		}
	}
}

// TestHealthChecks: a proxy tells that its workload is unhealthy, and that it is
// well again; of an instance outside, every caller finds out by itself.
func TestHealthChecks(t *testing.T) {
	t.Parallel()
	var ill atomic.Bool
	var agent atomic.Value
	health := func(w http.ResponseWriter, r *http.Request) {
		agent.Store(r.URL.Path + " " + r.UserAgent())
		if ill.Load() {
			w.WriteHeader(http.StatusInternalServerError)
		}
	}
	f := newFake(t)
	p := runProxy(t, f, Config{ID: "s-v1-a", Service: "s", Version: "v1", App: app(t, health)})
	other := app(t, func(http.ResponseWriter, *http.Request) {})
	text := "services: {s: {versions: [v1], health: {path: /well, every: 100ms, down-after: 2, up-after: 2}}, o: {versions: [v1], health: {path: /well, every: 100ms}, instances: [{at: 'http://" +
		app(t, health) + "', version: v1}, {at: 'http://" + other + "', version: v1}]}}"
	f.send(1, text, true, []engine.Instance{}...)
	down := func() []string {
		for _, s := range p.follower.Table.Load().Status(time.Since(p.epoch)) {
			if s.Service == "o" {
				return s.Versions[0].Down
			}
		}
		return nil
	}
	ill.Store(true)
	f.see(func() bool { return strings.Contains(f.last.Down, "/well answered 500") })
	if got := p.follower.Table.Load().Checks("s", time.Since(p.epoch)).Outside; len(got) != 0 {
		t.Errorf("%d instances are checked that nobody calls", len(got))
	}
	ask(p.Outbound(), "o", "/")
	waitFor(t, func() bool { return len(down()) == 1 })
	if got := agent.Load(); got != "/well nightjar-health" {
		t.Errorf("it was asked by %v", got)
	}
	ill.Store(false)
	f.see(func() bool { return f.last.Down == "" })
	waitFor(t, func() bool { return down() == nil })
	ill.Store(true)
	f.see(func() bool { return f.last.Down != "" })
	f.send(2, strings.Replace(text, "s: {versions: [v1], health: {path: /well, every: 100ms, down-after: 2, up-after: 2}}", "s: {versions: [v1]}", 1), true)
	f.see(func() bool { return f.last.Down == "" }) // nobody checks any more
}

// TestADrillEndsByItself, with the service gone.
func TestADrillEndsByItself(t *testing.T) {
	t.Parallel()
	f := newFake(t)
	p := runProxy(t, f, Config{ID: "caller-a", Service: "caller"})
	in := instance(t, "s-v1-a", "v1")
	if ack := f.send(1, toV1, true, in); ack.Error != "" {
		t.Fatal(ack.Error)
	}
	begun := time.Now()
	const length = 700 * time.Millisecond
	f.seq++
	b, _ := json.Marshal(wire.Snapshot{Sequence: f.seq, Settled: true, Drills: []wire.Drill{
		{Drill: engine.Drill{ID: "d", Service: "s", Fail: rules.Whole, Status: 503}, Ends: begun.Add(time.Hour), ForMS: length.Milliseconds()}}}) // of a clock that goes wrong
	f.lines <- string(b)
	waitFor(t, func() bool {
		return strings.Contains(ask(p.Outbound(), "s", "/"), "drill d makes 100% of the requests fail")
	})
	f.CloseClientConnections()
	f.lines <- ""
	waitFor(t, func() bool { return ask(p.Outbound(), "s", "/") == "s-v1-a" })
	if took := time.Since(begun); took < length {
		t.Errorf("it ended after %v", took)
	}
}

// TestTCP carries bytes both ways, to the version that the rules say, half
// closed and all; and counts what cannot be reached.
func TestTCP(t *testing.T) {
	t.Parallel()
	f := newFake(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				b, _ := io.ReadAll(c) // until the caller has said all
				fmt.Fprintf(c, "%d bytes", len(b))
			}()
		}
	}()
	const log = "services: {log: {protocol: tcp, versions: [v1, v2], routes: [{name: all, send: %s}]}}"
	shown := credentials(t, "log", "caller")
	app := runProxy(t, f, Config{ID: "log-v1-a", Service: "log", Version: "v1", App: l.Addr().String(), Credentials: shown[0]})
	f.send(1, fmt.Sprintf(log, "v1"), true)
	other := newFake(t)
	caller := runProxy(t, other, Config{ID: "c", Service: "caller", Version: "v1", Ports: map[string]string{"log": "", "s": ""}, Credentials: shown[1]})
	one := instance(t, "one", "v1")
	other.send(1, fmt.Sprintf(log, "v1")+"\n", true, engine.Instance{ID: "log-v1-a", Service: "log", Version: "v1", Address: app.Inbound(), Member: true}, one)

	say := func() string {
		conn, err := net.Dial("tcp", caller.Ports()["log"])
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		conn.Write(make([]byte, 100_000))
		conn.(*net.TCPConn).CloseWrite()
		b, err := io.ReadAll(conn)
		if err != nil {
			return err.Error()
		}
		return string(b)
	}
	if got := say(); got != "100000 bytes" {
		t.Errorf("got %q", got)
	}
	refusal := ask(caller.Outbound(), "log", "/") + "\n"
	if !strings.Contains(refusal, "speaks TCP, not HTTP") {
		t.Errorf("HTTP to a service that speaks TCP: %q", refusal)
	}
	if got := ask(caller.Ports()["s"], "127.0.0.1:80", "/"); got != "one" { // HTTP on a port of its own, whatever the host says
		t.Errorf("on a port of its own: %q", got)
	}
	other.send(2, fmt.Sprintf(log, "v2"), true)
	if got := say(); got != "" && !strings.Contains(got, "reset") {
		t.Errorf("to a version without an instance: %q", got)
	}
	other.see(func() bool {
		var ok, refused, sent, received uint64
		for _, d := range other.deltas {
			for _, s := range d.Series {
				if s.Service == "log" && s.Route == "all" {
					ok += s.Counts.OK
					refused += noInstance(s)
					sent += s.Counts.Sent
					received += s.Counts.Received
				}
			}
		}
		return ok == 1 && refused == 1 && sent == 100_000 && received == uint64(len("100000 bytes"+refusal))
	})
}

// TestARestartFindsItself: without the service, a proxy whose inbound address is
// another than before still reaches its own workload.
func TestARestartFindsItself(t *testing.T) {
	t.Parallel()
	f := newFake(t)
	cfg := Config{ID: "a", Service: "s", Version: "v1", App: instance(t, "one", "v1").Address, State: filepath.Join(t.TempDir(), "k.json"), Credentials: credentials(t, "s")[0]}
	first, err := New(Config{ID: "a", Server: f.URL, Service: "s", Version: "v1", App: cfg.App, State: cfg.State, Credentials: cfg.Credentials})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- first.Run(ctx) }()
	f.send(3, "services: {s: {versions: [v1]}}", true, engine.Instance{ID: "a", Service: "s", Version: "v1", Address: "127.0.0.1:1", Member: true})
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	f.CloseClientConnections()
	f.Listener.Close()
	cfg.Server = f.URL
	p, err := New(cfg)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop = context.WithCancel(context.Background())
	defer func() { stop(); <-ended }()
	go func() { ended <- p.Run(ctx) }()
	<-p.Ready()
	if got := ask(p.Outbound(), "s", "/"); got != "one" || p.Revision() != 3 || p.StaleSince().IsZero() {
		t.Errorf("%q by revision %d, stale since %s", got, p.Revision(), p.StaleSince())
	}
}
