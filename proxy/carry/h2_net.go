package carry

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"nightjar/proxy/h2"
)

// netStream is a request of HTTP/2 that is carried over net/http: the body of its
// http.Request, and the http.ResponseWriter of its answer.
type netStream struct {
	h2.Stream
	caller *h2Caller
	r      *http.Request // nil before the head has come
	cancel context.CancelCauseFunc

	mu         sync.Mutex // guards what follows
	more       sync.Cond  // is told of every change
	came       []byte     // of the body, and not read yet
	gotEnd     bool
	gone       error // the stream is over before its end
	readUntil  deadline
	writeUntil deadline
	unsent     int // bytes of the answer that wait for the caller
	isSent     bool

	// Of the answer, by the goroutine of the request alone.
	header     http.Header
	status     int // 0: nothing was said yet
	hasHead    bool
	out        []byte // of the body, and not sent yet
	expects    bool   // the caller waits to be told to send its body
	isSwitched bool   // the stream carries another protocol
}

// deadline is a time after which nothing is waited for.
type deadline struct {
	at    time.Time // zero: none
	timer *time.Timer
}

func (d *deadline) isOver() bool { return !d.at.IsZero() && !time.Now().Before(d.at) }

// set sets a deadline. The caller holds mu.
func (n *netStream) set(d *deadline, at time.Time) {
	if d.timer != nil {
		d.timer.Stop()
	}
	if d.at = at; !at.IsZero() {
		d.timer = time.AfterFunc(time.Until(at), n.more.Broadcast)
	}
	n.more.Broadcast()
}

func (n *netStream) Keep()    {}
func (n *netStream) Release() {}

// Head takes the head of the request, and begins with it; or its trailer.
func (n *netStream) Head(_ *h2.Batch, head *h2.Block, isEnd bool) {
	if n.r != nil {
		n.mu.Lock()
		for i := range head.List {
			f := &head.List[i]
			if k := textproto.CanonicalMIMEHeaderKey(f.Name); n.r.Trailer != nil && n.announces(k) {
				n.r.Trailer[k] = append(n.r.Trailer[k], f.Value)
			}
		}
		n.gotEnd = true
		n.mu.Unlock()
		n.more.Broadcast()
		return
	}
	n.gotEnd = isEnd
	n.r = n.request(head, isEnd)
	if head.IsTooLarge {
		n.caller.l.serving.Go(n.refuseTooLarge)
		return
	}
	n.caller.l.serving.Go(n.serve)
}

func (n *netStream) announces(key string) bool {
	_, is := n.r.Trailer[key]
	return is
}

// request is the request as net/http would have it.
func (n *netStream) request(head *h2.Block, isEnd bool) *http.Request {
	ctx, cancel := context.WithCancelCause(n.caller.ctx)
	n.cancel = cancel
	h := make(http.Header, len(head.List))
	r := &http.Request{
		Method:     head.Method,
		Proto:      "HTTP/2.0",
		ProtoMajor: 2,
		Host:       head.Authority,
		RequestURI: head.Path,
		URL:        &url.URL{},
		Header:     h,
		Body:       http.NoBody,
		RemoteAddr: n.caller.remote,
		TLS:        n.caller.tls,
	}
	for i := range head.List {
		f := &head.List[i]
		switch f.Name {
		case "host":
			if r.Host == "" {
				r.Host = f.Value
			}
		case "cookie": // which may come in pieces (RFC 9113, section 8.2.3)
			if have := h["Cookie"]; have != nil {
				have[0] += "; " + f.Value
			} else {
				h["Cookie"] = []string{f.Value}
			}
		case "trailer":
			for k := range strings.SplitSeq(f.Value, ",") {
				if k = textproto.CanonicalMIMEHeaderKey(strings.TrimSpace(k)); k != "" {
					if r.Trailer == nil {
						r.Trailer = http.Header{}
					}
					r.Trailer[k] = nil
				}
			}
		case "expect":
			n.expects = strings.EqualFold(f.Value, "100-continue")
		default:
			k := textproto.CanonicalMIMEHeaderKey(f.Name)
			h[k] = append(h[k], f.Value)
		}
	}
	switch {
	case head.Protocol == "websocket":
		asUpgrade(r)
	case r.Method == http.MethodConnect:
		r.RequestURI = head.Authority
	}
	if !isEnd && head.Protocol == "" {
		r.Body = netBody{n}
		r.ContentLength = head.Length()
	}
	return r.WithContext(ctx)
}

