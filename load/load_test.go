package load

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// every sends n messages, one each gap.
func every(gap time.Duration, n int) func() (time.Duration, bool) {
	i := -1
	return func() (time.Duration, bool) {
		i++
		return time.Duration(i) * gap, i < n
	}
}

// collect runs sources to their end and returns what came of each message.
func collect(t *testing.T, ctx context.Context, opt Options, sources ...Source) (map[int][]Answered, Pace) {
	t.Helper()
	var mu sync.Mutex
	got := map[int][]Answered{}
	for i := range sources {
		sources[i].Answered = func(message int, a *Answered) {
			mu.Lock()
			defer mu.Unlock()
			one := *a
			one.Fields = nil
			got[message] = append(got[message], one)
		}
		if sources[i].Pick == nil {
			n, all := -1, len(sources[i].Messages)
			sources[i].Pick = func() int { n++; return n % all }
		}
	}
	if opt.Begin.IsZero() {
		opt.Begin = time.Now()
	}
	done := make(chan struct{})
	r := Start(ctx, sources, opt, func() { close(done) })
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("the load does not end")
	}
	return got, r.Pace()
}

func message(method, path, body string) []byte {
	return Message(method, path, "ferry.example", http.Header{"X-Crew": {"yes"}}, body)
}

// Answers of every framing are read to their end, and bodies arrive whole.
func TestAnswersOfEveryKind(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("X-Got", fmt.Sprint(len(body)))
		switch r.URL.Path {
		case "/sized":
			io.WriteString(w, strings.Repeat("x", 20_000))
		case "/chunked":
			for range 5 {
				io.WriteString(w, strings.Repeat("y", 9000))
				w.(http.Flusher).Flush()
			}
		case "/close":
			w.Header().Set("Connection", "close")
			io.WriteString(w, "z")
		case "/none":
			w.WriteHeader(http.StatusNoContent)
		case "/refused":
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		if r.Header.Get("X-Crew") != "yes" || r.Host != "ferry.example" {
			w.WriteHeader(http.StatusTeapot)
		}
	}))
	defer s.Close()
	paths := []string{"/sized", "/chunked", "/close", "/none", "/refused"}
	var messages [][]byte
	for _, p := range paths {
		messages = append(messages, message("POST", p, strings.Repeat("b", 40_000)))
	}
	got, pace := collect(t, t.Context(), Options{}, Source{Address: s.Listener.Addr().String(), Messages: messages, Next: every(2*time.Millisecond, 100)})
	for i, p := range paths {
		want := map[string]int{"/none": 204, "/refused": 503}[p]
		if want == 0 {
			want = 200
		}
		if len(got[i]) != 20 {
			t.Errorf("%s: %d answers", p, len(got[i]))
		}
		for _, a := range got[i] {
			if a.Err != nil || a.Status != want || a.Took <= 0 {
				t.Fatalf("%s: %d after %v, %v", p, a.Status, a.Took, a.Err)
			}
		}
	}
	if pace.Sent != 100 || pace.Unsent != 0 || pace.Flying != 0 {
		t.Errorf("%+v", pace)
	}
	head, _ := collect(t, t.Context(), Options{}, Source{Address: s.Listener.Addr().String(), Messages: [][]byte{message("HEAD", "/sized", "")}, Head: true, Safe: true, Next: every(time.Millisecond, 10)})
	if len(head[0]) != 10 || head[0][9].Err != nil {
		t.Errorf("HEAD: %+v", head[0])
	}
}

