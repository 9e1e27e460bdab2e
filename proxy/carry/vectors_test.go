package carry

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/wire"
)

// hidden is a request inside another, for a server that reads the outer one in
// another way.
const hidden = "GET /hidden HTTP/1.1\r\nHost: s\r\n\r\n"

// vectors are what is known to make two servers in a row see different requests,
// or to put a line of its own into what one sends to the next.
func vectors() map[string]string {
	post := func(fields, body string) string {
		fields = strings.NewReplacer("LEN", strconv.Itoa(len(body)), "HEX", fmt.Sprintf("%x", len(body))).Replace(fields)
		return "POST /a HTTP/1.1\r\nHost: s\r\n" + fields + "\r\n" + body
	}
	line := func(first string) string { return first + "\r\nHost: s\r\n\r\n" }
	field := func(f string) string { return "GET /a HTTP/1.1\r\nHost: s\r\n" + f + "\r\n\r\n" }
	const ended = "0\r\n\r\n" + hidden // chunks that end before it
	chunk := fmt.Sprintf("%x\r\n%s\r\n0\r\n\r\n", len(hidden), hidden)
	return map[string]string{
		"length before chunks":         post("Content-Length: LEN\r\nTransfer-Encoding: chunked\r\n", ended),
		"chunks before length":         post("Transfer-Encoding: chunked\r\nContent-Length: 4\r\n", chunk),
		"chunks and their length":      post("Transfer-Encoding: chunked\r\nContent-Length: LEN\r\n", ended),
		"chunked with a space before":  post("Transfer-Encoding : chunked\r\nContent-Length: LEN\r\n", ended),
		"chunked, folded":              post("Transfer-Encoding:\r\n chunked\r\nContent-Length: LEN\r\n", ended),
		"chunked, misspelt":            post("Transfer-Encoding: xchunked\r\nContent-Length: LEN\r\n", ended),
		"chunked, quoted":              post("Transfer-Encoding: \"chunked\"\r\nContent-Length: LEN\r\n", ended),
		"chunked twice":                post("Transfer-Encoding: chunked\r\nTransfer-Encoding: identity\r\nContent-Length: LEN\r\n", ended),
		"chunked after a tab":          post("Transfer-Encoding:\tchunked\r\nContent-Length: LEN\r\n", ended),
		"chunked in another name":      post("X: y\rTransfer-Encoding: chunked\r\nContent-Length: LEN\r\n", ended),
		"two lengths":                  post("Content-Length: 0\r\nContent-Length: LEN\r\n", hidden),
		"two lengths, turned round":    post("Content-Length: LEN\r\nContent-Length: 0\r\n", hidden),
		"a length with a sign":         post("Content-Length: +LEN\r\n", hidden),
		"a length in a list":           post("Content-Length: 0, LEN\r\n", hidden),
		"a length with a space before": post("Content-Length : LEN\r\n", hidden),
		"a length after a lone return": post("X: a\rContent-Length: LEN\r\n", hidden),
		"the length named as of a hop": post("Connection: content-length\r\nContent-Length: LEN\r\n", hidden),
		"a body of GET":                strings.Replace(post("Content-Length: LEN\r\n", hidden), "POST", "GET", 1),
		"a chunk size too long":        post("Transfer-Encoding: chunked\r\n", "10000000000000000\r\n"+ended),
		"a chunk extension in lines":   post("Transfer-Encoding: chunked\r\n", "2;\nxx\r\n2f\r\n"+ended),
		"a chunk that is longer":       post("Transfer-Encoding: chunked\r\n", "1\r\nab\r\n"+ended),
		"a trailer that sets length":   post("Transfer-Encoding: chunked\r\nTrailer: Content-Length\r\n", "0\r\nContent-Length: 36\r\n\r\n"+hidden),
		"line feeds alone":             "POST /a HTTP/1.1\nHost: s\nContent-Length: 0\n\n" + hidden,
		"chunks in HTTP/1.0":           strings.Replace(post("Connection: keep-alive\r\nTransfer-Encoding: chunked\r\n", ended), "/1.1", "/1.0", 1),
		"two hosts":                    "GET /a HTTP/1.1\r\nHost: s\r\nHost: ghost\r\n\r\n",
		"a host in the target":         "GET http://s/a HTTP/1.1\r\nHost: ghost\r\n\r\n",
		"a request in the target":      "GET /a\x0bHTTP/1.1\r\nX:/hidden HTTP/1.1\r\nHost: s\r\n\r\n",
		"an upgrade to HTTP/2":         "GET /a HTTP/1.1\r\nHost: s\r\nConnection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABkAAQAAP__\r\n\r\n",
		"a tail after an upgrade":      "GET /a HTTP/1.1\r\nHost: s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n" + hidden,
		"chunked in capitals":          post("Transfer-Encoding: CHUNKED\r\nContent-Length: LEN\r\n", ended),
		"chunked after another coding": post("Transfer-Encoding: gzip, chunked\r\n", ended),
		"chunked before another":       post("Transfer-Encoding: chunked, gzip\r\nContent-Length: LEN\r\n", ended),
		"chunked with a parameter":     post("Transfer-Encoding: chunked;q=1\r\nContent-Length: LEN\r\n", ended),
		"chunked after a form feed":    post("Transfer-Encoding: \x0cchunked\r\nContent-Length: LEN\r\n", ended),
		"chunked after a zero byte":    post("Transfer-Encoding: chunked\x00\r\nContent-Length: LEN\r\n", ended),
		"identity with chunks":         post("Transfer-Encoding: identity\r\nContent-Length: LEN\r\n", ended),
		"an empty coding":              post("Transfer-Encoding:\r\nContent-Length: LEN\r\n", ended),
		"an underscore for a hyphen":   post("Transfer_Encoding: chunked\r\nContent-Length: LEN\r\n", ended),
		"a length in hexadecimal":      post("Content-Length: 0xHEX\r\n", hidden),
		"a length with a point":        post("Content-Length: LEN.0\r\n", hidden),
		"a negative length":            post("Content-Length: -1\r\n", hidden),
		"a length with an underscore":  post("Content-Length: 1_0\r\n", hidden),
		"a length past all numbers":    post("Content-Length: 18446744073709551616\r\n", hidden),
		"a length with a zero before":  post("Content-Length: 0LEN\r\n", hidden),
		"an empty length":              post("Content-Length:\r\n", hidden),
		"a length in quotes":           post("Content-Length: \"LEN\"\r\n", hidden),
		"a chunk size with a sign":     post("Transfer-Encoding: chunked\r\n", "+0\r\n\r\n"+hidden),
		"a chunk size with 0x":         post("Transfer-Encoding: chunked\r\n", "0x0\r\n\r\n"+hidden),
		"a chunk size with a space":    post("Transfer-Encoding: chunked\r\n", "0 \r\n\r\n"+hidden),
		"chunks that end in a feed":    post("Transfer-Encoding: chunked\r\n", "0\n\n"+hidden),
		"chunks that end in a return":  post("Transfer-Encoding: chunked\r\n", "1\rX\r0\r\r"+hidden),
		"no end of the last chunk":     post("Transfer-Encoding: chunked\r\n", "0\r\n"+hidden),
		"a trailer that sets a coding": post("Transfer-Encoding: chunked\r\n", "0\r\nTransfer-Encoding: chunked\r\nX-Injected: 1\r\n\r\n"+hidden),
		"a trailer in the mesh's name": post("Transfer-Encoding: chunked\r\nTrailer: Nightjar-Caller\r\n", "0\r\nNightjar-Caller: admin\r\n\r\n"),
		"a tab in the first line":      line("GET\t/a\tHTTP/1.1"),
		"two spaces in the first line": line("GET  /a HTTP/1.1"),
		"a space in the target":        line("GET /a b HTTP/1.1"),
		"a zero byte in the target":    line("GET /a\x00b HTTP/1.1"),
		"a fragment in the target":     line("GET /a#/hidden HTTP/1.1"),
		"no version":                   "GET /a\r\n\r\n" + hidden,
		"a version with a tail":        line("GET /a HTTP/1.1 HTTP/1.1"),
		"version 1.2":                  line("GET /a HTTP/1.2"),
		"version 2 in text":            line("GET /a HTTP/2.0"),
		"an absolute form with a user": line("GET http://ghost@s/a HTTP/1.1"),
		"an absolute form by TLS":      line("GET https://s/a HTTP/1.1"),
		"a name with a space":          field("X Injected: 1"),
		"a name with a colon only":     field(": 1"),
		"a name with a bracket":        field("X[Injected]: 1"),
		"a value with a return":        field("X: 1\rX-Injected: 1"),
		"a value with a feed":          field("X: 1\nX-Other: 1"),
		"a value with a zero byte":     field("X: 1\x00X-Injected: 1"),
		"a first field that is folded": "GET /a HTTP/1.1\r\n X-Injected: 1\r\nHost: s\r\n\r\n",
		"a host with a path":           "GET /a HTTP/1.1\r\nHost: s/hidden\r\n\r\n",
		"a host with a user":           "GET /a HTTP/1.1\r\nHost: ghost@s\r\n\r\n",
		"a host with a comma":          "GET /a HTTP/1.1\r\nHost: s, ghost\r\n\r\n",
		"the mesh named as of a hop":   field("Connection: nightjar-time-left, via, x-forwarded-for\r\nX-Forwarded-For: 1"),
		"a tunnel":                     line("CONNECT s:80 HTTP/1.1"),
		"a second preface":             "PRI * HTTP/2.0\r\n\r\nXX\r\n\r\n" + hidden,
	}
}

