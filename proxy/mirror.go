package proxy

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"sync"
	"time"

	"nightjar/wire"
)

// Limits of mirroring. A copy that is over one of them is not sent; the
// request itself never waits for its copy.
const (
	maxCopies   = 64       // under way at once in one proxy
	maxCopyBody = 64 << 10 // bytes of a request that are kept for its copy
	maxCopyRead = 1 << 20  // bytes of an answer that are read and dropped, to keep the connection
)

// mirrors sends copies of requests and drops the answers.
type mirrors struct {
	transport http.RoundTripper
	ctx       context.Context
	stop      context.CancelFunc
	slots     chan struct{}
	running   sync.WaitGroup
}

func newMirrors(transport http.RoundTripper) *mirrors {
	m := &mirrors{transport: transport, slots: make(chan struct{}, maxCopies)}
	m.ctx, m.stop = context.WithCancel(context.Background())
	return m
}

// send sends a copy in the background. out is not used by anybody else.
func (m *mirrors) send(out *http.Request, body []byte, limit time.Duration) {
	select {
	case m.slots <- struct{}{}:
	default:
		return
	}
	m.running.Go(func() {
		defer func() { <-m.slots }()
		ctx, stop := context.WithTimeout(m.ctx, limit)
		defer stop()
		out.Header[wire.HeaderMirror] = []string{"1"}
		out.ContentLength = int64(len(body))
		if len(body) > 0 {
			out.Body = io.NopCloser(bytes.NewReader(body))
		}
		answer, err := m.transport.RoundTrip(out.WithContext(ctx))
		if err != nil {
			return
		}
		io.CopyN(io.Discard, answer.Body, maxCopyRead)
		answer.Body.Close()
	})
}

// end stops what is under way and waits for it.
func (m *mirrors) end() {
	m.stop()
	m.running.Wait()
}

// keptBody is a request's body that is kept, up to maxCopyBody, while it is
// sent. The transport may still read it when the answer is there already.
type keptBody struct {
	io.ReadCloser
	mu    sync.Mutex // guards what follows
	kept  []byte
	whole bool // all of it has gone by, and all of it was kept
	over  bool
}

func (k *keptBody) Read(p []byte) (int, error) {
	n, err := k.ReadCloser.Read(p)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.over = k.over || n+len(k.kept) > maxCopyBody; k.over {
		k.kept = nil
	} else {
		k.kept = append(k.kept, p[:n]...)
	}
	k.whole = k.whole || err == io.EOF && !k.over
	return n, err
}

// all is the whole body; false: it has not gone by whole, or is too large.
func (k *keptBody) all() ([]byte, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.kept, k.whole
}
