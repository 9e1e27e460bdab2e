package carry

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/interop/grpc_testing"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// grpcEcho is a workload of gRPC with every kind of call.
type grpcEcho struct {
	grpc_testing.UnimplementedTestServiceServer
}

func (grpcEcho) UnaryCall(ctx context.Context, in *grpc_testing.SimpleRequest) (*grpc_testing.SimpleResponse, error) {
	md, _ := metadata.FromIncomingContext(ctx)
	grpc.SetHeader(ctx, metadata.Pairs("x-caller", strings.Join(md.Get(wire.HeaderCaller), ",")))
	grpc.SetTrailer(ctx, metadata.Pairs("x-sum", fmt.Sprint(len(in.Payload.GetBody()))))
	if s := in.GetResponseStatus(); s != nil && s.Code != 0 {
		return nil, status.Error(codes.Code(s.Code), s.Message)
	}
	if in.ResponseSize < 0 { // it waits
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return &grpc_testing.SimpleResponse{Payload: in.Payload}, nil
}

func (grpcEcho) StreamingOutputCall(in *grpc_testing.StreamingOutputCallRequest, out grpc.ServerStreamingServer[grpc_testing.StreamingOutputCallResponse]) error {
	for _, p := range in.ResponseParameters {
		if err := out.Send(&grpc_testing.StreamingOutputCallResponse{Payload: &grpc_testing.Payload{Body: make([]byte, p.Size)}}); err != nil {
			return err
		}
	}
	return nil
}

func (grpcEcho) StreamingInputCall(in grpc.ClientStreamingServer[grpc_testing.StreamingInputCallRequest, grpc_testing.StreamingInputCallResponse]) error {
	n := int32(0)
	for {
		m, err := in.Recv()
		if err == io.EOF {
			return in.SendAndClose(&grpc_testing.StreamingInputCallResponse{AggregatedPayloadSize: n})
		}
		if err != nil {
			return err
		}
		n += int32(len(m.Payload.Body))
	}
}

func (grpcEcho) FullDuplexCall(s grpc.BidiStreamingServer[grpc_testing.StreamingOutputCallRequest, grpc_testing.StreamingOutputCallResponse]) error {
	for {
		m, err := s.Recv()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if err := s.Send(&grpc_testing.StreamingOutputCallResponse{Payload: m.Payload}); err != nil {
			return err
		}
	}
}

// grpcWorkload runs a workload of gRPC.
func grpcWorkload(t testing.TB, does grpc_testing.TestServiceServer) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	app := grpc.NewServer()
	grpc_testing.RegisterTestServiceServer(app, does)
	go app.Serve(l)
	t.Cleanup(app.Stop)
	return l.Addr().String()
}

