package main

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/api/model"
	"nightjar/client"
)

// openLoop sends so many requests a second, whatever becomes of them, and
// returns the median of their times in µs.
func openLoop(addr string, rate int, length time.Duration) (float64, error) {
	const conns = 20
	each := time.Second * conns / time.Duration(rate)
	took := make([][]float64, conns)
	errs := make([]error, conns)
	var all sync.WaitGroup
	for i := range conns {
		all.Go(func() {
			time.Sleep(each * time.Duration(i) / conns)
			c, err := net.Dial("tcp", addr)
			if err != nil {
				errs[i] = err
				return
			}
			defer c.Close()
			c.SetDeadline(time.Now().Add(length + 10*time.Second))
			r := bufio.NewReader(c)
			tick := time.NewTicker(each)
			defer tick.Stop()
			for end := time.Now().Add(length); time.Now().Before(end); <-tick.C {
				begun := time.Now()
				io.WriteString(c, "GET /ferry/times HTTP/1.1\r\nHost: "+host+"\r\n\r\n")
				resp, err := http.ReadResponse(r, nil)
				if err == nil {
					_, err = io.Copy(io.Discard, resp.Body)
				}
				if err != nil {
					errs[i] = err
					return
				}
				took[i] = append(took[i], float64(time.Since(begun).Nanoseconds())/1e3)
			}
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return 0, err
		}
	}
	return median(slices.Concat(took...)), nil
}

// idle measures memory: of a proxy that knows 200 services, and of connections
// that say nothing, with others that do.
func idle(b *bench) error {
	n := &target{name: "nightjar", addr: freeAddr()}
	if err := startNightjar(b.ctx, b.spawn, n, b.backend, func() string {
		var text strings.Builder
		for i := range 200 {
			fmt.Fprintf(&text, "  service-%d:\n    versions: [v1, v2]\n    instances: [{at: \"http://%s\", version: v1}]\n    routes:\n", i, b.backend)
			for j := range 5 {
				fmt.Fprintf(&text, "      - {name: r%d, when: {path: /part-%d/**, headers: {x-crew: \"yes\"}}, send: {v1: 90, v2: 10}, timeout: 2s}\n", j, j)
			}
			text.WriteString("      - {name: rest, send: v1}\n")
		}
		return text.String()
	}); err != nil {
		return err
	}
	if err := ready(n.addr); err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	before := memory(n.pid)
	fmt.Printf("\nidle with 200 services and 1,200 routes: %.1f MiB\n", before)
	var held []net.Conn
	defer func() {
		for _, c := range held {
			c.Close()
		}
	}()
	for len(held) < 10_000 {
		c, err := net.Dial("tcp", n.addr)
		if err != nil {
			return err
		}
		held = append(held, c)
	}
	time.Sleep(2 * time.Second)
	fresh := memory(n.pid)
	for _, c := range held { // each has been used once, as kept connections are
		io.WriteString(c, "GET /ferry/times HTTP/1.1\r\nHost: "+host+"\r\n\r\n")
		resp, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			return err
		}
		io.Copy(io.Discard, resp.Body)
	}
	time.Sleep(5 * time.Second)
	used := memory(n.pid)
	rps, _, _, err := wrk(b.ctx, n.addr, 1000)
	if err != nil {
		return err
	}
	fmt.Printf("10,000 connections that say nothing: %.1f KiB each; once used: %.1f KiB each; with 1,000 busy ones beside them %.0f requests/s and %.0f MiB in all\n",
		(fresh-before)*1024/10_000, (used-before)*1024/10_000, rps, memory(n.pid))
	return nil
}

