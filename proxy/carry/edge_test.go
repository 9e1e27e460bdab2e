package carry

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/edge"
	"nightjar/proxy/observe"
)

// edgeRules are a gateway's. What a test asks of outsiders is put in.
const edgeRules = `
services:
  s:
    versions: [v1]
    routes:
      - {name: crew, when: {path: /crew, claims: {groups: crew}}, send: v1}
      - {name: near, when: {path: /near, address: [1.2.3.0/24, "2001:db8::/32"]}, send: v1}
      - {name: rest, when: {not: {path: /near}}, send: v1}
gateways:
  edge:
    listen: ':80'
    hosts: ['*']
%s
    routes:
      - {name: open, when: {path: /open}, authenticate: none, send: s}
      - {name: limited, when: {path: /limited}, authenticate: none, limit: {rate: 2/h, per: address}, send: s}
      - {name: captains, when: {path: /bridge}, authenticate: {jwt: {issuer: i, audience: bridge, keys: keys.json, require: {rank: captain}}}, send: s}
      - {name: all, send: s}
`

// signer signs tokens that a gateway of newEdge takes.
type signer func(claims map[string]any) string

// newEdge is a gateway whose workload tells which fields it got, by name.
func newEdge(t *testing.T, kind, asks string) (hop, signer) {
	t.Helper()
	h, sign, _ := newEdgeThatChanges(t, kind, asks)
	return h, sign
}

// newEdgeThatChanges is newEdge; change brings other rules into force, as the follower does.
func newEdgeThatChanges(t *testing.T, kind, asks string) (h hop, sign signer, change func(asks string)) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	set, _ := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "k", Use: "sig"}}})
	if err := os.WriteFile(filepath.Join(dir, "keys.json"), set, 0o600); err != nil {
		t.Fatal(err)
	}
	sign = func(claims map[string]any) string {
		all := map[string]any{"iss": "i", "aud": "tickets", "sub": "mara", "exp": time.Now().Add(time.Hour).Unix()}
		for k, v := range claims {
			all[k] = v
		}
		payload, _ := json.Marshal(all)
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "k"}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		signed, _ := s.Sign(payload)
		text, _ := signed.CompactSerialize()
		return text
	}
	workload := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		var lines []string
		for k, v := range r.Header {
			if k == "Forwarded" || strings.HasPrefix(k, "X-") {
				lines = append(lines, k+"="+strings.Join(v, "|"))
			}
		}
		for k, v := range r.Trailer {
			lines = append(lines, "then "+k+"="+strings.Join(v, "|"))
		}
		slices.Sort(lines)
		fmt.Fprintf(w, "body=%d %s\n", n, strings.Join(lines, " "))
	}))
	workload.Config.Protocols = new(http.Protocols)
	workload.Config.Protocols.SetHTTP1(true)
	workload.Config.Protocols.SetUnencryptedHTTP2(true)
	workload.Start()
	t.Cleanup(workload.Close)
	e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	t.Cleanup(func() { e.transport.CloseIdle(); e.pools.CloseIdle() })
	router := newCaller("edge", nil, e.transport)
	t.Cleanup(router.Close)
	keeper := &edge.Keeper{Dir: dir}
	t.Cleanup(keeper.Close)
	router.Edge = new(atomic.Pointer[edge.Edge])
	change = func(asks string) {
		rs, found := rules.Check([]rules.File{{Name: "edge.yaml", Text: fmt.Sprintf(edgeRules, asks)}}, rules.Live{})
		if rules.Mistakes(found) > 0 {
			t.Fatal(found[0].Text())
		}
		table, err := engine.Compile(rs, []engine.Instance{{ID: "s-v1-a", Service: "s", Version: "v1", Address: workload.Listener.Addr().String()}}, engine.Options{Revision: 7})
		if err != nil {
			t.Fatal(err)
		}
		router.Edge.Store(keeper.Follow(rs.Gateway("edge")))
		router.Table.Store(table)
	}
	change(asks)
	rec := observe.NewRecorder(2, "caller")
	return hop{"http://" + e.listen(router, rec), rec, router, nil}, sign, change
}