// TestGRPC drives every kind of call by a client of gRPC, through both proxies
// of a hop, to a service that says it speaks gRPC and to one that does not.
func TestGRPC(t *testing.T) {
	t.Parallel()
	workload := grpcWorkload(t, grpcEcho{})
	each(t, func(t *testing.T, kind string) {
		h := newHopTo(t, kind, "", workload, http.NotFoundHandler())
		dial := func(service string) grpc_testing.TestServiceClient {
			conn, err := grpc.NewClient("passthrough:///"+strings.TrimPrefix(h.url, "http://"), grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority(service))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { conn.Close() })
			return grpc_testing.NewTestServiceClient(conn)
		}
		ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
		defer stop()
		for _, service := range []string{"s", "spoken"} {
			c := dial(service)
			var head, trail metadata.MD
			out, err := c.UnaryCall(ctx, &grpc_testing.SimpleRequest{Payload: &grpc_testing.Payload{Body: []byte("board")}}, grpc.Header(&head), grpc.Trailer(&trail))
			if err != nil || string(out.Payload.Body) != "board" || head.Get("x-caller")[0] != "caller" || trail.Get("x-sum")[0] != "5" {
				t.Fatalf("unary: %v, %v, header %v, trailer %v", out, err, head, trail)
			}
			_, err = c.UnaryCall(ctx, &grpc_testing.SimpleRequest{ResponseStatus: &grpc_testing.EchoStatus{Code: int32(codes.NotFound), Message: "no such berth"}})
			if status.Code(err) != codes.NotFound || !strings.Contains(err.Error(), "no such berth") {
				t.Errorf("a status of the workload's own: %v", err)
			}
			_, err = c.UnaryCall(ctx, &grpc_testing.SimpleRequest{ResponseStatus: &grpc_testing.EchoStatus{Code: int32(codes.Internal), Message: "ink"}})
			if status.Code(err) != codes.Internal {
				t.Errorf("a fault of the workload: %v", err)
			}
			var sizes []int
			pull, err := c.StreamingOutputCall(ctx, &grpc_testing.StreamingOutputCallRequest{ResponseParameters: []*grpc_testing.ResponseParameters{{Size: 3}, {Size: 200_000}}})
			for err == nil {
				var m *grpc_testing.StreamingOutputCallResponse
				if m, err = pull.Recv(); err == nil {
					sizes = append(sizes, len(m.Payload.Body))
				}
			}
			if err != io.EOF || fmt.Sprint(sizes) != "[3 200000]" {
				t.Errorf("streaming down: %v, %v", sizes, err)
			}
			push, _ := c.StreamingInputCall(ctx)
			for range 3 {
				push.Send(&grpc_testing.StreamingInputCallRequest{Payload: &grpc_testing.Payload{Body: make([]byte, 100_000)}})
			}
			if sum, err := push.CloseAndRecv(); err != nil || sum.AggregatedPayloadSize != 300_000 {
				t.Errorf("streaming up: %v, %v", sum, err)
			}
			both, err := c.FullDuplexCall(ctx)
			if err != nil {
				t.Fatal(err)
			}
			for i := range 3 { // each is answered before the next is sent
				both.Send(&grpc_testing.StreamingOutputCallRequest{Payload: &grpc_testing.Payload{Body: []byte{byte(i)}}})
				if m, err := both.Recv(); err != nil || m.Payload.Body[0] != byte(i) {
					t.Fatalf("both ways at once: %v, %v", m, err)
				}
			}
			both.CloseSend()
			if _, err := both.Recv(); err != io.EOF {
				t.Errorf("the end of both ways: %v", err)
			}
			short, leave := context.WithTimeout(ctx, 200*time.Millisecond)
			_, err = c.UnaryCall(short, &grpc_testing.SimpleRequest{ResponseSize: -1})
			leave()
			if status.Code(err) != codes.DeadlineExceeded {
				t.Errorf("a deadline of the caller's: %v", err)
			}
		}
		for service, want := range map[string]codes.Code{"ghost": codes.Unimplemented, "refusing": codes.Unavailable} {
			_, err := dial(service).UnaryCall(ctx, &grpc_testing.SimpleRequest{})
			if status.Code(err) != want {
				t.Errorf("%s: %v, want %s", service, err, want)
			}
		}
		if got := h.raw(t, strings.Replace(get("/"), "Host: s", "Host: spoken", 1)); !strings.Contains(got, "400 Bad Request") || !strings.Contains(got, "call it by HTTP/2") {
			t.Errorf("HTTP/1.1 to a service that speaks gRPC:\n%s", got)
		}
		var ok, failed uint64
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Service == "s" || s.Service == "spoken" {
					ok += s.Counts.OK
					failed += s.Counts.Failed
				}
			}
			return ok+failed >= 12
		})
		if ok < 10 || failed < 2 || failed > 4 { // a fault of the workload each; the deadline may be the caller's leaving
			t.Errorf("ok %d, failed %d", ok, failed)
		}
	})
}

