package follow

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// view is a request without anything.
type view struct{ engine.Nobody }

func (view) Method() string         { return "GET" }
func (view) Host() string           { return "s" }
func (view) Path() string           { return "/" }
func (view) Query() string          { return "" }
func (view) Header(string) []string { return nil }
func (view) Caller() string         { return "caller" }
func (view) Site() string           { return "" }

// newFollower follows one route to two instances, by revision 9.
func newFollower(t *testing.T) *Follower {
	t.Helper()
	const text = "services: {s: {versions: [v1, v2], routes: [{name: r, send: v1}]}}"
	rs, _ := rules.Check([]rules.File{{Name: "f.yaml", Text: text}}, rules.Live{})
	return newFollowerOf(t, rs, []engine.Instance{{ID: "one", Service: "s", Version: "v1", Address: "127.0.0.1:1"}, {ID: "two", Service: "s", Version: "v1", Address: "127.0.0.1:2"}})
}

func newFollowerOf(t testing.TB, rs *rules.Rules, instances []engine.Instance) *Follower {
	t.Helper()
	f := New(Config{
		Caller:  "caller",
		Epoch:   time.Now(),
		Log:     slog.New(slog.DiscardHandler),
		Feed:    observe.NewFeed(),
		Spans:   &observe.Spans{},
		Self:    func() engine.Instance { return engine.Instance{} },
		Adopted: func(*rules.Rules) {},
	})
	if err := f.apply(wire.Snapshot{Revision: 9, Whole: true, Services: rs.Services, Instances: instances, Settled: true}); err != nil {
		t.Fatal(err)
	}
	return f
}

// TestHealthAlone: a snapshot that tells of the health of instances makes no new
// table; one that tells of anything else does.
func TestHealthAlone(t *testing.T) {
	f := newFollower(t)
	before := f.Table.Load()
	status := func() []string {
		for _, s := range f.Table.Load().Status(f.now()) {
			return s.Versions[0].Down
		}
		return nil
	}
	var x engine.Exchange
	x.Begin(before, engine.Entry{}, view{}, f.now()) // so that there is something to tell
	sick := engine.Instance{ID: "one", Service: "s", Version: "v1", Address: "127.0.0.1:1", Down: true}
	for _, c := range []struct {
		name string
		news engine.Instance
		kept bool
	}{
		{"it is down", sick, true},
		{"it is up", engine.Instance{ID: "one", Service: "s", Version: "v1", Address: "127.0.0.1:1"}, true},
		{"it moved", engine.Instance{ID: "one", Service: "s", Version: "v1", Address: "127.0.0.1:3"}, false},
		{"it is new", engine.Instance{ID: "three", Service: "s", Version: "v1", Address: "127.0.0.1:4"}, false},
	} {
		if err := f.apply(wire.Snapshot{Sequence: 2, Instances: []engine.Instance{c.news}}); err != nil {
			t.Fatal(err)
		}
		now := f.Table.Load()
		if kept := now == before; kept != c.kept || f.known.Instances[c.news.ID] != c.news {
			t.Errorf("%s: the table stayed %t, want %t; known is %+v", c.name, kept, c.kept, f.known.Instances[c.news.ID])
		}
		before = now
		if x.Begin(now, engine.Entry{}, view{}, f.now()); c.news.Down && x.Instance().ID == "one" {
			t.Errorf("%s: it is called (%v)", c.name, status())
		}
	}
}

