package carry

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// TestGatewayTrustsNobody: what an outsider says of where it comes from, of how long
// it waits, and in the name of the mesh goes no further; nor does what a workload
// says in that name come out.
func TestGatewayTrustsNobody(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		claims := []string{wire.HeaderCaller + ": kiosk", wire.HeaderTimeLeft + ": 1", wire.HeaderAnswered + ": x", "nightjar-ghost: x", wire.HeaderMirror + ": 1",
			"Forwarded: for=1.2.3.4", "x-forwarded-for: 1.2.3.4", "X-Forwarded-Host: a", "X-Real-IP: 1.2.3.4", "grpc-timeout: 1n", "X-Forward: stays"}
		got := make(chan http.Header, 1)
		h := newHop(t, kind, "edge", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			got <- r.Header
			w.Header().Set(wire.HeaderAnswered, "somebody")
			w.Header().Set("Nightjar-Ghost", "somebody")
		}))
		for _, protocol := range []string{"1.0", "1.1", "2"} {
			answer := h.ask(t, protocol, get("/", append(claims, "Via: 1.0 far", "X-Odd: 1")...))
			if !strings.Contains(answer, "200 OK") || strings.Contains(strings.ToLower(answer), "nightjar-") || strings.Count(answer, "nightjar") != 1 {
				t.Errorf("HTTP/%s: got\n%s", protocol, answer)
			}
			var names []string
			fields := <-got
			for name := range fields {
				names = append(names, name)
			}
			slices.Sort(names)
			want := []string{"Forwarded", wire.HeaderCaller, wire.HeaderTimeLeft, "Traceparent", "Via", "X-Forward", "X-Named", "X-Odd", "X-Two"}
			if !slices.Equal(names, want) {
				t.Errorf("HTTP/%s: the workload got %v, want %v", protocol, names, want)
			}
			if v := fmt.Sprint(fields[wire.HeaderCaller], fields["Forwarded"], fields["Via"]); v != fmt.Sprintf(`[caller] [for="127.0.0.1";host="s";proto=http] [1.0 far %s nightjar]`, protocol) {
				t.Errorf("HTTP/%s: the workload got %s", protocol, v)
			}
			if left := fields.Get(wire.HeaderTimeLeft); len(left) < 4 {
				t.Errorf("HTTP/%s: the outsider sets how long the workload may take: %s ms", protocol, left)
			}
		}
	})
}

// TestEditsOfTwoRoutes: what the gateway's route does to a header comes first on the
// way in, and last on the way out.
func TestEditsOfTwoRoutes(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "edge", http.HandlerFunc(echo))
		got := h.raw(t, get("/headed", "X-Two: a", "X-Named: b"))
		for _, w := range []string{`X-Two=["c" "d"]`, `X-Named=["b" "g" "e"]`, "X-Kept: no\r\n", "X-Added: g\r\n"} {
			if !strings.Contains(got, w) {
				t.Errorf("lacks %q:\n%s", w, got)
			}
		}
		if strings.Contains(got, "X-Added: 1") || strings.Contains(got, `"g" "c"`) {
			t.Errorf("got\n%s", got)
		}
	})
}

// TestNamedAsHopByHop: fields that the caller names as belonging to its connection
// end there, and what the hop itself says does not.
func TestNamedAsHopByHop(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		for _, gateway := range []string{"", "edge"} {
			h := newHop(t, kind, gateway, http.HandlerFunc(echo))
			request := "GET / HTTP/1.1\r\nHost: s\r\nConnection: close, Forwarded, Via, " + wire.HeaderCaller + ", X-Named\r\nForwarded: for=a\r\nVia: 1.0 far\r\nX-Named: 1\r\n\r\n"
			got := h.raw(t, request)
			if !strings.Contains(got, `Via=["1.1 nightjar"]`) || !strings.Contains(got, wire.HeaderCaller+`=["caller"]`) || strings.Contains(got, "for=a") || strings.Contains(got, `"1"`) ||
				strings.Contains(got, "Forwarded=") != (gateway != "") {
				t.Errorf("gateway %q: got\n%s", gateway, got)
			}
		}
	})
}

