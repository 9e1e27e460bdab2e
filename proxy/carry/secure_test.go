package carry

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/proxy/observe"
)

// mutual is an authority, and who it vouches for.
type mutual struct {
	ca *authority.Authority
}

func newMutual(t testing.TB) *mutual {
	t.Helper()
	ca, err := authority.Open(authority.Config{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return &mutual{ca}
}

// shown are the credentials of a service's proxy.
func (m *mutual) shown(t testing.TB, service string) *identity.Credentials {
	t.Helper()
	c := &identity.Credentials{}
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: service}, Domain: m.ca.Domain(), ID: service + "-1"}
	if err := m.ca.Credentials(who, c); err != nil {
		t.Fatal(err)
	}
	return c
}

// beside serves an inbound listener of service s, whose callers must prove who they are
// as mode says.
func (m *mutual) beside(t testing.TB, app http.Handler, mode string, more ...func(*Listener, *Inbound)) (*Listener, *Inbound) {
	t.Helper()
	srv := httptest.NewServer(app)
	t.Cleanup(srv.Close)
	address := strings.TrimPrefix(srv.URL, "http://")
	in := &Inbound{
		Source: Source{Proxy: "s-1", Epoch: time.Now(), Observe: &observe.Observer{Feed: observe.NewFeed(), Spans: &observe.Spans{}}},
		Self:   engine.Instance{ID: "s-1", Service: "s", Version: "v1"},
		App:    &engine.Instance{ID: address, Address: address, Outside: true},
		Identity: &Identity{
			Credentials: m.shown(t, "s"),
			Mode:        func() string { return mode },
			Handshakes:  &Handshakes{},
		},
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	out := Open(Config{
		Name:      "inbound",
		Listener:  l,
		Pools:     &Pools{Epoch: in.Epoch},
		Transport: NewTransports(nil),
		Recorder:  observe.NewRecorder(1, "s"),
		Log:       slog.New(slog.DiscardHandler),
	}, in)
	for _, prepare := range more {
		prepare(out, in)
	}
	ended := make(chan struct{})
	go func() { out.Serve(); close(ended) }()
	t.Cleanup(func() { out.Drain(0, time.Second); <-ended })
	return out, in
}

// call opens a connection as a member and returns how to ask on it.
func call(t testing.TB, l *Listener, shown *identity.Credentials) (*tls.Conn, func(request string) string) {
	t.Helper()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	c, _, err := shown.Client(ctx, conn, identity.Name{Kind: identity.Service, Name: "s"}, "")
	if err != nil {
		t.Fatal(err)
	}
	r := bufio.NewReader(c)
	return c, func(request string) string {
		t.Helper()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		io.WriteString(c, request)
		resp, err := http.ReadResponse(r, nil)
		if err != nil {
			return err.Error()
		}
		b, _ := io.ReadAll(resp.Body)
		close := ""
		if resp.Close {
			close = ", and closes"
		}
		return fmt.Sprintf("%d %s%s", resp.StatusCode, b, close)
	}
}

const get1 = "GET / HTTP/1.1\r\nHost: s\r\nNightjar-Caller: root\r\nNightjar-Mirror: 1\r\n\r\n"

// TestTheWorkloadIsToldWhoCalls by the certificate, whatever the caller writes; bytes may
// come one by one.
func TestTheWorkloadIsToldWhoCalls(t *testing.T) {
	m := newMutual(t)
	app := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%q %q %d", r.Header["Nightjar-Caller"], r.Header["Nightjar-Mirror"], len(b))
	})
	for _, mode := range []string{"required", "optional"} {
		l, _ := m.beside(t, app, mode)
		c, ask := call(t, l, m.shown(t, "kiosk"))
		if got := ask(get1); got != `200 ["kiosk"] ["1"] 0` {
			t.Errorf("%s: %s", mode, got)
		}
		post := "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 20000\r\n\r\n" + strings.Repeat("x", 20000)
		for range 3 {
			if got := ask(post); got != `200 ["kiosk"] [] 20000` {
				t.Errorf("%s: %s", mode, got)
			}
		}
		for _, b := range []byte(get1[:len(get1)-1]) {
			if _, err := c.Write([]byte{b}); err != nil {
				t.Fatal(err)
			}
		}
		if got := ask("\n"); got != `200 ["kiosk"] ["1"] 0` {
			t.Errorf("%s, byte by byte: %s", mode, got)
		}
		if got := ask("POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n"); got != `200 ["kiosk"] [] 3` {
			t.Errorf("%s, on the general bearer: %s", mode, got)
		}
		want := `403 `
		if mode == "optional" {
			want = `200 [] [] 0`
		}
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		io.WriteString(conn, get1)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		if got := fmt.Sprintf("%d %s", resp.StatusCode, b); !strings.HasPrefix(got, want) {
			t.Errorf("%s, without TLS: %s", mode, got)
		}
	}
}

// TestWhoIsTurnedAwayIsNoFaultOfTheWorkload: neither a stranger nor a member that access
// rules deny counts against it, over HTTP and TCP.
func TestWhoIsTurnedAwayIsNoFaultOfTheWorkload(t *testing.T) {
	m := newMutual(t)
	for _, isTCP := range []bool{false, true} {
		l, in := m.beside(t, http.NotFoundHandler(), rules.IdentityOptional, denying(t), func(l *Listener, in *Inbound) {
			l.RelayToApp(in, func() bool { return isTCP })
		})
		ask := func(conn net.Conn) {
			conn.SetDeadline(time.Now().Add(5 * time.Second))
			io.WriteString(conn, "GET / HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n")
			io.Copy(io.Discard, conn)
			conn.Close()
		}
		stranger, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		ask(stranger)
		member, _ := call(t, l, m.shown(t, "kiosk"))
		ask(member)
		faults, refused := uint64(0), uint64(0)
		for until := time.Now().Add(5 * time.Second); faults+refused < 2 && time.Now().Before(until); time.Sleep(time.Millisecond) {
			list, _ := l.Recorder.Collect(in.Self)
			for _, one := range list {
				faults, refused = faults+one.Counts.CallerFault, refused+one.Counts.Refused
			}
		}
		if faults != 2 || refused != 0 {
			t.Errorf("TCP %t: %d are the caller's fault and %d are refused, want 2 and 0", isTCP, faults, refused)
		}
	}
}

