package carry

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"nightjar/proxy/h2"
	"nightjar/proxy/http1"
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
	late       []http1.Field // of the trailer of the request, until its body is read to the end
	isOver     bool          // nobody reads any more
	gone       error         // the stream is over before its end
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
		d.timer = time.AfterFunc(time.Until(at), func() {
			n.mu.Lock() // whoever has just found that it is not over waits by then
			defer n.mu.Unlock()
			n.more.Broadcast()
		})
	}
	n.more.Broadcast()
}

func (n *netStream) Keep()    {}
func (n *netStream) Release() {}

// Head takes the head of the request, and begins with it; or its trailer.
func (n *netStream) Head(_ *h2.Batch, head *h2.Block, isEnd bool) {
	if n.r != nil {
		n.mu.Lock()
		n.late = append(n.late, head.List...)
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

// showTrailer makes the trailer that has come that of the request. It is called by whoever
// reads the body to its end, as net/http does. The caller holds mu.
func (n *netStream) showTrailer() {
	for i := range n.late {
		k := textproto.CanonicalMIMEHeaderKey(n.late[i].Name)
		if _, isAnnounced := n.r.Trailer[k]; isAnnounced {
			n.r.Trailer[k] = append(n.r.Trailer[k], n.late[i].Value)
		}
	}
	n.late = nil
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
			n.caller.l.panicked(what)
		}
		if !isDone {
			n.end(h2.InternalError)
		}
		n.drop()
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
	defer n.drop()
	n.header = http.Header{}
	n.caller.l.server.refuseTooLarge(n, n.r)
	n.finish()
}

// Data takes a piece of the body.
func (n *netStream) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	n.mu.Lock()
	if n.gotEnd = n.gotEnd || isEnd; !n.isOver {
		n.came = append(n.came, p...)
		n.caller.l.HTTP2.held.Add(len(p))
		flow -= len(p)
	}
	n.mu.Unlock()
	n.more.Broadcast()
	n.Credit(b, flow) // padding, or what nobody reads
}

// drop lets go of what came of the body, and comes.
func (n *netStream) drop() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.caller.l.HTTP2.held.Add(-len(n.came))
	n.came, n.isOver = nil, true
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
		n.caller.l.HTTP2.held.Add(-took)
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
	if err == io.EOF {
		n.showTrailer()
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
