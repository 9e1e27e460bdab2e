package proxy

import (
	"io"
	"net/http"
	"net/textproto"
	"sync"
	"sync/atomic"
	"time"
)

// metered is a body whose bytes are counted as they come.
type metered struct {
	io.ReadCloser
	n atomic.Uint64
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	m.n.Add(uint64(n))
	return n, err
}

// interim passes interim answers on (RFC 9110, section 15.2), as long as the
// try lasts: the transport may still be at it when the try was given up.
type interim struct {
	mu     sync.Mutex
	to     http.ResponseWriter // nil: the try is over
	passed bool
}

// pass leaves out 100, which is between two hops: net/http says it when the
// body is asked for.
func (i *interim) pass(code int, h textproto.MIMEHeader) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.to == nil || code == http.StatusContinue || code == http.StatusSwitchingProtocols {
		return nil
	}
	i.passed = true
	mine := i.to.Header()
	for k, v := range h {
		mine[k] = v
	}
	i.to.WriteHeader(code)
	for k := range h {
		delete(mine, k)
	}
	return nil
}

func (i *interim) end() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.to = nil
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

func (g *general) copyBody(w http.ResponseWriter, answer *http.Response) error {
	b := buffers.Get().(*[]byte)
	defer buffers.Put(b)
	var flush http.Flusher
	if answer.ContentLength < 0 {
		flush, _ = w.(http.Flusher)
	}
	control := http.NewResponseController(w)
	for until := (time.Time{}); ; {
		n, err := answer.Body.Read(*b)
		if n > 0 {
			if now := time.Now(); until.Before(now.Add(stall / 2)) {
				until = now.Add(stall)
				control.SetWriteDeadline(until)
			}
			if _, werr := w.Write((*b)[:n]); werr != nil {
				return werr
			}
			g.passed.Add(uint64(n))
			if flush != nil {
				flush.Flush()
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