// TestTelemetryIsKeptAndSentAgain: what was counted is sent until the service says
// that it cannot lose it any more.
func TestTelemetryIsKeptAndSentAgain(t *testing.T) {
	var mu sync.Mutex
	var deltas []wire.Delta
	var kept wire.Kept
	isDeaf := true
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if isDeaf || !strings.HasSuffix(r.URL.Path, "/telemetry") {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var d wire.Delta
		json.NewDecoder(r.Body).Decode(&d)
		deltas = append(deltas, d)
		json.NewEncoder(w).Encode(kept)
	}))
	defer srv.Close()
	f := newFollower(t)
	rec := observe.NewRecorder(2, "caller")
	s := NewSession(SessionConfig{ID: "c", Server: srv.URL, CallerVersion: "v7", Log: slog.New(slog.DiscardHandler), Recorder: rec, Membership: NewMembership(MembershipConfig{Shown: &identity.Credentials{}})}, f)
	call := func() {
		var x engine.Exchange
		now := f.now()
		x.Begin(f.Table.Load(), engine.Entry{}, view{}, now)
		x.Next(engine.Outcome{Status: 200}, now)
		rec.Assign().Called(&x, 9, &observe.Result{Class: engine.OK, Status: 200, Received: 3})
	}
	for range 3 {
		call()
	}
	s.Collect()
	s.Flush()
	if len(s.unsent) != 1 {
		t.Fatalf("%d deltas are kept", len(s.unsent))
	}
	mu.Lock()
	isDeaf = false
	mu.Unlock()
	s.Flush()
	if len(s.unsent) != 1 || len(deltas) != 1 {
		t.Fatalf("%d kept, %d sent: what the service may still lose is kept", len(s.unsent), len(deltas))
	}
	d := deltas[0]
	if d.Caller != "caller" || d.CallerVersion != "v7" || d.Sequence != 1 || d.Holds != 1 {
		t.Errorf("%+v", d)
	}
	var ok, attempts, received uint64
	for _, sr := range d.Series { // of two instances
		ok, attempts, received = ok+sr.Counts.OK, attempts+sr.Counts.Tries, received+sr.Counts.Received
		if sr.Revision != 9 || sr.Route != "r" || sr.RouteOf != "s" {
			t.Errorf("%+v", sr)
		}
	}
	if ok != 3 || attempts != 3 || received != 9 {
		t.Errorf("%d ok, %d attempts, %d bytes", ok, attempts, received)
	}
	step := func(k wire.Kept) (sequences []uint64) {
		t.Helper()
		call()
		s.Collect()
		mu.Lock()
		kept, deltas = k, nil
		mu.Unlock()
		s.Flush()
		for _, d := range deltas {
			sequences = append(sequences, d.Sequence)
		}
		return sequences
	}
	if got := step(wire.Kept{Sequence: 1}); !slices.Equal(got, []uint64{2}) || len(s.unsent) != 1 {
		t.Errorf("sent %v, kept %d: the first is safe now", got, len(s.unsent))
	}
	if got := step(wire.Kept{Sequence: 1, Again: true}); !slices.Equal(got, []uint64{3, 2}) || len(s.unsent) != 2 {
		t.Errorf("sent %v, kept %d: a service that lost the second wants it once more", got, len(s.unsent))
	}
	if got := step(wire.Kept{Sequence: 4}); !slices.Equal(got, []uint64{2, 3, 4}) || len(s.unsent) != 0 {
		t.Errorf("sent %v, kept %d: all in order, and all are safe then", got, len(s.unsent))
	}
	for range maxUnsent + 5 {
		call()
		s.Collect()
	}
	if len(s.unsent) != maxUnsent {
		t.Errorf("%d deltas are kept, at most %d should be", len(s.unsent), maxUnsent)
	}
}

// TestLostAcknowledgements go out again with the next lease; the stream ends only when the
// service does not want one.
func TestLostAcknowledgements(t *testing.T) {
	var status atomic.Int64
	got := make(chan wire.Ack, 9)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var a wire.Ack
		json.NewDecoder(r.Body).Decode(&a)
		got <- a
		if status.Load() == 0 { // as one that is overloaded
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(int(status.Load()))
		io.WriteString(w, `{"detail": "no proxy c is registered"}`)
	}))
	defer srv.Close()
	none := func() []wire.Problem { return nil }
	s := NewSession(SessionConfig{
		ID:         "c",
		Server:     srv.URL,
		Log:        slog.New(slog.DiscardHandler),
		Outbound:   func() string { return "" },
		Problems:   none,
		Membership: NewMembership(MembershipConfig{Shown: &identity.Credentials{}}),
	}, newFollower(t))
	if err := s.take(t.Context(), wire.Snapshot{Sequence: 7}, "n"); err != nil {
		t.Fatalf("a lost one: %v", err)
	}
	status.Store(http.StatusNoContent)
	if err := s.acknowledge(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := s.acknowledge(t.Context()); err != nil || len(got) != 2 {
		t.Errorf("%d were sent, want 2: one that arrived is not sent again (%v)", len(got), err)
	}
	for range 2 {
		if a := <-got; a.Sequence != 7 || a.Nonce != "n" || a.Revision != 9 {
			t.Errorf("%+v", a)
		}
	}
	status.Store(http.StatusNotFound)
	if err := s.take(t.Context(), wire.Snapshot{Sequence: 8}, "n"); err == nil || !strings.Contains(err.Error(), "no proxy c") {
		t.Errorf("one that is not wanted: %v", err)
	}
}

// BenchmarkHealth is one flip of an instance's health among 2,000 services with
// 20,000 instances, from the snapshot to the table.
func BenchmarkHealth(b *testing.B) {
	text := strings.Builder{}
	text.WriteString("services:\n")
	var instances []engine.Instance
	for i := range 2000 {
		fmt.Fprintf(&text, "  service-%d: {versions: [v1], guard: {sideline: {after: 3, for: 20s}}, routes: [{name: r, send: v1}]}\n", i)
		for j := range 10 {
			id := fmt.Sprintf("service-%d-v1-%d", i, j)
			instances = append(instances, engine.Instance{ID: id, Service: fmt.Sprintf("service-%d", i), Version: "v1", Address: id})
		}
	}
	rs, found := rules.Check([]rules.File{{Name: "f.yaml", Text: text.String()}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		b.Fatal(found[0].Text())
	}
	f := newFollowerOf(b, rs, instances)
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		in := instances[i%len(instances)]
		in.Down = i%2 == 0
		if err := f.apply(wire.Snapshot{Sequence: 2, Instances: []engine.Instance{in}}); err != nil {
			b.Fatal(err)
		}
	}
}
