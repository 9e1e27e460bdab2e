package carry

import (
	"io"
	"net/http"
	"testing"
	"time"

	"golang.org/x/net/http2"
)

// TestRapidReset: a connection whose streams are reset as soon as they are opened is
// ended, and one that gives up a few is not.
func TestRapidReset(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		release := make(chan struct{})
		h := newHop(t, kind, "edge", http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			select {
			case <-r.Context().Done():
			case <-release:
			}
		}))
		defer close(release)
		fields := [][2]string{{":method", "GET"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/"}}
		reset := func(n int, pause time.Duration) (isOpen bool) {
			c := rawHTTP2To(t, h.url)
			go io.Copy(io.Discard, c.conn)
			for i := range n {
				c.send(uint32(2*i+1), fields, nil)
				if c.framer.WriteRSTStream(uint32(2*i+1), http2.ErrCodeCancel) != nil {
					return false
				}
				time.Sleep(pause)
			}
			for range 100 { // until the end is noticed
				if c.framer.WritePing(false, [8]byte{}) != nil {
					return false
				}
				time.Sleep(10 * time.Millisecond)
			}
			return true
		}
		if reset(100, time.Millisecond) != true {
			t.Error("a hundred streams that are given up end a connection")
		}
		if reset(5000, 0) {
			t.Error("5,000 streams that are reset at once do not end their connection")
		}
	})
}

// TestResets: what is allowed in a second comes back with time; what one connection of an
// address used up, the next one lacks.
func TestResets(t *testing.T) {
	now := time.Now()
	var of resets
	for range 10 {
		for range resetsPerSecond {
			if !of.take("a", now) {
				t.Fatal("it is ended for what is allowed")
			}
		}
		now = now.Add(time.Second)
	}
	for range 2 * resetsPerSecond {
		of.take("a", now)
	}
	if of.take("a", now) || !of.isSpent("a", now) || of.isSpent("b", now) || !of.take("b", now) {
		t.Error("an address resets more than it may, or another one is not let in")
	}
}
