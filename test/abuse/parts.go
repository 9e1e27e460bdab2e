package main

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"nightjar/control"
)

// guarded are rules of a page whose guards act soon.
const guarded = `services:
  page:
    versions: [v1]
    timeout: 1s
    guard:
      breaker: {errors: 20%, over: 10s, least: 20, open: 5s}
      sideline: {after: 5, for: 10s, most: 100%}
      in-flight: 200
`

// pageMesh is a gateway in front of one page of two instances.
func pageMesh(w *world, descriptors int) error {
	for _, name := range []string{"page-a", "page-b"} {
		if _, err := w.instance("page", "v1", "", name); err != nil {
			return err
		}
	}
	if err := w.startGateway(descriptors); err != nil {
		return err
	}
	return w.publish(3, guarded)
}

// kinds are malformed requests, each on a connection of its own.
var kinds = []struct {
	name string
	say  func(conn net.Conn)
}{
	{"a chunk size that is none", raw("POST /page/x HTTP/1.1\r\nHost: e\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\nzz\r\n")},
	{"a chunk extension of 20 KB", raw("POST /page/x HTTP/1.1\r\nHost: e\r\nTransfer-Encoding: chunked\r\n\r\n3;" + strings.Repeat("x", 20<<10) + "\r\nabc\r\n0\r\n\r\n")},
	{"a trailer that is none", raw("POST /page/x HTTP/1.1\r\nHost: e\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\nno colon\r\n\r\n")},
	{"a trailer of 80 KB", raw("POST /page/x HTTP/1.1\r\nHost: e\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\nX-Sum: " + strings.Repeat("x", 80<<10) + "\r\n\r\n")},
	{"a body that breaks off", raw("POST /page/x HTTP/1.1\r\nHost: e\r\nContent-Length: 100000\r\n\r\nabc")},
	{"a head that is none", raw("POST /page/x\r\n\r\n")},
	{"an HTTP/2 body of another length", two([2]string{"content-length", "10"})},
	{"gRPC to a workload of HTTP/1.1", two([2]string{"content-type", "application/grpc"})},
	{"gRPC with a deadline of 1 ns", two([2]string{"content-type", "application/grpc"}, [2]string{"grpc-timeout", "1n"})},
}

// raw says bytes, and that nothing follows.
func raw(text string) func(net.Conn) {
	return func(conn net.Conn) {
		io.WriteString(conn, text)
		conn.(*net.TCPConn).CloseWrite()
	}
}

// two says a request of HTTP/2 with a body of 5 bytes.
func two(fields ...[2]string) func(net.Conn) {
	var block bytes.Buffer
	e := hpack.NewEncoder(&block)
	for _, f := range append([][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "e"}, {":path", "/page/x"}}, fields...) {
		e.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
	}
	return func(conn net.Conn) {
		defer conn.Close()
		w := bufio.NewWriter(conn)
		w.WriteString(http2.ClientPreface)
		f := http2.NewFramer(w, conn)
		f.WriteSettings()
		f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block.Bytes(), EndHeaders: true})
		f.WriteData(1, true, make([]byte, 5))
		w.Flush()
		for { // until the answer's end, whatever it is
			frame, err := f.ReadFrame()
			if err != nil || frame.Header().StreamID == 1 && (frame.Header().Type == http2.FrameRSTStream || frame.Header().Flags.Has(http2.FlagDataEndStream)) {
				return
			}
		}
	}
}

// requests sends malformed ones while a page is called.
func requests(w *world, t *table) error {
	if err := pageMesh(w, 0); err != nil {
		return err
	}
	for _, k := range kinds {
		page := w.call("page", 200)
		var left atomic.Int64
		left.Store(int64(*count))
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				for left.Add(-1) >= 0 && w.ctx.Err() == nil {
					conn, err := net.Dial("tcp", w.edge)
					if err != nil {
						continue
					}
					conn.SetDeadline(time.Now().Add(5 * time.Second))
					k.say(conn)
					io.Copy(io.Discard, conn)
					conn.Close()
				}
			})
		}
		all.Wait()
		page.stop()
		events, err := w.guardEvents()
		if err != nil {
			return err
		}
		t.row(fmt.Sprintf("%d × %s", *count, k.name), fmt.Sprintf("page %s, %d guard events", page.success(), len(events)), "all, 0 events", len(page.fails)+len(events) == 0)
		for _, e := range events {
			fmt.Println("   ", e)
		}
		if len(page.fails)+len(events) > 0 {
			w.explain()
		}
	}
	time.Sleep(2 * time.Second)
	m, err := w.client.Mesh(w.ctx, 600)
	if err != nil {
		return err
	}
	for _, s := range m.Services {
		if s.Name == "page" && s.Figures.Success != nil {
			t.row("success of the page as it is shown", fmt.Sprintf("%.3f%%, %d requests, %d faults of callers", 100**s.Figures.Success, s.Figures.Requests, s.Figures.CallerFault),
				"100%", *s.Figures.Success == 1)
		}
	}
	return nil
}