// A stall of who answers is in the latency of every request that was due
// meanwhile, not in that of one alone.
func TestAStallIsNotHidden(t *testing.T) {
	const stall = 400 * time.Millisecond
	var one sync.Mutex
	var n atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		one.Lock() // one after the other
		defer one.Unlock()
		if n.Add(1) == 50 {
			time.Sleep(stall)
		}
	}))
	defer s.Close()
	got, _ := collect(t, t.Context(), Options{}, Source{Address: s.Listener.Addr().String(), Messages: [][]byte{message("GET", "/", "")}, Safe: true, Next: every(5*time.Millisecond, 200)})
	var long []time.Duration
	for _, a := range got[0] {
		if a.Took > stall/4 {
			long = append(long, a.Took)
		}
	}
	slices.Sort(long)
	// Three quarters of the stall at 200 requests a second.
	if len(got[0]) != 200 || len(long) < 50 || long[len(long)-1] < stall*9/10 {
		t.Errorf("%d of %d requests show a stall of %v", len(long), len(got[0]), stall)
	}
}

// Connections that end, and addresses where nobody listens, are said; a request
// that can be sent again is when a kept connection turns out to be closed.
func TestBrokenConnections(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() { // one answer for each connection, without a word that it ends
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
					if r.URL.Path == "/half" {
						io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhal")
						return
					}
					io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
					if r.URL.Path == "/reset" { // once the answer was read: the next write fails
						time.Sleep(20 * time.Millisecond)
						c.(*net.TCPConn).SetLinger(0)
					}
				}
			}()
		}
	}()
	at := l.Addr().String()
	for path, apart := range map[string]time.Duration{"/": 4 * time.Millisecond, "/reset": 60 * time.Millisecond} {
		got, _ := collect(t, t.Context(), Options{}, Source{Address: at, Messages: [][]byte{message("GET", path, "")}, Safe: true, Next: every(apart, 20)})
		for _, a := range got[0] {
			if a.Err != nil {
				t.Fatalf("a connection that was closed after its answer to %s: %v", path, a.Err)
			}
		}
	}
	half, _ := collect(t, t.Context(), Options{}, Source{Address: at, Messages: [][]byte{message("GET", "/half", "")}, Safe: true, Next: every(time.Millisecond, 5)})
	for _, a := range half[0] {
		if a.Err == nil {
			t.Error("half an answer counts as one")
		}
	}
	l.Close()
	nobody, _ := collect(t, t.Context(), Options{}, Source{Address: at, Messages: [][]byte{message("GET", "/", "")}, Safe: true, Next: every(time.Millisecond, 5)})
	if len(nobody[0]) != 5 || nobody[0][0].Err == nil {
		t.Errorf("where nobody listens: %+v", nobody[0])
	}
}

// A request that waited too long is not sent again, whatever the connection had
// carried before: it may be at work.
func TestNoAnswer(t *testing.T) {
	var came atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if came.Add(1) > 1 {
			<-r.Context().Done()
		}
	}))
	defer s.Close()
	got, _ := collect(t, t.Context(), Options{Wait: 150 * time.Millisecond}, Source{Address: s.Listener.Addr().String(), Messages: [][]byte{message("GET", "/", "")}, Safe: true, Next: every(100*time.Millisecond, 3)})
	if len(got[0]) != 3 || came.Load() != 3 {
		t.Errorf("%d requests came, %d have an outcome, of 3", came.Load(), len(got[0]))
	}
	for _, a := range got[0][1:] {
		if a.Err == nil || a.Took > 5*time.Second {
			t.Errorf("%+v", a)
		}
	}
}

// A load ends soon when it is ended, and never opens more than it may.
func TestBounds(t *testing.T) {
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-release:
		case <-r.Context().Done():
		}
	}))
	defer s.Close()
	defer close(release)
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, stop)
	began := time.Now()
	got, pace := collect(t, ctx, Options{MaxOpen: 10}, Source{Address: s.Listener.Addr().String(), Messages: [][]byte{message("GET", "/", "")}, Next: every(time.Millisecond, 1_000_000)})
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("it took %v to end", took)
	}
	if len(got[0]) != 10 || pace.Sent != 10 || pace.Unsent == 0 {
		t.Errorf("%d answers, %+v, with ten connections", len(got[0]), pace)
	}
}