// TestWebSocket: messages go both ways, and counting ends with the connection.
func TestWebSocket(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			c, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"board"}})
			if err != nil {
				return
			}
			defer c.CloseNow()
			c.SetReadLimit(1 << 20)
			for {
				kind, b, err := c.Read(r.Context())
				if err != nil {
					return
				}
				c.Write(r.Context(), kind, append([]byte("re: "), b...))
			}
		}))
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		c, _, err := websocket.Dial(ctx, h.url+"/socket", &websocket.DialOptions{Host: "s", Subprotocols: []string{"board"}})
		if err != nil {
			t.Fatal(err)
		}
		c.SetReadLimit(1 << 20)
		for _, size := range []int{1, 500_000} {
			if err := c.Write(ctx, websocket.MessageBinary, bytes.Repeat([]byte("x"), size)); err != nil {
				t.Fatal(err)
			}
			if _, b, err := c.Read(ctx); err != nil || len(b) != size+4 {
				t.Fatalf("%d bytes came back of %d, %v", len(b), size+4, err)
			}
		}
		if c.Subprotocol() != "board" {
			t.Errorf("subprotocol %q", c.Subprotocol())
		}
		if err := c.Close(websocket.StatusNormalClosure, ""); err != nil {
			t.Error(err)
		}
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Counts.OK == 1 && s.Counts.Status[1] == 1 {
					return true
				}
			}
			return false
		})
		// A workload that does not switch answers as ever.
		got := h.raw(t, strings.Replace(get("/copied/x", "Upgrade: berth/1"), "Connection: close", "Connection: upgrade, close", 1))
		if strings.Contains(got, "101 ") || !strings.Contains(got, "HTTP/1.1 ") {
			t.Errorf("got\n%s", got)
		}
	})
}

// TestHTTP2 without TLS: by prior knowledge, to a workload that speaks HTTP/1.1.
func TestHTTP2(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(echo))
		tr := &http.Transport{Protocols: new(http.Protocols)}
		tr.Protocols.SetUnencryptedHTTP2(true)
		defer tr.CloseIdleConnections()
		for _, body := range []string{"", strings.Repeat("z", 300_000)} {
			req, _ := http.NewRequest("POST", h.url+"/a%2Fb?c", strings.NewReader(body))
			req.Host = "s"
			resp, err := tr.RoundTrip(req)
			if err != nil {
				t.Fatal(err)
			}
			got, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if resp.ProtoMajor != 2 || !strings.HasPrefix(string(got), fmt.Sprintf("POST /a%%2Fb?c host=s body=%d", len(body))) || !strings.Contains(string(got), `Via=["2 nightjar"]`) {
				t.Errorf("%s:\n%s", resp.Proto, got)
			}
		}
	})
}

// TestInterimAnswers: 103 goes on, 100 is said by each hop when the body is asked for.
func TestInterimAnswers(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/hint" {
				w.Header().Set("Link", "</style.css>; rel=preload")
				w.WriteHeader(http.StatusEarlyHints)
				w.Header().Del("Link")
			}
			if r.URL.Path == "/no" {
				w.WriteHeader(http.StatusForbidden)
				return
			}
			echo(w, r)
		}))
		if got := h.raw(t, get("/hint")); !strings.Contains(got, "HTTP/1.1 103 Early Hints\r\nLink: </style.css>; rel=preload\r\n\r\nHTTP/1.1 200 OK\r\n") {
			t.Errorf("got\n%s", got)
		}
		expecting := func(path string) (conn net.Conn, first string) {
			conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { conn.Close() })
			conn.SetDeadline(time.Now().Add(10 * time.Second))
			fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: s\r\nContent-Length: 5\r\nExpect: 100-continue\r\nConnection: close\r\n\r\n", path)
			first, _ = bufio.NewReader(io.LimitReader(conn, 25)).ReadString('\n')
			return conn, first
		}
		conn, first := expecting("/")
		if first != "HTTP/1.1 100 Continue\r\n" {
			t.Errorf("first came %q", first)
		}
		io.WriteString(conn, "hello")
		if rest, _ := io.ReadAll(conn); !strings.Contains(string(rest), "body=5") {
			t.Errorf("then came\n%s", rest)
		}
		if _, first := expecting("/no"); !strings.HasPrefix(first, "HTTP/1.1 403") {
			t.Errorf("a body that is not wanted: %q", first)
		}
	})
}