// asUpgrade makes the request one of HTTP/1.1, which opens a WebSocket by an upgrade, as
// most workloads know it (RFC 8441, section 5).
func asUpgrade(r *http.Request) {
	var key [16]byte
	rand.Read(key[:])
	r.Method, r.Proto, r.ProtoMajor, r.ProtoMinor = http.MethodGet, "HTTP/1.1", 1, 1
	r.Header["Connection"], r.Header["Upgrade"] = []string{"Upgrade"}, []string{"websocket"}
	r.Header["Sec-Websocket-Key"] = []string{base64.StdEncoding.EncodeToString(key[:])}
}

// serve carries the request.
func (n *netStream) serve() {
	defer n.cancel(nil)
	isDone := false
	defer func() {
		what := recover()
		if what != nil && what != http.ErrAbortHandler {
			n.caller.l.Log.Error("panic while serving a request; please report it", "panic", what, "stack", string(debug.Stack()))
		}
		if !isDone {
			n.end(h2.InternalError)
		}
	}()
	if n.r.Context().Err() != nil { // it was reset before it was looked at
		return
	}
	n.header = http.Header{}
	n.caller.l.server.ServeHTTP(n, n.r)
	n.finish()
	isDone = true
}

// refuseTooLarge answers a request whose header list is over the limit.
func (n *netStream) refuseTooLarge() {
	defer n.cancel(nil)
	n.header = http.Header{}
	n.caller.l.server.refuseTooLarge(n, n.r)
	n.finish()
}

// Data takes a piece of the body.
func (n *netStream) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	n.mu.Lock()
	n.came = append(n.came, p...)
	n.gotEnd = n.gotEnd || isEnd
	n.mu.Unlock()
	n.more.Broadcast()
	n.Credit(b, flow-len(p)) // padding is nobody's
}

// Sent says that some of what waited has gone on.
func (n *netStream) Sent(_ *h2.Batch, sent int, isEnd bool) {
	n.mu.Lock()
	n.unsent -= sent
	n.isSent = n.isSent || isEnd
	n.mu.Unlock()
	n.more.Broadcast()
}

// Gone says that the stream is over before its end.
func (n *netStream) Gone(_ *h2.Batch, why *h2.Gone) {
	n.mu.Lock()
	isOwn := n.gone != nil
	if n.gone == nil {
		n.gone = io.ErrUnexpectedEOF
		if why.IsOwn && why.Err == nil {
			n.gone = why
		}
	}
	n.mu.Unlock()
	n.more.Broadcast()
	n.cancel(errCallerLeft)
	if !isOwn && !why.IsOwn {
		n.caller.reset()
	}
}

// end gives the stream up.
func (n *netStream) end(code h2.Code) {
	n.mu.Lock()
	if n.gone == nil {
		n.gone = errDone
	}
	n.mu.Unlock()
	var b h2.Batch
	n.Reset(&b, code)
	b.Flush()
}

// netBody is the body of the request.
type netBody struct{ n *netStream }

