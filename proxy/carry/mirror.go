package carry

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
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
	transport *Transports
	ctx       context.Context
	stop      context.CancelFunc
	slots     chan struct{}
	running   sync.WaitGroup
}

func newMirrors(transport *Transports) *mirrors {
	m := &mirrors{transport: transport, slots: make(chan struct{}, maxCopies)}
	m.ctx, m.stop = context.WithCancel(context.Background())
	return m
}

// send sends a copy in the background. out is not used by anybody else.
func (m *mirrors) send(out *http.Request, to *engine.Instance, body []byte, limit time.Duration) {
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
		answer, err := m.transport.To(to, out.ProtoMajor == 2).RoundTrip(out.WithContext(ctx))
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
// sent, for a copy or for another attempt. The transport may still read it when the
// answer is there already.
type keptBody struct {
	from   io.ReadCloser
	length int64        // -1: not known
	have   atomic.Int64 // bytes that are kept, for a look without the lock
	mu     sync.Mutex   // guards what follows, and reading
	kept   []byte
	over   bool // too much went by to be kept
	end    error
	now    *keptReader
}

// keptReader reads a keptBody for one attempt.
type keptReader struct {
	body *keptBody
	at   int // of what was kept, how much went by
}

func newKeptBody(from io.ReadCloser, length int64) *keptBody {
	return &keptBody{from: from, length: length}
}

// once is the body for one attempt; the attempt before has no part in it any more.
func (k *keptBody) once() io.ReadCloser {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.now = &keptReader{body: k}
	return k.now
}

// again waits until nobody reads for the last attempt any more, for a while at
// most, and tells whether the body can be had from its beginning.
func (k *keptBody) again() bool {
	for end := time.Now().Add(bodyPatience); !k.mu.TryLock(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			return false // it waits for bytes of the caller that do not come
		}
	}
	defer k.mu.Unlock()
	k.now = nil
	return !k.over
}

func (r *keptReader) Read(p []byte) (int, error) {
	k := r.body
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.now != r {
		return 0, errDraining // this attempt is over
	}
	if r.at < len(k.kept) {
		n := copy(p, k.kept[r.at:])
		r.at += n
		return n, nil
	}
	if k.end != nil {
		return 0, k.end
	}
	n, err := k.from.Read(p)
	if k.end = err; k.over || n+len(k.kept) > maxCopyBody {
		k.over, k.kept = true, nil
		k.have.Store(0)
		r.at = 0
	} else {
		k.kept = append(k.kept, p[:n]...)
		k.have.Store(int64(len(k.kept)))
		r.at += n
	}
	return n, err
}

// Close leaves the body open, for another attempt; the server closes it.
func (r *keptReader) Close() error { return nil }

// all is the whole body; false: it has not gone by whole, or is too large.
func (k *keptBody) all() ([]byte, bool) {
	if !k.mu.TryLock() {
		return nil, false
	}
	defer k.mu.Unlock()
	return k.kept, k.end == io.EOF && !k.over
}

// isGone tells whether the body cannot be had again.
func (k *keptBody) isGone() bool {
	if !k.mu.TryLock() { // unless all of it has come, what the instance said already has to do
		return k.have.Load() != k.length
	}
	defer k.mu.Unlock()
	return k.over
}