// TestEdgeChanges: no request fails while rules about tokens change.
func TestEdgeChanges(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		asks := func(field string) string {
			return "    authenticate: {jwt: {issuer: i, audience: tickets, keys: keys.json, fields: {" + field + ": sub}}}"
		}
		h, sign, change := newEdgeThatChanges(t, kind, asks("x-user"))
		token := "Bearer " + sign(nil)
		stop, done := make(chan struct{}), make(chan string, 4)
		for range cap(done) {
			go func() {
				client := &http.Client{Transport: &http.Transport{}}
				defer client.CloseIdleConnections()
				for {
					select {
					case <-stop:
						done <- ""
						return
					default:
					}
					req, _ := http.NewRequest("GET", h.url+"/", nil)
					req.Header.Set("Authorization", token)
					resp, err := client.Do(req)
					if err != nil {
						done <- err.Error()
						return
					}
					body, _ := io.ReadAll(resp.Body)
					if resp.Body.Close(); resp.StatusCode != 200 || !strings.Contains(string(body), "=mara") {
						done <- fmt.Sprint(resp.StatusCode, " ", string(body))
						return
					}
				}
			}()
		}
		for i := range 500 {
			change(asks([]string{"x-user", "x-name"}[i%2]))
			time.Sleep(time.Millisecond) // a proxy takes longer
		}
		close(stop)
		for range cap(done) {
			if what := <-done; what != "" {
				t.Error(what)
			}
		}
	})
}

// protocols are all ways of asking. What is asked over HTTP/2 as gRPC is carried by h2.
var protocols = []string{"1.0", "1.1", "2", "grpc"}

func (h hop) askBy(t *testing.T, protocol, request string) string {
	t.Helper()
	if protocol == "grpc" {
		return h.ask(t, "2", strings.Replace(request, "\r\n", "\r\nContent-Type: application/grpc\r\n", 1))
	}
	return h.ask(t, protocol, request)
}

// TestEdgeTokens: a token decides who comes in, where to, and what the workload is told; what
// an outsider writes in the place of a claim goes no further.
func TestEdgeTokens(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h, sign := newEdge(t, kind, "    authenticate: {jwt: {issuer: i, audience: tickets, keys: keys.json, fields: {x-user: sub, x-groups: groups}}}")
		bearer := func(claims map[string]any) string { return "Authorization: bearer " + sign(claims) }
		crew := map[string]any{"groups": []string{"crew", "night"}}
		for _, protocol := range protocols {
			for _, c := range []struct {
				name, path, auth string
				status           string // of HTTP
				grpc             string
				want             string // of what the workload got; empty: it got nothing
			}{
				{"no token", "/", "", "401", "16", ""},
				{"another scheme", "/", "Authorization: Basic bTpt", "401", "16", ""},
				{"a good one", "/", bearer(nil), "200", "", "X-User=mara"},
				{"with claims", "/crew", bearer(crew), "200", "", "X-Groups=crew|night X-User=mara"},
				{"a bad one", "/", bearer(nil) + "x", "401", "16", ""},
				{"another audience", "/", bearer(map[string]any{"aud": "office"}), "401", "16", ""},
				{"two", "/", bearer(nil) + "\r\n" + bearer(crew), "401", "16", ""},
				{"nobody asks", "/open", "", "200", "", "Forwarded="},
				{"a route's own, for another", "/bridge", bearer(nil), "401", "16", ""},
				{"a route's own, without its claim", "/bridge", bearer(map[string]any{"aud": "bridge", "rank": "mate"}), "403", "7", ""},
				{"a route's own", "/bridge", bearer(map[string]any{"aud": "bridge", "rank": "captain"}), "200", "", "Forwarded="},
			} {
				lines := []string{"x-user: captain", "X-Groups: all", "Accept: text/plain"}
				if c.auth != "" {
					lines = append(lines, c.auth)
				}
				got := h.askBy(t, protocol, get(c.path, lines...))
				status := " " + c.status + " "
				if protocol == "grpc" && c.grpc != "" {
					status = "Grpc-Status: " + c.grpc
				}
				if !strings.Contains(got, status) || c.want != "" && !strings.Contains(got, c.want) || strings.Contains(got, "captain") || strings.Contains(got, "X-Groups=all") {
					t.Errorf("%s by %s, want %s and %q:\n%s", c.name, protocol, status, c.want, got)
				}
				if challenge := strings.Contains(got, "Www-Authenticate: Bearer"); challenge != (c.status == "401") {
					t.Errorf("%s by %s: challenged %v", c.name, protocol, challenge)
				}
			}
		}
		// Nor does what it writes after the body.
		for protocol, isGRPC := range map[string]bool{"1.1": false, "2": false, "grpc": true} {
			req, _ := http.NewRequest("POST", h.url+"/", io.MultiReader(strings.NewReader("tea")))
			req.Header.Set("Authorization", strings.TrimPrefix(bearer(nil), "Authorization: "))
			req.Trailer = http.Header{"X-User": {"captain"}, "X-Sum": {"3"}}
			transport := &http.Transport{Protocols: new(http.Protocols)}
			transport.Protocols.SetHTTP1(protocol == "1.1")
			transport.Protocols.SetUnencryptedHTTP2(protocol != "1.1")
			if isGRPC {
				req.Header.Set("Content-Type", "application/grpc")
			}
			resp, err := transport.RoundTrip(req)
			if err != nil {
				t.Fatal(err)
			}
			body, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			transport.CloseIdleConnections()
			if got := string(body); !strings.Contains(got, "X-User=mara") || strings.Contains(got, "captain") || !isGRPC && !strings.Contains(got, "then X-Sum=3") {
				t.Errorf("a trailer by %s: %s", protocol, got)
			}
		}
		for _, s := range h.series() { // nothing of it is held against the service
			if s.Counts.Failed > 0 || s.Counts.Refused > 0 && reasonsOf(s, engine.Denied) != s.Counts.Refused {
				t.Errorf("%+v", s)
			}
		}
	})
}

