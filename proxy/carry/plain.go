package carry

import (
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
	"nightjar/proxy/observe"
)

// Sizes of buffers.
const (
	firstRead   = 4 << 10  // bytes of a buffer for requests
	keptBodyMax = 64 << 10 // a larger body is streamed, by net/http
	maxHeader   = 64 << 10 // of the head of a message
)

// plain serves one connection of HTTP/1.1 by our own codec, without TLS or from a member
// by mutual TLS: one goroutine, requests one after the other, a write for each direction.
// A request whose body is short is read whole before anything is sent on; one that needs
// more of the protocol takes the connection to net/http.
//
// Nothing but life and busy is touched by another goroutine.
type plain struct {
	listener *Listener
	src      *Source
	conn     callerConn
	raw      syscall.RawConn // of the connection below TLS
	peer     *member         // who calls, by mutual TLS; nil: without
	first    [1]byte
	remote   string // address of the caller
	shard    *observe.Shard
	slot     int // where its connections to instances are put back
	at       *caller
	*work    // nil while nothing is under way

	life       lifetime
	watch      callerWatch
	busy       atomic.Bool   // a request is under way
	isLast     bool          // the connection ends with this request
	wrote      time.Duration // when something was last written to the caller
	writeUntil time.Duration // write deadline; 0: none was set
	readUntil  time.Duration // idle deadline; 0: none is set

	read   func(fd uintptr) bool // made once: see fill
	got    int
	gotErr error
}

// callerConn is a connection of TCP or TLS.
type callerConn interface {
	net.Conn
	CloseWrite() error
}

// work is what a request needs while it is under way. It is pooled, so that
// idle connections hold no buffers.
type work struct {
	engine.Exchange
	in   []byte // what came from the caller: have bytes, of which head and body are the request's
	have int
	head int
	req  http1.Request
	out  headerBytes // what is being written, in either direction
	to   attempt

	up          *upstream
	sentInterim bool   // an interim answer of this attempt has gone to the caller
	interims    int    // that came in this attempt
	answer      []byte // what came from the instance: filled bytes, of which used are dealt with
	filled      int
	used        int
	resp        http1.Response
	body        http1.Body
	received    uint64 // bytes of bodies that went to the caller

	seen lookedUp
	room room
	alarm
	visitor
}

var works = sync.Pool{New: func() any {
	return &work{
		in:     make([]byte, firstRead),
		out:    headerBytes{make([]byte, 0, 8<<10)},
		answer: make([]byte, 8<<10),
		alarm:  newAlarm(),
	}
}}

// headerBytes is a header as it is written to a connection of HTTP/1.1.
type headerBytes struct{ b []byte }

func (h *headerBytes) Add(name, value string) {
	h.b = append(h.b, name...)
	h.b = append(h.b, ": "...)
	h.b = append(h.b, value...)
	h.b = append(h.b, "\r\n"...)
}

func (h *headerBytes) AddBytes(name string, value []byte) {
	h.b = append(h.b, name...)
	h.b = append(h.b, ": "...)
	h.b = append(h.b, value...)
	h.b = append(h.b, "\r\n"...)
}

func (h *headerBytes) addLength(n int64) {
	h.b = append(h.b, "Content-Length: "...)
	h.b = strconv.AppendInt(h.b, n, 10)
	h.b = append(h.b, "\r\n"...)
}

// release gives the buffers back, unless a large head or body made them grow.
func (w *work) release() {
	if cap(w.in) > 16<<10 || cap(w.answer) > 16<<10 || cap(w.out.b) > 96<<10 {
		return
	}
	w.have, w.head, w.up = 0, 0, nil
	works.Put(w)
}

func (c *plain) Method() string                 { return c.req.Method }
func (c *plain) Host() string                   { return c.req.Host }
func (c *plain) Path() string                   { return c.req.Path }
func (c *plain) Query() string                  { return strings.TrimPrefix(c.req.Query, "?") }
func (c *plain) Caller() string                 { return callerOf(c.src, c.peer) }
func (c *plain) Site() string                   { return siteOf(c.src, c.peer) }
func (c *plain) isHTTP2() bool                  { return false }
func (c *plain) member() *member                { return c.peer }
func (c *plain) attempt() *attempt              { return &c.to }
func (c *plain) ended() error                   { return c.life.ended() }
func (c *plain) wake() func()                   { return c.waker }
func (c *plain) bodyError() error               { return nil } // it was read whole before
func (c *plain) length() int64                  { return c.req.Body }
func (c *plain) isBodySlow() bool               { return false }
func (c *plain) bytes() (sent, received uint64) { return uint64(c.req.Body), c.received }

func (c *plain) came() forward.Came {
	return forward.Came{Fields: &c.req.Fields, Host: c.req.Host, Protocol: "1.1", Remote: c.remote}
}

func (c *plain) Header(key string) []string { return c.seen.find(&c.req.Fields, key) }