// TestTheIDOfARefusalLeadsToItsReason, whether an identity is asked for or access rules
// let nobody in without one.
func TestTheIDOfARefusalLeadsToItsReason(t *testing.T) {
	m := newMutual(t)
	for mode, why := range map[string]string{rules.IdentityRequired: "no identity", rules.IdentityOptional: "access rule"} {
		l, in := m.beside(t, http.NotFoundHandler(), mode, denying(t))
		resp, err := http.Get("http://" + l.Addr().String() + "/")
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		id := strings.TrimSpace(strings.TrimPrefix(string(body), "403 denied: request "))
		news := strings.Join(in.Identity.Handshakes.News(), "\n")
		if len(id) != 16 || !strings.Contains(news, id) || !strings.Contains(news, why) || !strings.Contains(news, "127.0.0.1") {
			t.Errorf("%s: the caller was told %q, and this is known: %s", mode, body, news)
		}
	}
}

// denying has nobody call s.
func denying(t *testing.T) func(*Listener, *Inbound) {
	t.Helper()
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: "services: {s: {}}\naccess: {default: deny}"}}, rules.Live{})
	table, err := engine.Compile(rs, nil, engine.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return func(_ *Listener, in *Inbound) {
		in.Table = new(atomic.Pointer[engine.Table])
		in.Table.Store(table)
	}
}

// TestConnectionsEndAfterARotation: with the answer under way, and not in the middle.
func TestConnectionsEndAfterARotation(t *testing.T) {
	m := newMutual(t)
	l, in := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "x") }), "required")
	_, ask := call(t, l, m.shown(t, "kiosk"))
	if got := ask(get1); got != "200 x" {
		t.Fatal(got)
	}
	if err := m.ca.Rotate(); err != nil {
		t.Fatal(err)
	}
	in.Identity.Credentials.Set(nil, m.ca.Trust())
	if got := ask(get1); got != "200 x, and closes" {
		t.Error(got)
	}
}

// TestACallerThatLeavesIsNoticed over TLS too, while the workload is still at it.
func TestACallerThatLeavesIsNoticed(t *testing.T) {
	m := newMutual(t)
	left := make(chan struct{})
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		<-r.Context().Done()
		close(left)
	}), "required")
	c, _ := call(t, l, m.shown(t, "kiosk"))
	io.WriteString(c, "GET / HTTP/1.1\r\nHost: s\r\n\r\n")
	time.Sleep(100 * time.Millisecond)
	c.Close()
	select {
	case <-left:
	case <-time.After(5 * time.Second):
		t.Error("the workload works on for nobody")
	}
}

// TestMemberHosts: the names by which net/http keeps connections to members say whose
// they are, and lead back.
func TestMemberHosts(t *testing.T) {
	for _, address := range []string{"127.0.0.1:80", "[::1]:80", "[fe80::1]:65535"} {
		for _, name := range []string{"", isFar, engine.CrossingName("a")} {
			p := place{"a-b_c.d", address, name}
			if got, err := placeAt(p.host()); err != nil || got != p {
				t.Errorf("%+v: %+v, %v", p, got, err)
			}
		}
	}
	for _, text := range []string{"127.0.0.1:80", "s~127.0.0.1:80", "s~~a"} {
		if _, err := placeAt(text); err == nil {
			t.Errorf("%s is the name of nobody", text)
		}
	}
}

// TestIdleConnectionsAreSmall: one that was used holds no buffer of ours.
func TestIdleConnectionsAreSmall(t *testing.T) {
	m := newMutual(t)
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "x") }), "required")
	shown := m.shown(t, "kiosk")
	heap := func() uint64 {
		var s runtime.MemStats
		for range 3 {
			runtime.GC()
			time.Sleep(20 * time.Millisecond)
		}
		runtime.ReadMemStats(&s)
		return s.HeapAlloc + s.StackInuse
	}
	open := func(n int) {
		for range n {
			if _, ask := call(t, l, shown); ask(get1) != "200 x" {
				t.Fatal("no answer")
			}
		}
	}
	open(20)
	before := heap()
	const many = 300
	open(many)
	if each := int64(heap()-before) / many; each > 2*16<<10 { // both ends are in this process
		t.Errorf("both ends of an idle connection take %d bytes", each)
	} else {
		t.Logf("both ends: %d bytes", each)
	}
}

// FuzzFirstBytes: whatever comes first on an inbound port, the connection ends or is
// answered, and nothing breaks.
func FuzzFirstBytes(f *testing.F) {
	m := newMutual(f)
	l, _ := m.beside(f, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}), "optional")
	f.Add([]byte{0x16, 3, 1, 0, 5, 1, 0, 0, 1, 0})
	f.Add([]byte("GET / HTTP/1.1\r\nHost: s\r\n\r\n"))
	f.Add([]byte("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, first []byte) {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Skip(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(5 * time.Second))
		conn.Write(first)
		conn.(*net.TCPConn).CloseWrite()
		if _, err := io.Copy(io.Discard, conn); errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("%q: it hangs", first)
		}
	})
}