func (b netBody) Read(p []byte) (int, error) {
	n := b.n
	if n.expects {
		n.expects = false
		n.WriteHeader(http.StatusContinue)
	}
	n.mu.Lock()
	for len(n.came) == 0 && !n.gotEnd && n.gone == nil && !n.readUntil.isOver() {
		n.more.Wait()
	}
	took := copy(p, n.came)
	var err error
	if took > 0 {
		if n.came = n.came[took:]; len(n.came) == 0 {
			n.came = nil
		}
	} else {
		switch {
		case n.gone != nil:
			err = n.gone
		case n.gotEnd:
			err = io.EOF
		default:
			err = os.ErrDeadlineExceeded
		}
	}
	if len(n.came) == 0 && n.gotEnd && n.gone == nil && err == nil && took < len(p) {
		err = io.EOF
	}
	n.mu.Unlock()
	if took > 0 {
		var b h2.Batch
		n.Credit(&b, took)
		b.Flush()
	}
	return took, err
}

func (b netBody) Close() error { return nil }

// isMissing tells whether the rest of the body has not come.
func (b netBody) isMissing() bool {
	b.n.mu.Lock()
	defer b.n.mu.Unlock()
	return !b.n.gotEnd
}

func (n *netStream) SetReadDeadline(at time.Time) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.set(&n.readUntil, at)
	return nil
}

func (n *netStream) SetWriteDeadline(at time.Time) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.set(&n.writeUntil, at)
	return nil
}

// Header is that of the answer.
func (n *netStream) Header() http.Header { return n.header }

// WriteHeader says the status. An interim answer goes out at once, the head of the answer
// with what follows.
func (n *netStream) WriteHeader(status int) {
	switch {
	case n.status != 0:
	case status == http.StatusSwitchingProtocols: // which HTTP/2 does by an answer of the usual kind
		n.status, n.isSwitched = http.StatusOK, true
		for _, k := range []string{"Connection", "Upgrade", "Sec-Websocket-Accept"} {
			delete(n.header, k)
		}
	case status >= 200:
		n.status = status
	default:
		var b h2.Batch
		if w := n.begin(&b, status); w != nil {
			w.End(false)
		}
		b.Flush()
	}
}

// begin begins a header list with a status and the fields of the header.
func (n *netStream) begin(b *h2.Batch, status int) *h2.Writer {
	w := n.Begin(b)
	if w == nil {
		return nil
	}
	w.Add(":status", fmt.Sprint(status))
	announced := n.header["Trailer"]
	for k, values := range n.header {
		if k == "Connection" || strings.HasPrefix(k, http.TrailerPrefix) || announced != nil && tokenIn(announced, k) {
			continue
		}
		for _, v := range values {
			w.Add(k, v)
		}
	}
	if status >= 200 && n.header["Date"] == nil {
		w.Add("date", today())
	}
	return w
}

// netRoom is how much of an answer is collected before it is sent.
const netRoom = 16 << 10

func (n *netStream) Write(p []byte) (int, error) {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	if n.r.Method == http.MethodHead || n.status == http.StatusNoContent || n.status == http.StatusNotModified {
		return len(p), nil
	}
	if n.out = append(n.out, p...); len(n.out) < netRoom {
		return len(p), nil
	}
	if err := n.send(false); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Flush sends what was written so far.
func (n *netStream) Flush() { n.send(false) }

// send sends what was written, and with isEnd the end of the answer. It waits until the
// caller has taken it.
func (n *netStream) send(isEnd bool) error {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	var b h2.Batch
	trailer := n.trailer(isEnd)
	endsHere := isEnd && len(trailer) == 0
	if !n.hasHead {
		n.hasHead = true
		isClosing := n.header["Connection"] != nil && n.header["Connection"][0] == "close"
		w := n.begin(&b, n.status)
		if w == nil {
			return n.goneOr(io.ErrClosedPipe)
		}
		w.End(endsHere && len(n.out) == 0)
		if endsHere && len(n.out) == 0 {
			b.Flush()
			return nil
		}
		if isClosing {
			n.caller.conn.GoAway(&b)
		}
	}
	n.mu.Lock()
	n.unsent += len(n.out)
	n.mu.Unlock()
	sent := 0
	if len(n.out) > 0 || endsHere {
		sent = n.Stream.Write(&b, n.out, endsHere)
	}
	isLate := sent < len(n.out)
	n.mu.Lock()
	n.unsent -= sent
	n.isSent = n.isSent || endsHere && !isLate
	n.mu.Unlock()
	n.out = n.out[:0]
	if isEnd && !endsHere {
		if w := n.Begin(&b); w != nil {
			for k, values := range trailer {
				for _, v := range values {
					w.Add(k, v)
				}
			}
			w.End(true)
		}
		n.mu.Lock()
		n.isSent = !isLate
		n.mu.Unlock()
	}
	b.Flush()
	n.mu.Lock()
	defer n.mu.Unlock()
	for (n.unsent > 0 || isEnd && !n.isSent) && n.gone == nil && !n.writeUntil.isOver() {
		n.more.Wait()
	}
	switch {
	case n.gone != nil:
		return n.gone
	case n.unsent > 0 || isEnd && !n.isSent:
		return os.ErrDeadlineExceeded
	}
	return nil
}

func (n *netStream) goneOr(err error) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.gone != nil {
		return n.gone
	}
	return err
}