// publishes measures how long a change takes to reach every proxy of the
// sample, and then publishes a thousand times under load.
func publishes(b *bench) error {
	addr := "127.0.0.1:17600"
	if _, err := b.spawn("bin/nightjar", "demo", "--listen", addr, "--quiet"); err != nil {
		return err
	}
	c, err := client.New(addr)
	if err != nil {
		return err
	}
	time.Sleep(3 * time.Second) // until the sample is under way
	var took []float64
	for i := 0; i < 400 && len(took) < 40; i++ {
		out, err := c.Split(b.ctx, "sailings", model.SplitRequest{Weights: []model.Weight{{Target: "v1", Weight: strconv.Itoa(i % 100)}, {Target: "v2", Weight: strconv.Itoa(100 - i%100)}}}, nil)
		if err == nil && out.Rollout.Acknowledged == 12 {
			took = append(took, out.Rollout.AfterMS)
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(took) == 0 {
		return fmt.Errorf("the sample mesh at %s published nothing", addr)
	}
	fmt.Printf("\na publish to all 12 proxies of the sample, with its traffic, %d times: %s\n", len(took), spread(took))
	b.end()

	b.backend = freeAddr()
	if err := b.restartBackend(); err != nil {
		return err
	}
	n := &target{addr: freeAddr()}
	if err := startNightjar(b.ctx, b.spawn, n, b.backend, nil); err != nil {
		return err
	}
	l := loadOn(n.addr)
	for i := range 1000 {
		if _, err := n.client.Split(b.ctx, "bench", model.SplitRequest{Route: "all", Weights: []model.Weight{{Target: "v1", Weight: strconv.Itoa(i % 100)}, {Target: "v2", Weight: strconv.Itoa(100 - i%100)}}}, nil); err != nil {
			return err
		}
	}
	sent, bad := l.stop()
	fmt.Printf("1,000 publishes under load: %d of %d requests failed\n", bad, sent)
	return nil
}

func (b *bench) restartBackend() error {
	self, err := os.Executable()
	if err == nil {
		_, err = b.spawn(self, "backend", b.backend, "-")
	}
	return err
}

func spread(ms []float64) string {
	slices.Sort(ms)
	return fmt.Sprintf("median %.1f ms, p95 %.1f ms, longest %.1f ms", ms[len(ms)/2], ms[len(ms)*95/100], ms[len(ms)-1])
}

// upgrades lets new processes take over from a proxy twenty times under load.
func upgrades(b *bench) error {
	n := &target{addr: freeAddr()}
	if err := startNightjar(b.ctx, b.spawn, n, b.backend, nil); err != nil {
		return err
	}
	pid := n.pid
	defer func() { syscall.Kill(pid, syscall.SIGTERM) }()
	l := loadOn(n.addr)
	for range 20 {
		if err := syscall.Kill(pid, syscall.SIGHUP); err != nil {
			return err
		}
		for next := pid; next == pid; time.Sleep(10 * time.Millisecond) {
			f, err := n.client.Fleet(b.ctx)
			if err != nil {
				return err
			}
			for _, p := range f.Proxies {
				if p.Service == "caller" && p.State == model.ProxyCurrent {
					next = p.PID
				}
			}
			if next != pid {
				pid = next
				break
			}
		}
		time.Sleep(300 * time.Millisecond)
	}
	sent, bad := l.stop()
	fmt.Printf("\n20 upgrades under load: %d of %d requests failed\n", bad, sent)
	return nil
}

// callers are steady requests, by several callers one after the other.
type callers struct {
	quit      chan struct{}
	done      sync.WaitGroup
	sent, bad atomic.Int64
}

func loadOn(addr string) *callers {
	l := &callers{quit: make(chan struct{})}
	for range 8 {
		l.call(addr, host)
	}
	return l
}

// call sends requests for a service through a proxy, one after the other.
func (l *callers) call(addr, service string) {
	l.done.Go(func() {
		tr := &http.Transport{}
		defer tr.CloseIdleConnections()
		for {
			select {
			case <-l.quit:
				return
			default:
			}
			req, _ := http.NewRequest("GET", "http://"+addr+"/ferry/times", nil)
			req.Host = service
			resp, err := tr.RoundTrip(req)
			if l.sent.Add(1); err != nil {
				l.bad.Add(1)
				continue
			}
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			if resp.StatusCode != http.StatusOK {
				l.bad.Add(1)
			}
		}
	})
}

func (l *callers) stop() (sent, bad int64) {
	close(l.quit)
	l.done.Wait()
	return l.sent.Load(), l.bad.Load()
}