// TestWebSocketOverHTTP2: a WebSocket is opened by an extended CONNECT (RFC 8441), and the
// workload sees an upgrade of HTTP/1.1.
func TestWebSocketOverHTTP2(t *testing.T) {
	h := newHop(t, "plain", "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/no" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		c, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"board"}})
		if err != nil {
			return
		}
		defer c.CloseNow()
		kind, b, err := c.Read(r.Context())
		if err != nil {
			return
		}
		c.Write(r.Context(), kind, append([]byte("re: "), b...))
		c.Close(websocket.StatusNormalClosure, "")
	}))
	c := rawHTTP2To(t, h.url)
	open := func(stream uint32, path string) {
		c.head(stream, [][2]string{{":method", "CONNECT"}, {":protocol", "websocket"}, {":scheme", "http"}, {":authority", "s"}, {":path", path},
			{"sec-websocket-version", "13"}, {"sec-websocket-protocol", "board"}}, nil)
	}
	open(1, "/socket")
	c.framer.WriteData(1, false, []byte("\x82\x85\x00\x00\x00\x00board")) // binary, whole, masked by nothing
	c.framer.WriteData(1, false, []byte("\x88\x82\x00\x00\x00\x00\x03\xe8"))
	got := c.answer(1)
	if !strings.HasPrefix(got, "HTTP/2 200 OK\r\n") || !strings.Contains(got, "\r\nSec-Websocket-Protocol: board\r\n") ||
		!strings.Contains(got, "\x82\x09re: board\x88\x02\x03\xe8") || strings.Contains(got, "Upgrade:") || strings.Contains(got, "Sec-Websocket-Accept") {
		t.Errorf("got\n%q", got)
	}
	c.framer.WriteData(1, true, nil)
	open(3, "/no")
	if got := c.answer(3); !strings.HasPrefix(got, "HTTP/2 403 Forbidden\r\n") {
		t.Errorf("a socket that is not opened:\n%q", got)
	}
	waitFor(t, func() bool {
		for _, s := range h.series() {
			if s.Counts.Status[1] == 1 {
				return true
			}
		}
		return false
	})
}

// TestWorkloadOfHTTP2: a workload that speaks HTTP/2 alone is called by it, whatever callers
// speak and whichever service's routes lead there; one that does not is called as ever.
func TestWorkloadOfHTTP2(t *testing.T) {
	two := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %d", r.Proto, r.URL.Path, len(body))
	}))
	two.Config.Protocols = new(http.Protocols)
	two.Config.Protocols.SetUnencryptedHTTP2(true)
	two.Start()
	defer two.Close()
	one := httptest.NewServer(two.Config.Handler)
	defer one.Close()
	each(t, func(t *testing.T, kind string) {
		e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
		beside := newInbound("two-v1-a", two.Listener.Addr().String())
		beside.IsHTTP2 = func() bool { return true }
		rs, found := rules.Check([]rules.File{{Name: "f.yaml", Text: "services: {two: {protocol: http2, versions: [v1]}, one: {versions: [v1]}, " +
			"both: {routes: [{name: a, when: {path: /two}, send: two/v1}, {name: b, send: one/v1}]}}\n" +
			"gateways: {edge: {listen: ':80', hosts: ['*'], routes: [{name: all, send: both}]}}\n"}}, rules.Live{})
		if rules.Mistakes(found) > 0 {
			t.Fatal(found[0].Text())
		}
		table, err := engine.Compile(rs, []engine.Instance{
			{ID: "two-v1-a", Service: "two", Version: "v1", Address: e.listen(beside, nil)},
			{ID: "one-v1-a", Service: "one", Version: "v1", Address: e.listen(newInbound("one-v1-a", one.Listener.Addr().String()), nil)},
		}, engine.Options{})
		if err != nil {
			t.Fatal(err)
		}
		for _, gateway := range []string{"", "edge"} {
			c := newCaller(gateway, table, e.transport)
			t.Cleanup(c.Close)
			h := hop{url: "http://" + e.listen(c, nil), router: c}
			for _, protocol := range []string{"1.1", "1.0", "2"} {
				for _, c := range []struct{ host, path, want string }{
					{"two", "/two", "HTTP/2.0 /two 3"}, {"both", "/two", "HTTP/2.0 /two 3"}, {"both", "/one", "HTTP/1.1 /one 3"},
				} {
					got := h.ask(t, protocol, "POST "+c.path+" HTTP/1.1\r\nHost: "+c.host+"\r\nConnection: close\r\nContent-Length: 3\r\n\r\ntea")
					if (gateway == "" || c.host == "both") && !strings.Contains(got, c.want) {
						t.Errorf("%s by HTTP/%s at %q lacks %q:\n%s", c.host, protocol, gateway, c.want, got)
					}
				}
			}
		}
	})
}
