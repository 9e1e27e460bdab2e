package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
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