// vectorsHTTP2 are the same for callers that speak HTTP/2: what could become a line
// of its own, or another request, when it is written on as HTTP/1.1.
func vectorsHTTP2() map[string][][2]string {
	with := func(fields ...[2]string) [][2]string {
		return append([][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/a"}}, fields...)
	}
	instead := func(name, value string) [][2]string {
		out := with()
		for i := range out {
			if out[i][0] == name {
				out[i][1] = value
			}
		}
		return out
	}
	return map[string][][2]string{
		"a path with a request":      instead(":path", "/a HTTP/1.1\r\nHost: s\r\nX-Injected: 1\r\n\r\nGET /hidden"),
		"a path with a space":        instead(":path", "/a HTTP/1.1"),
		"a path with a tab":          instead(":path", "/a\tb"),
		"a path with a feed":         instead(":path", "/a\nX-Injected: 1"),
		"a path with a zero byte":    instead(":path", "/a\x00"),
		"a path with a fragment":     instead(":path", "/a#b"),
		"a path that is a URL":       instead(":path", "http://ghost/a"),
		"a query with a space":       instead(":path", "/a?b c"),
		"a method with a space":      instead(":method", "GET /hidden"),
		"a method with a feed":       instead(":method", "GET\r\nX-Injected: 1"),
		"a host with a feed":         instead(":authority", "s\r\nX-Injected: 1"),
		"a host with a space":        instead(":authority", "s ghost"),
		"a host with a user":         instead(":authority", "ghost@s"),
		"a host and another":         with([2]string{"host", "ghost"}),
		"a scheme with a path":       instead(":scheme", "http://ghost/"),
		"a value with a feed":        with([2]string{"x", "1\r\nX-Injected: 1"}),
		"a name with a feed":         with([2]string{"x\r\nx-injected", "1"}),
		"a name with a colon":        with([2]string{"x-injected: 1\r\nx", "1"}),
		"a name with a space":        with([2]string{"x injected", "1"}),
		"a name in capitals":         with([2]string{"X-Injected", "1"}),
		"chunks":                     with([2]string{"transfer-encoding", "chunked"}),
		"a connection":               with([2]string{"connection", "upgrade"}, [2]string{"upgrade", "h2c"}),
		"a keep-alive":               with([2]string{"keep-alive", "1"}),
		"another te":                 with([2]string{"te", "gzip"}),
		"a length that is too short": with([2]string{"content-length", "1"}),
		"a length that is too long":  with([2]string{"content-length", "900"}),
		"two lengths":                with([2]string{"content-length", "5"}, [2]string{"content-length", "6"}),
		"a field before a pseudo":    append([][2]string{{"x", "1"}}, with()...),
		"two paths":                  with([2]string{":path", "/hidden"}),
		"an unknown pseudo field":    with([2]string{":protocol", "websocket"}),
	}
}

// TestNeverTwoReadings: whatever a hop makes of a vector, the workload sees no more
// requests than the hop read, and each bears the marks of the hops: one that the
// workload found in what they took for a body would not.
func TestNeverTwoReadings(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		for _, where := range []string{"outbound", "gateway", "inbound"} {
			t.Run(where, func(t *testing.T) { neverTwoReadings(t, kind, where) })
		}
	})
}