// TestEdgeOptionalTokens: without a token a request comes in, and a bad one is refused.
func TestEdgeOptionalTokens(t *testing.T) {
	h, sign := newEdge(t, "plain", "    details: full\n    authenticate: {jwt: {issuer: i, audience: tickets, keys: keys.json, optional: true, fields: {x-user: sub}}}")
	for auth, want := range map[string]string{"": "body=0 Forwarded", sign(nil): "X-User=mara", "x": "401 unauthenticated: the bearer token is no signed"} {
		lines := []string{"x-user: captain"}
		if auth != "" {
			lines = append(lines, "Authorization: Bearer "+auth)
		}
		if got := h.raw(t, get("/", lines...)); !strings.Contains(got, want) || strings.Contains(got, "captain") {
			t.Errorf("want %q, got\n%s", want, got)
		}
	}
}

// TestEdgeAddresses: who calls is known by the entry of the trusted proxy, for conditions and
// for limits, and workloads are told.
func TestEdgeAddresses(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		for _, protocol := range protocols {
			h, _ := newEdge(t, kind, "    trust-forwarded: {proxies: 1, keep: x-forwarded-proto}")
			for _, c := range []struct{ xff, want string }{
				{"1.2.3.4", `Forwarded=for="1.2.3.4", for="127.0.0.1";host="s";proto=http X-Forwarded-For=1.2.3.4, 127.0.0.1 X-Forwarded-Proto=https`},
				{"1.2.3.4, 2001:db8::1", `Forwarded=for="[2001:db8::1]", for="127.0.0.1"`},
				{"1.2.3.4, 6.6.6.6", "no-route"},
				{"1.2.3.4, ferry", "no-route"},
			} {
				got := h.askBy(t, protocol, get("/near", "X-Forwarded-For: "+c.xff, "X-Forwarded-Proto: https", "X-Forwarded-Host: evil", "Forwarded: for=1.2.3.4"))
				if !strings.Contains(got, c.want) || strings.Contains(got, "evil") {
					t.Errorf("%s by %s, want %s:\n%s", c.xff, protocol, c.want, got)
				}
			}
			var limited []int
			for i, xff := range []string{"1.2.3.4", "1.2.3.4", "1.2.3.5", "9.9.9.9, 1.2.3.4", "2001:db8::1", "2001:db8::2", "2001:db8::3", "2001:db8:0:1::3"} {
				got := h.askBy(t, protocol, get("/limited", "X-Forwarded-For: "+xff))
				if strings.Contains(got, "limited: request") || strings.Contains(got, "429") {
					limited = append(limited, i)
				}
			}
			if !slices.Equal(limited, []int{3, 6}) { // the third of one address, and of one network
				t.Errorf("%s: %v are limited", protocol, limited)
			}
		}
	})
}

