package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"nightjar/api/model"
	"sync"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// attack is something that a caller does to a gateway until stop is closed.
type attack struct {
	what        string
	descriptors int // of the gateway; 0: as many as there are
	do          func(w *world, stop chan struct{})
}

var attacks = []attack{
	{"300 idle connections, of 256 descriptors", 256, hold(300, "")},
	{"3,000 slow heads, of 256 descriptors", 256, hold(3000, "GET / HT")},
	{"3,000 slow heads", 0, hold(3000, "GET / HT")},
	{"1,000 stalled uploads", 0, hold(1000, "POST /page/x HTTP/1.1\r\nHost: e\r\nContent-Length: 100000\r\n\r\nabc")},
	{"1,000 readers that read nothing", 0, hold(1000, "GET /page/large HTTP/1.1\r\nHost: e\r\n\r\n")},
	{"new connections without end", 0, again(open)},
	{"streams that are reset, 20,000 a connection", 0, again(rapidReset)},
}

// hold opens connections, says the same on each, and keeps them.
func hold(many int, text string) func(*world, chan struct{}) {
	return func(w *world, stop chan struct{}) {
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

// again does something until stop is closed.
func again(do func(addr string)) func(*world, chan struct{}) {
	return func(w *world, stop chan struct{}) {
		for {
			select {
			case <-stop:
				return
			default:
				do(w.edge)
			}
		}
	}
}

// open opens a connection and drops it.
func open(addr string) {
	if c, err := net.DialTimeout("tcp", addr, time.Second); err == nil {
		c.(*net.TCPConn).SetLinger(0)
		c.Close()
	}
}

// floods measures what others notice of callers that hold or open too much.
func floods(w *world, t *table) error {
	if err := pageMesh(w, 256); err != nil {
		return err
	}
	return w.suffer(t, attacks)
}

// suffer measures attacks, one after the other.
func (w *world) suffer(t *table, attacks []attack) error {
	for _, c := range attacks {
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
		var attackers sync.WaitGroup
		attackers.Go(func() { c.do(w, stop) })
		time.Sleep(4 * time.Second) // the timeout of what holds a place is over
		page := w.call("page", 200)
		time.Sleep(5 * time.Second)
		page.stop()
		size := memory(w.door.Process.Pid)
		close(stop)
		attackers.Wait()
		p99 := page.p99()
		t.row(c.what, fmt.Sprintf("p99 %s, in quiet %s, %s, %.0f MiB", p99.Round(10*time.Microsecond), base.Round(10*time.Microsecond), page.success(), size), "≤ 3 × quiet, all", len(page.fails) == 0 && p99 <= 3*base)
		if len(page.fails) > 0 {
			w.explain()
		}
	}
	return nil
}

// rapidReset opens 20,000 streams and resets each at once, until the connection ends.
func rapidReset(addr string) {
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
	for i := range 20_000 {
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
			if p.State == model.ProxyRejecting {
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
