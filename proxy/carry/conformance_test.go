package carry

import (
	"fmt"
	"io"
	"net/http"
	"nightjar/wire"
	"strings"
	"testing"
)

// echo answers with what it got, so that a test can see what reached it.
func echo(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/status/204", "/status/304":
		w.Header().Set("Etag", "x")
		w.WriteHeader(map[string]int{"/status/204": 204, "/status/304": 304}[r.URL.Path])
		return
	case "/trailer":
		w.Header().Set("Trailer", "X-Sum")
		io.WriteString(w, "with a trailer\n")
		for k, v := range map[string]string{"X-Sum": "7", http.TrailerPrefix + wire.HeaderCaller: "workload", http.TrailerPrefix + "Set-Cookie": "X-Secret=1"} {
			w.Header().Set(k, v)
		}
		return
	case "/hinted":
		for k, v := range map[string]string{"Link": "</a>", "Connection": "X-Hop", "X-Hop": "of this hop", "Keep-Alive": "1"} {
			if k == "Link" || r.ProtoMajor == 1 {
				w.Header().Set(k, v)
			}
		}
		w.WriteHeader(http.StatusEarlyHints)
		clear(w.Header())
		return
	case "/flushed":
		io.WriteString(w, "one\n")
		w.(http.Flusher).Flush()
		io.WriteString(w, "two\n")
		return
	case "/sized":
		io.WriteString(w, "hello")
		return
	case "/reason":
		w.Header().Set(wire.HeaderReason, "timeout")
		return
	}
	w.Header().Set("Connection", "X-Hop")
	w.Header().Set("X-Hop", "of this hop alone")
	w.Header().Set("X-Kept", "yes")
	body, _ := io.ReadAll(r.Body)
	fmt.Fprintf(w, "%s %s host=%s body=%d\n", r.Method, r.RequestURI, r.Host, len(body))
	for _, k := range []string{"X-Named", "Keep-Alive", "Te", "Via", "User-Agent", "Forwarded", wire.HeaderCaller, wire.HeaderAsk, wire.HeaderReason, "X-Two"} {
		if v := r.Header[k]; v != nil {
			fmt.Fprintf(w, "%s=%q\n", k, v)
		}
	}
	if r.Header.Get(wire.HeaderTimeLeft) == "" {
		fmt.Fprintln(w, "no time left told")
	}
}