// stalls measures when a body that does not come is given up.
func stalls(w *world, t *table) error {
	if err := pageMesh(w, 0); err != nil {
		return err
	}
	page := w.call("page", 200)
	var worst atomic.Int64
	var answered atomic.Int64
	var all sync.WaitGroup
	const many = 50
	for i := range many {
		all.Go(func() {
			conn, err := net.Dial("tcp", w.edge)
			if err != nil {
				return
			}
			defer conn.Close()
			begun := time.Now()
			conn.SetDeadline(begun.Add(10 * time.Second))
			io.WriteString(conn, []string{
				"POST /page/x HTTP/1.1\r\nHost: e\r\nContent-Length: 100000\r\n\r\nabc",
				"POST /page/x HTTP/1.1\r\nHost: e\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n",
				"POST /page/x HTTP/1.1\r\nHost: e\r\nContent-Length: 10\r\n\r\nabc",
			}[i%3])
			resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
			if err == nil && resp.StatusCode == http.StatusRequestTimeout {
				answered.Add(1)
			}
			for late := int64(time.Since(begun) - time.Second); ; {
				if old := worst.Load(); late <= old || worst.CompareAndSwap(old, late) {
					return
				}
			}
		})
	}
	all.Wait()
	page.stop()
	late := time.Duration(worst.Load())
	t.row(fmt.Sprintf("%d stalled uploads", many), fmt.Sprintf("%d answered 408, the last %s after the timeout", answered.Load(), late.Round(time.Millisecond)), "all, within 100ms",
		answered.Load() == many && late < 100*time.Millisecond)
	events, err := w.guardEvents()
	t.row("  the page meanwhile", fmt.Sprintf("%s, %d guard events", page.success(), len(events)), "all, 0 events", len(page.fails)+len(events) == 0)
	return err
}

// crashes kills instances under load.
func crashes(w *world, t *table) error {
	text := "sites: [north, south]\nservices:\n"
	var started = map[string]instance{}
	add := func(service, version, site, name string) error {
		in, err := w.instance(service, version, site, name)
		started[name] = in
		return err
	}
	for _, s := range []string{"two", "alone", "program", "frozen"} {
		text += "  " + s + ":\n    versions: [v1]\n    timeout: 1s\n"
		if s == "frozen" { // connections to it come about, so that it takes a guard to find out
			text += "    guard: {sideline: {after: 5, for: 10s}}\n"
		}
		for _, n := range []string{"a", "b"} {
			if err := add(s, "v1", "", s+"-"+n); err != nil {
				return err
			}
		}
	}
	text += "  other:\n    versions: [v1, v2]\n    timeout: 1s\n    routes: [{name: main, send: v2, otherwise: v1}]\n"
	text += "  sites:\n    versions: [v1]\n    timeout: 1s\n    failover: {order: [north, south], below: 50%}\n"
	for _, in := range [][4]string{{"other", "v1", "", "other-v1"}, {"other", "v2", "", "other-v2"},
		{"sites", "v1", "north", "sites-n1"}, {"sites", "v1", "north", "sites-n2"}, {"sites", "v1", "north", "sites-n3"}, {"sites", "v1", "south", "sites-s1"}} {
		if err := add(in[0], in[1], in[2], in[3]); err != nil {
			return err
		}
	}
	if err := w.startGateway(0); err != nil {
		return err
	}
	far, cut, err := w.farInstance()
	if err != nil {
		return err
	}
	if far != "" {
		if err := add("far", "v1", "", "far-b"); err != nil {
			return err
		}
		text += "  far:\n    versions: [v1]\n    timeout: 3s\n"
	}
	proxies := len(started) + 1
	if far != "" {
		proxies++
	}
	if err := w.publish(proxies, text); err != nil {
		return err
	}
	for _, c := range []struct {
		what, service string
		do            func()
		within        time.Duration // of the last failure; 0: no goal
	}{
		{"kill -9 of one of two", "two", started["two-a"].kill, 100 * time.Millisecond},
		{"of the only one, with otherwise", "other", started["other-v2"].kill, 100 * time.Millisecond},
		{"of two of three at a site, with failover", "sites", func() { started["sites-n1"].kill(); started["sites-n2"].kill() }, 100 * time.Millisecond},
		{"of the last one at that site", "sites", started["sites-n3"].kill, 100 * time.Millisecond},
		{"of one proxy alone", "alone", func() { kill(started["alone-a"].proxy) }, 100 * time.Millisecond},
		{"of one program alone", "program", func() { kill(started["program-a"].app) }, 100 * time.Millisecond},
		{"one frozen, proxy and program, with a sideline", "frozen", func() {
			started["frozen-a"].proxy.Process.Signal(syscall.SIGSTOP)
			started["frozen-a"].app.Process.Signal(syscall.SIGSTOP)
		}, 0},
		{"one machine cut off, packets dropped", "far", cut, 1100 * time.Millisecond},
	} {
		if c.do == nil {
			t.row(c.what, "left out: this machine allows no network namespaces", "", true)
			continue
		}
		page := w.call(c.service, 500)
		time.Sleep(2 * time.Second)
		before := len(page.fails)
		at := time.Now()
		c.do()
		done := time.Now()
		time.Sleep(5 * time.Second)
		page.stop()
		failed, last := page.since(at)
		flying := page.underWay(at, done)
		goal, isMet := "", true
		if c.within > 0 {
			goal = fmt.Sprintf("≤ under way, within %s", c.within)
			isMet = failed <= flying && last <= c.within && before == 0
			if c.service == "far" { // what was sent to the machine before it is known to be gone
				goal, isMet = "within "+c.within.String(), last <= c.within && before == 0
			}
		}
		t.row(c.what, fmt.Sprintf("%d failed of %d, %d under way then, the last due %s after", failed, page.sent, flying, last.Round(time.Millisecond)), goal, isMet)
	}
	return nil
}