// serve serves the connection until it ends or goes to net/http.
func (c *plain) serve() {
	isHandedOn := false
	defer func() {
		if what := recover(); what != nil { // one connection is to suffer, not all
			c.listener.panicked(what)
			c.work = nil
		}
		c.listener.forget(c)
		if c.work != nil {
			c.work.release()
		}
		if !isHandedOn {
			c.conn.Close()
			c.at.leave()
		}
	}()
	for {
		switch err := c.next(); {
		case err == http1.ErrElsewhere:
			isHandedOn = true
			c.conn.SetDeadline(time.Time{})
			early := append([]byte(nil), c.in[:c.have]...)
			c.listener.forget(c)
			c.work.release()
			c.work = nil
			c.listener.handOn(c.conn, early, c.peer, c.at)
			return
		case err != nil:
			return
		}
	}
}

// errDone ends a connection that has nothing more to say.
var errDone = errors.New("done")

// next takes one request and sees it through.
func (c *plain) next() error {
	if c.work == nil || c.have == 0 {
		c.busy.Store(false)
		if c.readUntil < c.wrote+idleTimeout/2 {
			c.readUntil = c.src.now() + idleTimeout
			c.conn.SetReadDeadline(c.src.Epoch.Add(c.readUntil))
		}
		if c.at.isOut.Load() { // it had to make room before the deadline was set anew
			return errDone
		}
		if err := c.fill(); err != nil {
			return err
		}
		c.busy.Store(true)
	}
	if c.listener.isGeneral {
		return http1.ErrElsewhere
	}
	if err := c.receive(); err != nil {
		if c.at.isOut.Load() {
			return errDone
		}
		var refusal *http1.Refusal
		if errors.As(err, &refusal) {
			c.refuseUnread(refusal)
			return errDone
		}
		return err
	}
	if c.listener.handler.leadsToHTTP2(c.req.Host) { // which this codec does not speak
		return http1.ErrElsewhere
	}
	c.received = 0
	c.seen.forget()
	c.isLast = c.req.Close()
	c.at.work()
	keep := carry(c.listener.handler, c, &c.Exchange, c.shard, &c.room)
	c.unwatch()
	c.dropAnswer()
	c.at.wait()
	if !keep || c.isLast {
		return errDone
	}
	end := c.head + int(c.req.Body)
	c.have = copy(c.in, c.in[end:c.have])
	return nil
}

// endsHere tells whether the connection ends with the request that is under way.
// Asked when the head of the answer is written, it is still time to say so.
func (c *plain) endsHere() bool {
	c.isLast = c.isLast || c.listener.isDraining() || !c.listener.isGood(c.peer)
	return c.isLast
}

// unwatch ends the watch of the caller before the connection is read again.
func (c *plain) unwatch() {
	if !c.watch.isOn {
		return
	}
	c.watch.stop(func() { c.conn.SetReadDeadline(time.Unix(1, 0)) })
	c.life.onEnd(nil)
	c.conn.SetReadDeadline(time.Time{})
	c.readUntil = 0
}

// watchCaller begins to look out for the caller's leaving.
func (c *plain) watchCaller() {
	if !c.watch.isOn {
		c.watch.start(c.raw, c.peer != nil, func() { c.life.endRequest(errCallerLeft) })
	}
}

// fill reads the first bytes of a request. It holds no buffer while it waits.
func (c *plain) fill() error {
	if c.peer != nil {
		return c.fillSecure()
	}
	if c.read == nil {
		c.read = func(fd uintptr) bool {
			if c.work == nil {
				c.work = works.Get().(*work)
			}
			for {
				n, err := syscall.Read(int(fd), c.in)
				switch {
				case err == syscall.EINTR:
					continue
				case err == syscall.EAGAIN:
					c.work.release()
					c.work = nil
					return false
				}
				if c.got, c.gotErr = n, err; n == 0 && err == nil {
					c.gotErr = io.EOF
				}
				return true
			}
		}
	}
	c.got, c.gotErr = 0, nil
	err := c.raw.Read(c.read)
	if err == nil {
		err = c.gotErr
	}
	if err != nil {
		return err
	}
	c.have = c.got
	return nil
}

// fillSecure is fill over TLS: it waits for one byte. The rest of its record is there
// then.
func (c *plain) fillSecure() error {
	if c.work != nil {
		c.work.release()
		c.work = nil
	}
	n, err := c.conn.Read(c.first[:])
	if n == 0 {
		return err
	}
	c.work = works.Get().(*work)
	c.in[0] = c.first[0]
	n, err = c.conn.Read(c.in[1:])
	c.have = 1 + n
	return err
}

