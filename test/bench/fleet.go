package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/proxy"
	"nightjar/service"
)

// crowd is a service and many proxies of it, which run in this process.
type crowd struct {
	server   string
	pid      int // of the service
	dir      string
	client   *client.Client
	proxies  int
	services int
	ctx      context.Context
	end      context.CancelFunc
	running  sync.WaitGroup
}

// newCrowd starts the service with rules for so many services.
func newCrowd(b *bench, proxies, services int, hasCalls bool) (*crowd, error) {
	m := &crowd{server: freeAddr(), proxies: proxies, services: services}
	m.ctx, m.end = context.WithCancel(b.ctx)
	var err error
	if m.dir, err = os.MkdirTemp("", "nightjar-bench-"); err != nil {
		return m, err
	}
	if m.pid, err = b.spawn("bin/nightjar", "serve", "--listen", m.server, "--data", m.dir); err != nil {
		return m, err
	}
	if m.client, err = client.New(m.server); err != nil {
		return m, err
	}
	for range 100 {
		if _, err = m.publish(50, hasCalls); err == nil {
			return m, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return m, err
}

func (m *crowd) close() {
	m.end()
	m.running.Wait()
	if m.dir != "" {
		os.RemoveAll(m.dir)
	}
}

// publish changes the split of every service. Without calls, each may call all others,
// and its proxies know all instances.
func (m *crowd) publish(v1 int, hasCalls bool) (model.Rollout, error) {
	var text strings.Builder
	text.WriteString("services:\n")
	for i := range m.services {
		calls := ""
		if hasCalls {
			calls = fmt.Sprintf(", calls: [%s]", m.after(i))
		}
		fmt.Fprintf(&text, "  service-%d: {versions: [v1, v2]%s, routes: [{name: all, send: {v1: %d, v2: %d}, otherwise: v1}]}\n", i, calls, v1, 100-v1)
	}
	out, err := m.client.Publish(m.ctx, model.PublishRequest{Files: []model.File{{Name: "many.yaml", Text: text.String()}}, WaitMS: new(20_000)}, nil)
	return out.Rollout, err
}

// after is the service that the i-th one calls.
func (m *crowd) after(i int) string { return fmt.Sprintf("service-%d", (i+1)%m.services) }

// join starts the proxies, all at once, beside a workload.
func (m *crowd) join(app string) error {
	for i := range m.proxies {
		p, err := proxy.New(proxy.Config{
			ID:      fmt.Sprintf("p-%04d", i),
			Server:  "https://" + m.server,
			Join:    service.ReadJoinFile(m.server),
			Service: fmt.Sprintf("service-%d", i%m.services),
			Version: "v1",
			App:     app,
			Log:     slog.New(slog.DiscardHandler),
			Drain:   10 * time.Millisecond,
		})
		if err != nil {
			return err
		}
		m.running.Go(func() { p.Run(m.ctx) })
	}
	return nil
}

// await waits until so many proxies are connected, the service's own beside them.
func (m *crowd) await(n int) error {
	connected := 0
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		f, err := m.client.Fleet(m.ctx)
		if err != nil {
			return err
		}
		connected = 0
		for _, p := range f.Proxies {
			if p.IsConnected {
				connected++
			}
		}
		if connected > n {
			return nil
		}
	}
	return fmt.Errorf("only %d of %d proxies are connected", connected, n)
}

// fleet runs a thousand proxies and measures how long they take to join, how long a
// publish takes to reach the last of them, and what the service needs.
func fleet(b *bench) error {
	for _, hasCalls := range []bool{true, false} {
		if err := fleetOf(b, 1000, 100, hasCalls); err != nil {
			return err
		}
	}
	return nil
}

func fleetOf(b *bench, proxies, services int, hasCalls bool) error {
	m, err := newCrowd(b, proxies, services, hasCalls)
	defer m.close()
	if err != nil {
		return err
	}
	begun := time.Now()
	if err := m.join(b.backend); err != nil {
		return err
	}
	opened := time.Since(begun)
	if err := m.await(proxies / 2); err != nil {
		return err
	}
	beside, err := m.publish(49, hasCalls)
	if err != nil {
		return err
	}
	if err := m.await(proxies); err != nil {
		return err
	}
	what := "each calls one other service"
	if !hasCalls {
		what = "each may call all others"
	}
	fmt.Printf("\n%d proxies of %d services, %s: all joined within %.1f s (%.1f s of it to open their listeners); a publish meanwhile reached %d of %d in %.0f ms\n",
		proxies, services, what, time.Since(begun).Seconds(), opened.Seconds(), beside.Acknowledged, beside.Connected, beside.AfterMS)
	var took []float64
	time.Sleep(3 * time.Second) // until those whose lease ran out meanwhile are back
	for i := range 21 {
		out, err := m.publish(i, hasCalls)
		if err != nil {
			return err
		}
		if out.Acknowledged <= proxies {
			return fmt.Errorf("only %d of %d have the newest revision", out.Acknowledged, out.Connected)
		}
		if i > 0 {
			took = append(took, out.AfterMS)
		}
		time.Sleep(500 * time.Millisecond)
	}
	fmt.Printf("a publish that changes all %d services to all of them, %d times: %s; the service uses %.0f MiB\n",
		services, len(took), spread(took), memory(m.pid))
	return nil
}

// rotation replaces the root of a hundred proxies under load.
func rotation(b *bench) error {
	const proxies, services = 100, 10
	m, err := newCrowd(b, proxies, services, true)
	defer m.close()
	if err != nil {
		return err
	}
	trickle, err := newTrickle()
	if err != nil {
		return err
	}
	defer trickle.Close()
	if err := m.join(trickle.addr); err != nil {
		return err
	}
	if err := m.await(proxies); err != nil {
		return err
	}
	if _, err := m.publish(100, true); err != nil {
		return err
	}
	f, err := m.client.Fleet(m.ctx)
	if err != nil {
		return err
	}
	var outbound, called []string
	for _, p := range f.Proxies {
		if strings.HasPrefix(p.Service, "service-") {
			var i int
			fmt.Sscanf(p.Service, "service-%d", &i)
			outbound, called = append(outbound, p.Outbound), append(called, m.after(i))
		}
	}
	time.Sleep(time.Second)
	// One response that goes on for the whole time over every proxy, and requests beside.
	var streams sync.WaitGroup
	var cut atomic.Int64
	for i, addr := range outbound {
		streams.Go(func() {
			if err := trickle.follow(addr, called[i]); err != nil && cut.Add(1) == 1 {
				fmt.Println("the first that was cut:", err)
			}
		})
	}
	l := &callers{quit: make(chan struct{})}
	for i := range 8 {
		l.call(outbound[i], called[i])
	}
	begun := time.Now()
	if _, err := m.client.RotateAuthority(m.ctx); err != nil {
		return err
	}
	for {
		time.Sleep(200 * time.Millisecond)
		a, err := m.client.Authority(m.ctx)
		if err != nil {
			return err
		}
		if a.Phase == "steady" {
			break
		}
		if time.Since(begun) > 2*time.Minute {
			return fmt.Errorf("the rotation is still in the phase %s", a.Phase)
		}
	}
	took := time.Since(begun)
	time.Sleep(2 * time.Second)
	close(trickle.ended)
	streams.Wait()
	sent, bad := l.stop()
	fmt.Printf("\nthe root of %d proxies replaced under load: %.1f s, %d of %d requests failed, %d of %d responses that went on all the time were cut\n",
		proxies, took.Seconds(), bad, sent, cut.Load(), len(outbound))
	return nil
}

// trickle is a workload: /stream sends a line ten times a second until ended is closed.
type trickle struct {
	*http.Server
	addr  string
	ended chan struct{}
}

func newTrickle() (*trickle, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	t := &trickle{addr: l.Addr().String(), ended: make(chan struct{})}
	t.Server = &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/stream" {
			io.WriteString(w, "night ferry\n")
			return
		}
		for {
			fmt.Fprintln(w, "on")
			w.(http.Flusher).Flush()
			select {
			case <-t.ended:
				fmt.Fprintln(w, "end")
				return
			case <-r.Context().Done():
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	})}
	go t.Serve(l)
	return t, nil
}

// follow reads the stream through a proxy; an error when it does not come to its end.
func (t *trickle) follow(addr, service string) error {
	req, err := http.NewRequest("GET", "http://"+addr+"/stream", nil)
	if err != nil {
		return err
	}
	req.Host = service
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(resp.Body)
		return fmt.Errorf("%s: %s", resp.Status, text)
	}
	last := ""
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		last = lines.Text()
	}
	if lines.Err() != nil || last != "end" {
		return fmt.Errorf("after %q: %w", last, lines.Err())
	}
	return nil
}