// farInstance is an instance on a machine of its own, as far as the network goes,
// and what cuts it off; empty where that cannot be had.
func (w *world) farInstance() (name string, cut func(), err error) {
	const space, here, there = "nightjar-far", "10.213.77.1", "10.213.77.2"
	in := func(args ...string) error { return exec.CommandContext(w.ctx, "ip", args...).Run() }
	clear := func() {
		in("link", "del", "njfar0")
		in("netns", "del", space)
	}
	clear() // what an earlier run left behind
	w.tidy = append(w.tidy, clear)
	for _, args := range []string{"netns add " + space, "link add njfar0 type veth peer name njfar1 netns " + space, "addr add " + here + "/30 dev njfar0", "link set njfar0 up",
		"-n " + space + " addr add " + there + "/30 dev njfar1", "-n " + space + " link set njfar1 up", "-n " + space + " link set lo up"} {
		if in(strings.Fields(args)...) != nil {
			return "", nil, nil
		}
	}
	token := filepath.Join(w.dir, "token")
	var secret [16]byte
	rand.Read(secret[:])
	if err := os.WriteFile(token, []byte(hex.EncodeToString(secret[:])+"\n"), 0o600); err != nil {
		return "", nil, err
	}
	kill(w.serve)
	_, port, _ := net.SplitHostPort(freeAddr())
	if err := w.startService("data", "--proxies", here+":"+port, "--token-file", token); err != nil {
		return "", nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	if _, err := w.start("ip", "netns", "exec", space, self, "workload", "127.0.0.1:9000"); err != nil {
		return "", nil, err
	}
	_, err = w.start("ip", "netns", "exec", space, "bin/nightjar", "proxy", "--server", here+":"+port, "--token-file", token, "--service", "far", "--version", "v1",
		"--name", "far-a", "--app", "127.0.0.1:9000", "--inbound", there+":9001", "--state", "")
	return "far-a", func() { in("-n", space, "route", "add", "blackhole", here+"/32") }, err
}

// floods measures what others notice of callers that hold or open too much.
func floods(w *world, t *table) error {
	if err := pageMesh(w, 256); err != nil {
		return err
	}
	hold := func(many int, text string) func(stop chan struct{}) {
		return func(stop chan struct{}) {
			var held []net.Conn
			for range many {
				c, err := net.DialTimeout("tcp", w.edge, time.Second)
				if err != nil {
					continue
				}
				c.(*net.TCPConn).SetReadBuffer(4 << 10)
				io.WriteString(c, text)
				held = append(held, c)
			}
			<-stop
			for _, c := range held {
				c.Close()
			}
		}
	}
	flood := func(stop chan struct{}) {
		for {
			select {
			case <-stop:
				return
			default:
			}
			if c, err := net.DialTimeout("tcp", w.edge, time.Second); err == nil {
				c.(*net.TCPConn).SetLinger(0)
				c.Close()
			}
		}
	}
	resets := func(stop chan struct{}) {
		for {
			select {
			case <-stop:
				return
			default:
				rapidReset(w.edge, 20_000)
			}
		}
	}
	for _, c := range []struct {
		what        string
		descriptors int
		do          func(chan struct{})
	}{
		{"300 idle connections, of 256 descriptors", 256, hold(300, "")},
		{"3,000 slow heads, of 256 descriptors", 256, hold(3000, "GET / HT")},
		{"3,000 slow heads", 0, hold(3000, "GET / HT")},
		{"1,000 stalled uploads", 0, hold(1000, "POST /page/x HTTP/1.1\r\nHost: e\r\nContent-Length: 100000\r\n\r\nabc")},
		{"1,000 readers that read nothing", 0, hold(1000, "GET /page/large HTTP/1.1\r\nHost: e\r\n\r\n")},
		{"new connections without end", 0, flood},
		{"streams that are reset, 20,000 a connection", 0, resets},
	} {
		kill(w.door)
		if err := w.startGateway(c.descriptors); err != nil {
			return err
		}
		if err := w.await("the gateway", func() bool {
			resp, err := http.Get("http://" + w.edge + "/page/x")
			if err == nil {
				resp.Body.Close()
			}
			return err == nil && resp.StatusCode == http.StatusOK
		}); err != nil {
			return err
		}
		http.DefaultClient.CloseIdleConnections()
		quiet := w.call("page", 200)
		time.Sleep(5 * time.Second)
		quiet.stop()
		base := quiet.p99()
		stop := make(chan struct{})
		var attack sync.WaitGroup
		attack.Go(func() { c.do(stop) })
		time.Sleep(4 * time.Second) // the timeout of what holds a place is over
		page := w.call("page", 200)
		time.Sleep(5 * time.Second)
		page.stop()
		close(stop)
		attack.Wait()
		p99 := page.p99()
		t.row(c.what, fmt.Sprintf("p99 %s, in quiet %s, %s", p99.Round(10*time.Microsecond), base.Round(10*time.Microsecond), page.success()), "≤ 3 × quiet, all", len(page.fails) == 0 && p99 <= 3*base)
		if len(page.fails) > 0 {
			w.explain()
		}
	}
	return nil
}

// rapidReset opens streams and resets each at once, until the connection ends.
func rapidReset(addr string, many int) {
	conn, err := net.DialTimeout("tcp", addr, time.Second)
	if err != nil {
		return
	}
	defer conn.Close()
	go io.Copy(io.Discard, conn)
	var block bytes.Buffer
	e := hpack.NewEncoder(&block)
	e.SetMaxDynamicTableSize(0)
	for _, f := range [][2]string{{":method", "GET"}, {":scheme", "http"}, {":authority", "e"}, {":path", "/page/x"}} {
		e.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
	}
	w := bufio.NewWriterSize(conn, 16<<10)
	w.WriteString(http2.ClientPreface)
	f := http2.NewFramer(w, nil)
	f.WriteSettings()
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	for i := range many {
		id := uint32(2*i + 1)
		if f.WriteHeaders(http2.HeadersFrameParam{StreamID: id, BlockFragment: block.Bytes(), EndHeaders: true, EndStream: true}) != nil || f.WriteRSTStream(id, http2.ErrCodeCancel) != nil {
			return
		}
	}
	w.Flush()
}

// stores starts the service on an empty directory by mistake, and on the right one
// again.
func stores(w *world, t *table) error {
	if err := pageMesh(w, 0); err != nil {
		return err
	}
	page := w.call("page", 200)
	time.Sleep(time.Second)
	kill(w.serve)
	if err := w.startService("empty"); err != nil {
		return err
	}
	refusing := func() (n int) {
		f, _ := w.client.Fleet(w.ctx)
		for _, p := range f.Proxies {
			if p.State == control.Refuses {
				n++
			}
		}
		return n
	}
	err := w.await("refusals", func() bool { return refusing() == 3 })
	told := refusing()
	time.Sleep(2 * time.Second)
	kill(w.serve)
	if err := w.startService("data"); err != nil {
		return err
	}
	back := w.await("the fleet", func() bool { return refusing() == 0 })
	time.Sleep(2 * time.Second)
	page.stop()
	t.row("the service on an empty directory", fmt.Sprintf("page %s, %d of 3 proxies refuse it", page.success(), told), "all, 3 of 3", err == nil && back == nil && len(page.fails) == 0)
	return nil
}