func neverTwoReadings(t *testing.T, kind, where string) {
	var seen atomic.Int64
	vias := 1 // of the caller's proxy, which stands for both
	workload := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			return
		}
		seen.Add(1)
		w.Header().Set("X-Workload", "saw it")
		isOdd := r.Host != "s" && r.Host != "http" || r.Header["X-Injected"] != nil || r.Header.Get("Upgrade") == "h2c" || r.Trailer["Nightjar-Caller"] != nil
		if len(r.Header["Via"]) != vias || r.Header.Get(wire.HeaderTimeLeft) == "" || isOdd {
			t.Errorf("the workload saw %s %s%s with %v and trailer %v", r.Method, r.Host, r.RequestURI, r.Header, r.Trailer)
		}
	})
	var h hop
	switch where {
	case "inbound":
		vias = 0
		app := httptest.NewServer(workload)
		defer app.Close()
		e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
		defer e.pools.CloseIdle()
		h.url = "http://" + e.listen(newInbound("in", app.Listener.Addr().String()), nil)
	case "gateway":
		h = newHop(t, kind, "edge", workload)
	default:
		h = newHop(t, kind, "", workload)
	}
	check := func(name, got string) {
		t.Helper()
		// The half that the caller closed can cancel a request that the workload saw.
		if n, answers := seen.Load(), int64(strings.Count(got, "saw it")); n < answers || n > 2 {
			t.Errorf("%s: the workload saw %d requests, of which %d were answered:\n%s", name, n, answers, got)
		}
		if after := h.raw(t, get("/after")); strings.Count(after, "HTTP/1.1 ") != 1 || !strings.Contains(after, "200 OK") { // on the same connections behind
			t.Errorf("after %s:\n%s", name, after)
		}
		seen.Store(0)
	}
	for name, text := range vectors() {
		conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		io.WriteString(conn, text)
		conn.(*net.TCPConn).CloseWrite() // what waits for more is over
		got, _ := io.ReadAll(conn)
		conn.Close()
		check(name, string(got))
	}
	for name, fields := range vectorsHTTP2() {
		c := rawHTTP2To(t, h.url)
		c.send(1, fields, []byte("hello"))
		got := c.answer(1)
		c.conn.Close()
		check(name+" (HTTP/2)", got)
	}
}