// trailer is what follows the body.
func (n *netStream) trailer(isEnd bool) (t http.Header) {
	if !isEnd {
		return nil
	}
	announced := n.header["Trailer"]
	for k, v := range n.header {
		name, isPrefixed := strings.CutPrefix(k, http.TrailerPrefix)
		if isPrefixed || announced != nil && tokenIn(announced, k) {
			if t == nil {
				t = http.Header{}
			}
			t[name] = v
		}
	}
	return t
}

// Hijack is the stream as a connection, for another protocol.
func (n *netStream) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	if !n.isSwitched {
		return nil, nil, errors.New("the stream has not switched to another protocol")
	}
	c := &netConn{netBody{n}}
	return c, bufio.NewReadWriter(bufio.NewReader(c), bufio.NewWriter(c)), n.send(false)
}

// netConn is a stream as a connection.
type netConn struct{ netBody }

func (c *netConn) Write(p []byte) (int, error) {
	c.n.out = append(c.n.out, p...)
	if err := c.n.send(false); err != nil {
		return 0, err
	}
	return len(p), nil
}

// CloseWrite ends one direction.
func (c *netConn) CloseWrite() error { return c.n.send(true) }

// Close ends both.
func (c *netConn) Close() error { c.n.end(h2.Cancel); return nil }

func (c *netConn) LocalAddr() net.Addr  { return c.n.caller.l.Addr() }
func (c *netConn) RemoteAddr() net.Addr { return c.n.caller.conn.RemoteAddr() }

func (c *netConn) SetDeadline(at time.Time) error {
	c.SetReadDeadline(at)
	return c.SetWriteDeadline(at)
}
func (c *netConn) SetReadDeadline(at time.Time) error  { return c.n.SetReadDeadline(at) }
func (c *netConn) SetWriteDeadline(at time.Time) error { return c.n.SetWriteDeadline(at) }

// finish sends the rest of the answer, and its end. What still comes of the request is
// not wanted then (RFC 9113, section 8.1).
func (n *netStream) finish() {
	if n.isSwitched {
		return // whoever carried it has ended it
	}
	if !n.hasHead && n.header["Content-Length"] == nil && len(n.out) > 0 {
		n.header["Content-Length"] = []string{fmt.Sprint(len(n.out))}
	}
	n.SetWriteDeadline(time.Now().Add(n.caller.l.patience(len(n.out))))
	if err := n.send(true); err != nil {
		if errors.Is(err, os.ErrDeadlineExceeded) {
			n.end(h2.Cancel)
		}
		return
	}
	n.mu.Lock()
	gotEnd := n.gotEnd
	n.mu.Unlock()
	if !gotEnd {
		n.end(h2.NoError)
	}
}