// TestRefusalsToOutsiders: an outsider is told the status, the reason and an id, by
// which those inside find everything; a member is told all at once.
func TestRefusalsToOutsiders(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "edge", http.HandlerFunc(echo))
		h.router.Key = func() string { return "the key" }
		inside := []string{"s-v2", "127.0.0.1:1", "hop.yaml", "route ", "caller-a", "connection refused", wire.HeaderAnswered}
		tells := func(got string) (told []string) {
			for _, w := range inside {
				if strings.Contains(got, w) {
					told = append(told, w)
				}
			}
			return told
		}
		for _, c := range []struct{ protocol, request, status string }{
			{"1.1", get("/gone"), "502 "},
			{"1.1", get("/gone", "Accept: application/json"), "502 "},
			{"1.1", get("/gone", wire.HeaderAsk+": route"), "502 "},
			{"1.1", "nonsense\r\n\r\n", "400 "},
			{"1.1", get("/a/../b"), "400 "},
			{"2", get("/gone"), "502 "},
			{"2", get("/gone", "Content-Type: application/grpc"), "Grpc-Message: unreachable: request "},
		} {
			if kind == "general" && strings.HasPrefix(c.request, "nonsense") {
				continue // net/http answers it
			}
			got := h.ask(t, c.protocol, c.request)
			if told := tells(got); told != nil || !strings.Contains(got, c.status) {
				t.Errorf("%.60q over HTTP/%s tells %q:\n%s", c.request, c.protocol, told, got)
			}
			_, id, _ := strings.Cut(got, wire.HeaderRequest+": ")
			id, _, _ = strings.Cut(id, "\r\n")
			found := false
			waitFor(t, func() bool {
				_, trouble := h.router.Observe.Feed.Take()
				for _, r := range trouble {
					found = found || r.ID == id && r.Detail != "" && !strings.Contains(r.Detail, id)
				}
				return found
			})
		}
		got := h.raw(t, get("/gone", wire.HeaderAsk+": the key"))
		if told := tells(got); len(told) != len(inside) {
			t.Errorf("the mesh's own call is told %q:\n%s", told, got)
		}
		if got := h.raw(t, get("/", wire.HeaderAsk+": another key")); strings.Contains(got, wire.HeaderAnswered) {
			t.Errorf("anybody can ask:\n%s", got)
		}
	})
}

// TestOutsidersTraces: at a gateway the share decides which traces are kept, whatever
// the flag that came says.
func TestOutsidersTraces(t *testing.T) {
	for _, share := range []float64{0, 1} {
		o := &observe.Observer{IsGateway: true, Spans: &observe.Spans{}}
		o.Spans.SetShare(share)
		for _, flag := range []string{"00", "01"} {
			trace := o.Trace([]string{"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-" + flag}, true)
			field := trace.Field(0)
			if trace.Sampled != (share == 1) || strings.HasSuffix(string(field[:]), "-01") != (share == 1) || !strings.HasPrefix(string(field[:]), "00-4bf92f3577b34da6a3ce929d0e0e4736-") || !trace.Own {
				t.Errorf("share %g, flag %s: sampled %t, goes on as %s", share, flag, trace.Sampled, field)
			}
		}
	}
}

// TestNamesOfCallers: whatever a caller says that it is called, what is counted can
// be shown and exported.
func TestNamesOfCallers(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		c := newChain(t, kind, "", "", app(t, func(http.ResponseWriter, *http.Request) {}))
		for _, name := range []string{"\xff\xfe", strings.Repeat("x", 5000), "kiosk"} {
			if got := c.inbound.raw(t, get("/", wire.HeaderCaller+": "+name)); !strings.Contains(got, "200 OK") {
				t.Errorf("got\n%.200s", got)
			}
		}
		list, _ := c.served.Collect(engine.Instance{})
		counted := map[string]uint64{}
		for _, s := range list {
			counted[s.Caller] += s.Counts.OK
		}
		if len(counted) != 2 || counted[wire.Other] != 2 || counted["kiosk"] != 1 {
			t.Errorf("counted: %v", counted)
		}
	})
}

// TestWhoLeavesHurtsNobody: callers who leave just when their answer comes fail no request
// of others on the same connections behind.
func TestWhoLeavesHurtsNobody(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
		stop := time.Now().Add(4 * time.Second)
		var callers sync.WaitGroup
		for range 4 {
			callers.Go(func() {
				for time.Now().Before(stop) {
					conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
					if err != nil {
						continue
					}
					io.WriteString(conn, "GET /a HTTP/1.1\r\nHost: s\r\n\r\n")
					time.Sleep(time.Duration(rand.IntN(1000)) * time.Microsecond)
					conn.Close()
				}
			})
			callers.Go(func() {
				var others http.Transport
				defer others.CloseIdleConnections()
				for n := 0; time.Now().Before(stop) || n == 0; n++ {
					r, _ := http.NewRequest("GET", h.url+"/b", nil)
					r.Host = "s"
					resp, err := others.RoundTrip(r)
					if err != nil {
						t.Error(err)
						return
					}
					b, _ := io.ReadAll(resp.Body)
					if resp.Body.Close(); resp.StatusCode != 200 {
						t.Errorf("another caller's request %d: %s %s", n, resp.Status, b)
					}
				}
			})
		}
		callers.Wait()
	})
}