// receive reads on until the request is there, head and body.
func (c *plain) receive() error {
	isBounded := false
	defer func() {
		if isBounded {
			c.readUntil = 0
			c.conn.SetReadDeadline(time.Time{})
		}
	}()
	more := func(limit time.Duration) error {
		if !isBounded {
			isBounded = true
			c.conn.SetReadDeadline(time.Now().Add(limit))
		}
		n, err := c.conn.Read(c.in[c.have:])
		c.have += n
		if n > 0 {
			return nil
		}
		return err
	}
	for {
		n, err := c.req.Parse(c.in[:c.have])
		switch err {
		case nil:
			c.head = n
			return c.receiveBody(more, &isBounded)
		case http1.ErrIncomplete:
		default:
			return err
		}
		for isWhole := false; !isWhole; { // a head that comes byte by byte is not parsed again for each
			if c.have == len(c.in) {
				if c.have >= maxHeader {
					return &http1.Refusal{
						Status: http.StatusRequestHeaderFieldsTooLarge,
						Why:    "the head is longer than " + strconv.Itoa(maxHeader) + " bytes",
					}
				}
				c.in = append(make([]byte, 0, 2*len(c.in)), c.in...)[:2*len(c.in)]
			}
			before := max(c.have-3, 0)
			patience := c.listener.headTime()
			if err := more(patience); err != nil {
				if errors.Is(err, os.ErrDeadlineExceeded) {
					return &http1.Refusal{
						Status: http.StatusRequestTimeout,
						Why:    "the head did not come within " + patience.String(),
					}
				}
				return err
			}
			isWhole = strings.Contains(string(c.in[before:c.have]), "\r\n\r\n")
		}
	}
}

// receiveBody reads the rest of a short body. A longer one, or one that comes
// slowly, is for net/http to stream.
func (c *plain) receiveBody(more func(time.Duration) error, isBounded *bool) error {
	if c.req.Body > keptBodyMax {
		return http1.ErrElsewhere
	}
	need := c.head + int(c.req.Body)
	if c.have >= need {
		return nil
	}
	if need > len(c.in) {
		c.in = append(make([]byte, 0, need), c.in[:c.have]...)[:need]
		if _, err := c.req.Parse(c.in[:c.have]); err != nil { // names and values are to point into the new buffer
			return err
		}
	}
	*isBounded = false
	for c.have < need {
		if err := more(bodyPatience); errors.Is(err, os.ErrDeadlineExceeded) {
			return http1.ErrElsewhere
		} else if err != nil {
			return err
		}
	}
	return nil
}

// refuseUnread refuses what cannot be read, and ends the connection.
func (c *plain) refuseUnread(why *http1.Refusal) {
	reason := engine.BadRequest
	if why.Status == http.StatusRequestHeaderFieldsTooLarge {
		reason = engine.TooLarge
	}
	c.req = http1.Request{Method: "GET"}
	c.isLast, c.received = true, 0
	c.seen.forget()
	h := http.Header{}
	refusal := forward.Refusal{
		Status:  why.Status,
		Reason:  reason,
		Detail:  why.Why,
		Proxy:   c.src.Proxy,
		Request: c.listener.handler.outsider(),
	}
	c.reply(why.Status, h, refusal.Text(h))
	c.listener.handler.refused(c, &c.Exchange, c.shard, &refusal)
	// Closing with bytes unread would reset the connection and take the answer
	// with it (RFC 9112, section 9.6).
	c.conn.CloseWrite()
	c.conn.SetReadDeadline(time.Now().Add(lingering))
	io.CopyN(io.Discard, c.conn, 256<<10)
}

func (c *plain) wait(d time.Duration) (why error, isOver bool) {
	c.watchCaller()
	c.life.onEnd(c.ender)
	defer c.life.onEnd(nil)
	if why := c.life.ended(); why != nil {
		return why, true
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-c.woken:
	}
	return c.life.ended(), true
}

// write writes to the caller. A caller that does not take it loses its place among
// the requests under way when their time is over, and is given up some time later.
func (c *plain) write(b []byte) error {
	c.wrote = c.src.now()
	patience := c.listener.patience(len(b))
	holdsPlace := len(b) > smallWrite && c.HoldsPlace()
	switch {
	case holdsPlace:
		c.setWriteDeadline(min(c.wrote+patience, max(c.Deadline(), c.wrote+placeGrace)))
	case c.writeUntil < c.wrote+patience/2 || c.writeUntil > c.wrote+patience:
		c.setWriteDeadline(c.wrote + patience)
	}
	for {
		n, err := c.conn.Write(b)
		if err == nil {
			return nil
		}
		b = b[n:]
		if holdsPlace && errors.Is(err, os.ErrDeadlineExceeded) && c.src.now() < c.wrote+patience {
			holdsPlace = false
			c.FreePlace()
			c.setWriteDeadline(c.wrote + patience)
			continue
		}
		c.life.endRequest(errCallerLeft) // nobody is there, or nobody reads
		return err
	}
}

func (c *plain) setWriteDeadline(until time.Duration) {
	c.writeUntil = until
	c.conn.SetWriteDeadline(c.src.Epoch.Add(until))
}