// TestEdgeSizes: a body or header over the limit is refused, whether or not its length is
// told before.
func TestEdgeSizes(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h, _ := newEdge(t, kind, "    limits: {body: 100KiB, headers: 2KiB}")
		post := func(size int, isChunked bool, lines ...string) string {
			head := strings.TrimSuffix(strings.Replace(get("/", lines...), "GET", "POST", 1), "\r\n")
			if isChunked {
				return head + fmt.Sprintf("Transfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n0\r\n\r\n", size, strings.Repeat("a", size))
			}
			return head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", size, strings.Repeat("a", size))
		}
		two := new(http.Protocols)
		two.SetUnencryptedHTTP2(true)
		client := &http.Client{Transport: &http.Transport{Protocols: two}}
		defer client.CloseIdleConnections()
		// byHTTP2 sends a body in pieces, and tells its length before or not.
		byHTTP2 := func(size int, isUnknown, isGRPC bool) string {
			req, _ := http.NewRequest("POST", h.url+"/", io.LimitReader(strings.NewReader(strings.Repeat("a", size)), int64(size)))
			if req.ContentLength = int64(size); isUnknown {
				req.ContentLength = -1
			}
			if isGRPC {
				req.Header.Set("Content-Type", "application/grpc")
			}
			resp, err := client.Do(req)
			if err != nil {
				return err.Error()
			}
			defer resp.Body.Close()
			body, _ := io.ReadAll(resp.Body)
			return fmt.Sprint(" ", resp.StatusCode, " ", resp.Header, string(body))
		}
		for _, size := range []int{1000, 100 << 10, 100<<10 + 1, 1 << 20} {
			isOver := size > 100<<10
			want, grpc := fmt.Sprintf("body=%d ", size), fmt.Sprintf("body=%d ", size)
			if isOver {
				want, grpc = " 413 ", "too-large"
			}
			for name, got := range map[string]string{
				"1.0":         h.ask(t, "1.0", post(size, false)),
				"1.1":         h.ask(t, "1.1", post(size, false)),
				"1.1 chunked": h.ask(t, "1.1", post(size, true)),
				"2":           byHTTP2(size, false, false),
				"2 unknown":   byHTTP2(size, true, false),
			} {
				if !strings.Contains(got, want) {
					t.Errorf("%d bytes by %s, want %q:\n%.300s", size, name, want, got)
				}
			}
			for _, isUnknown := range []bool{false, true} {
				if got := byHTTP2(size, isUnknown, true); !strings.Contains(got, grpc) {
					t.Errorf("%d bytes by gRPC, unknown %v, want %q:\n%.300s", size, isUnknown, grpc, got)
				}
			}
		}
		for _, protocol := range protocols {
			for length, want := range map[int]string{1500: "body=0", 2100: "431"} {
				if protocol == "grpc" && length > 2000 {
					want = "too-large"
				}
				if got := h.askBy(t, protocol, get("/", "x-long: "+strings.Repeat("a", length))); !strings.Contains(got, want) {
					t.Errorf("a header of %d bytes by %s:\n%.300s", length, protocol, got)
				}
			}
		}
		refused := uint64(0)
		for _, s := range h.series() {
			refused += s.Counts.CallerFault
			if s.Counts.Failed+s.Counts.Refused+s.Counts.Abandoned > 0 {
				t.Errorf("%+v", s.Counts)
			}
		}
		if refused != 2*7+4 {
			t.Errorf("%d requests are their callers' fault", refused)
		}
	})
}

// TestEdgeIsSlow: a head that does not come in the time of the edge ends its connection, with
// TLS or without, on a new connection or on one that has served already.
func TestEdgeIsSlow(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h, _ := newEdge(t, kind, "    limits: {slow: 1s}")
		plainAt := strings.TrimPrefix(h.url, "http://")
		office := httptest.NewTLSServer(nil)
		defer office.Close()
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
		o := Open(Config{Name: "tls", Listener: l, Pools: e.pools, Transport: e.transport, Log: slog.New(slog.DiscardHandler), TLS: func() *tls.Config { return office.TLS }}, h.router)
		go o.Serve()
		defer o.Drain(0, time.Second)
		begin := map[string]func() (net.Conn, error){
			"plain": func() (net.Conn, error) { return net.Dial("tcp", plainAt) },
			"tls": func() (net.Conn, error) {
				return tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
			},
		}
		for name, dial := range begin {
			for _, before := range []string{"", "GET /open HTTP/1.1\r\nHost: s\r\n\r\n"} {
				conn, err := dial()
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(8 * time.Second))
				if before != "" {
					io.WriteString(conn, before)
					if n, err := conn.Read(make([]byte, 4096)); n == 0 {
						t.Fatal(err)
					}
				}
				begun := time.Now()
				io.WriteString(conn, "GET /open HTTP/1.1\r\nHost")
				io.Copy(io.Discard, conn)
				if took := time.Since(begun); took < 900*time.Millisecond || took > 4*time.Second {
					t.Errorf("%s, after %q: the connection ended after %s", name, before, took)
				}
			}
		}
	})
}