// conformance is what every bearer has to do, in every protocol that callers speak.
var conformance = []struct {
	name, request string
	want, not     []string
}{
	{"the path goes as it came", get("/a%2Fb//c%20d/?q=%41&r"), []string{"GET /a%2Fb//c%20d/?q=%41&r host=s body=0"}, nil},
	{"a path that begins with two slashes", get("//a/b"), []string{"GET //a/b host=s"}, nil},
	{"absolute form names the service", "GET http://s.internal:80/x HTTP/1.1\r\nHost: ignored\r\nConnection: close\r\n\r\n", []string{"GET /x host=s.internal:80"}, nil},
	{"rewrite of path and host", get("/old/times/now"), []string{"GET /new/times/now host=other.example"}, nil},
	{"fields of one hop stay behind", get("/", "Connection: x-named", "X-Named: 1", "Keep-Alive: timeout=9", "TE: gzip"), []string{"X-Kept: yes"}, []string{"X-Named=", "Keep-Alive=", "Te=", "X-Hop"}},
	{"Via in both directions, and no agent added", get("/"), []string{"Via: 1.1 nightjar", `Via=["1.1 nightjar"]`}, []string{"User-Agent=", "no time left told"}},
	{"only the mesh says who calls", get("/", wire.HeaderCaller+": somebody", wire.HeaderReason+": denied"), []string{wire.HeaderCaller + `=["caller"]`}, []string{"somebody", wire.HeaderReason + "=", wire.HeaderAsk}},
	{"several values stay several", get("/", "X-Two: a", "X-Two: b"), []string{`X-Two=["a" "b"]`}, nil},
	{"who answered, when asked", get("/", wire.HeaderAsk+": route"), []string{wire.HeaderAnswered + `: s/v1; instance="s-v1-a"; revision=7; route="rest"`}, []string{wire.HeaderAsk + "="}},
	{"not said when not asked", get("/"), nil, []string{wire.HeaderAnswered}},
	{"a body of known length", "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 5\r\n\r\nhello", []string{"POST / host=s body=5"}, nil},
	{"a chunked body", "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n", []string{"body=3"}, nil},
	{"HEAD has no body", "HEAD / HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"200 OK", "X-Kept: yes"}, []string{"host="}},
	{"conflicting lengths", "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nhello!", []string{"400 Bad Request"}, []string{"host="}},
	{"a bad chunk", "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nabc\r\n", nil, []string{"200 OK"}},
	{"a header line broken in two", "GET / HTTP/1.1\r\nHost: s\r\nX y: 1\r\n\r\n", []string{"400 Bad Request"}, []string{"host="}},
	{"dots in the path", get("/a/../b"), []string{"400 Bad Request", "error=http_request_error", "bad-request"}, []string{"host="}},
	{"no tunnels", "CONNECT s:443 HTTP/1.1\r\nHost: s:443\r\nConnection: close\r\n\r\n", []string{"400 Bad Request", "opens no tunnels"}, []string{"200 OK"}},
	{"nobody of that name", "GET / HTTP/1.1\r\nHost: ghost\r\nConnection: close\r\n\r\n", []string{"404 Not Found", `error=destination_not_found`, `no service "ghost"`}, nil},
	{"nobody listens there", get("/gone"), []string{"502 Bad Gateway", "error=connection_refused", "unreachable", "rule: route gone of s, hop.yaml:6:9"}, nil},
	{"its proxy cannot reach the workload", "GET / HTTP/1.1\r\nHost: refusing\r\nConnection: close\r\n\r\n", []string{"502 Bad Gateway", "unreachable: refusing-v1-b: its proxy could not reach"}, []string{wire.HeaderReason}},
	{"headers changed both ways", get("/headed", "X-Two: a", "X-Named: b", "User-Agent: curl"), []string{`X-Two=["c" "d"]`, `X-Named=["b" "e"]`, "X-Kept: no", "X-Added: 1"}, []string{"User-Agent=", "Content-Type:"}},
	{"a redirect", get("/away/a%2Fb?c=d"), []string{"308 Permanent Redirect", "Location: /there/a%2Fb?c=d", "X-Added: 2", "Content-Length: 0"}, []string{"host="}},
	{"a redirect leads to no other host", get("/away//evil.example"), []string{"Location: /there//evil.example"}, nil},
	{"a fixed reply", get("/said"), []string{"418 I'm a teapot", "X-Pot: tea", "Content-Type: text/plain", "Content-Length: 16", "short and stout"}, []string{"host=", "Proxy-Status"}},
	{"a fixed reply to HEAD", "HEAD /said HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"418 I'm a teapot", "Content-Length: 16"}, []string{"short and stout"}},
	{"within the limit", get("/limited", "X-K: 1"), []string{"200 OK", `RateLimit: "limited";r=0;t=3600`, `RateLimit-Policy: "limited";q=1;w=3600`}, nil},
	{"over the limit", get("/limited", "X-K: 1"), []string{"429 Too Many Requests", "Retry-After: 3600", `RateLimit: "limited";r=0;t=3600`, "error=http_request_denied", "limited: route limited lets 1/h"}, []string{"host="}},
	{"the limit of another", get("/limited", "X-K: 2"), []string{"200 OK"}, nil},
	{"harm on purpose", get("/harmed"), []string{"503 Service Unavailable", "fault: route harmed injects failures into 100% of its requests", "rule: route harmed of s"}, []string{"host="}},
	{"outside by TLS, not trusted", get("/secure"), []string{"502 Bad Gateway", "error=tls_certificate_error", "tls: office@127.0.0.1:"}, nil},
	{"a problem as JSON for those who take it", get("/gone", "Accept: application/json"), []string{"application/problem+json", `"reason":"unreachable"`, `"status":502`}, nil},
	{"an empty path segment goes as it came", get("/x//y"), []string{"GET /x//y host=s"}, nil},
	{"an empty segment that leads elsewhere", get("//gone"), []string{"400 ", "bad-request", "can be read in two ways"}, []string{"host="}},
	{"a parameter that leads elsewhere", get("/gone;a=b"), []string{"400 ", "bad-request"}, []string{"host="}},
	{"dots with a parameter", get("/a/..;/gone"), []string{"400 ", "bad-request"}, []string{"host="}},
	{"an encoded slash that leads elsewhere", get("/old%2Fx"), []string{"400 ", "bad-request"}, []string{"host="}},
	{"a percent sign alone", get("/a%zz"), []string{"400 "}, []string{"host="}},
	{"a host by its spelling", "GET /hosted HTTP/1.1\r\nHost: S.Internal:80\r\nConnection: close\r\n\r\n", []string{"200 OK", "host=S.Internal:80"}, nil},
	{"the limit of that host, spelt otherwise", "GET /per-host HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"200 OK"}, nil},
	{"and once more", "GET /per-host HTTP/1.1\r\nHost: S.:8080\r\nConnection: close\r\n\r\n", []string{"429 Too Many"}, nil},
	{"a condition on the header Host", "GET /for-ship HTTP/1.1\r\nHost: S.Internal\r\nConnection: close\r\n\r\n", []string{"418 "}, []string{"host="}},
	{"OPTIONS for all", "OPTIONS * HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"200 OK", "OPTIONS * host=s"}, nil},
	{"OPTIONS for all of nobody", "OPTIONS * HTTP/1.1\r\nHost: ghost\r\nConnection: close\r\n\r\n", []string{"404 Not Found", "no-route"}, nil},
	{"a star for a path", "GET * HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"400 "}, []string{"host="}},
	{"a host that is none", "GET / HTTP/1.1\r\nHost: a b\r\nConnection: close\r\n\r\n", []string{"400 "}, []string{"host="}},
	{"204 has no body", get("/status/204"), []string{"204 No Content"}, []string{"Content-Length", "chunked"}},
	{"304 has none either", get("/status/304"), []string{"304 Not Modified", "Etag: x"}, []string{"chunked"}},
	{"a trailer", get("/trailer"), []string{"X-Sum: 7"}, []string{"X-Secret", "Nightjar-Caller: workload", "Set-Cookie"}},
	{"an interim answer", get("/hinted"), []string{"103 Early Hints", "Link: </a>", "200 OK"}, []string{"X-Hop: of", "Keep-Alive"}},
	{"an answer of unknown length", get("/flushed"), []string{"200 OK", "one", "two"}, nil},
	{"HEAD keeps the length", "HEAD /sized HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n", []string{"200 OK", "Content-Length: 5"}, []string{"hello"}},
	{"nothing of the mesh from the workload", get("/reason"), []string{"200 OK"}, []string{wire.HeaderReason}},
}

// TestConformance plays the table on all bearers in every protocol that they carry: HTTP/1.0,
// 1.1, and 2 without TLS.
func TestConformance(t *testing.T) {
	conform := func(t *testing.T, kind string, protocols ...string) {
		for _, protocol := range protocols {
			h := newHop(t, kind, "", http.HandlerFunc(echo)) // of its own, since limits count
			for _, c := range conformance {
				if !speakable(protocol, c.request) {
					continue
				}
				t.Run(protocol+"/"+c.name, func(t *testing.T) {
					got := h.ask(t, protocol, c.request)
					if strings.HasPrefix(got, "reset: PROTOCOL_ERROR") && len(c.want) > 0 && c.want[0] == "400 " {
						return // what HTTP/2 has in place of it
					}
					got = strings.NewReplacer("Ratelimit", "RateLimit").Replace(got) // names of HTTP/2 have no case
					for _, w := range c.want {
						if protocol == "1.0" && (strings.Contains(w, "103 ") || strings.Contains(w, "X-Sum") || strings.HasPrefix(w, "Link")) {
							continue // it has neither interim answers nor trailers
						}
						if kind == "h2" && w == "Via: 1.1 nightjar" { // of the answer
							w = "Via: 2 nightjar"
						}
						if w = strings.ReplaceAll(w, `Via=["1.1 nightjar"`, `Via=["`+protocol+` nightjar"`); !strings.Contains(got, w) {
							t.Errorf("lacks %q:\n%s", w, got)
						}
					}
					for _, n := range c.not {
						if strings.Contains(got, n) {
							t.Errorf("has %q:\n%s", n, got)
						}
					}
				})
			}
		}
	}
	each(t, func(t *testing.T, kind string) { conform(t, kind, "1.1", "1.0", "2") })
	t.Run("h2", func(t *testing.T) { conform(t, "h2", "2") })
}

// speakable tells whether a request of the table can be said in a protocol.
func speakable(protocol, request string) bool {
	is := func(part string) bool { return strings.Contains(request, part) }
	switch protocol {
	case "1.0":
		return !is("chunked") && !is("http://") && !is("CONNECT") && !is("X y")
	case "2":
		return !is("chunked") && !is("http://") && !is("CONNECT") && !is("X y") && !is("Content-Length: 6") && !is("TE: gzip") && !is("Keep-Alive")
	}
	return true
}

// ask sends a request of HTTP/1.1 in a protocol and returns the answer.
func (h hop) ask(t *testing.T, protocol, request string) string {
	t.Helper()
	switch protocol {
	case "1.0":
		return h.raw(t, strings.Replace(request, " HTTP/1.1\r\n", " HTTP/1.0\r\n", 1))
	case "2":
		c := rawHTTP2To(t, h.url)
		fields, body := asHTTP2(request)
		c.send(1, fields, body)
		return c.answer(1)
	}
	return h.raw(t, request)
}
