package proxy

import (
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/http1"
)

const (
	firstRead    = 4 << 10                // bytes of a buffer for requests
	keptBodyMax  = 64 << 10               // a larger body is streamed, by net/http
	bodyPatience = 250 * time.Millisecond // a body that takes longer is streamed too
	stall        = 2 * time.Minute        // a peer that takes no bytes for so long is given up
	lingering    = 500 * time.Millisecond // for a refused caller to take its answer
)

// plain serves one connection of HTTP/1.1 without TLS by our own codec: one
// goroutine, requests one after the other, a write for each direction. A
// request whose body is short is read whole before anything is sent on; one
// that needs more of the protocol takes the connection to net/http.
type plain struct {
	port  *port
	conn  *net.TCPConn
	raw   syscall.RawConn
	from  string // address of the caller
	shard *shard
	near  int // where its connections to instances are put back
	by    *carrier
	*work // nil while nothing is under way

	busy     atomic.Bool
	last     bool          // the connection ends with this request
	writable time.Duration // write deadline
	waitable time.Duration // idle deadline

	read   func(fd uintptr) bool // made once: see fill
	got    int
	gotErr error

	watch
}

// work is what a request needs while it is under way. It is pooled, so that
// idle connections hold no buffers.
type work struct {
	engine.Exchange
	in   []byte // what came from the caller: have bytes, of which head and body are the request's
	have int
	head int
	req  http1.Request
	out  []byte // what is being written, in either direction

	up     *upstream
	told   bool   // an interim answer of this try has gone to the caller
	answer []byte // what came from the instance: got bytes, of which answerHead are the head
	filled int
	used   int
	resp   http1.Response
	chunks http1.Chunks
	passed uint64 // bytes of bodies that went to the caller

	values [8]struct {
		key  string
		list []string
	}
	looked int
	room   []string
	alarm
}

var works = sync.Pool{New: func() any {
	return &work{in: make([]byte, firstRead), out: make([]byte, 0, 8<<10), answer: make([]byte, 8<<10), alarm: newAlarm()}
}}

// alarm wakes a request that waits in a line.
type alarm struct {
	woken chan struct{}
	waker func()
}

func newAlarm() alarm {
	woken := make(chan struct{}, 1)
	return alarm{woken, func() {
		select {
		case woken <- struct{}{}:
		default: // it has not heard the last one yet
		}
	}}
}

// release gives the buffers back, unless a large head or body made them grow.
func (w *work) release() {
	if cap(w.in) > 16<<10 || cap(w.answer) > 16<<10 || cap(w.out) > 96<<10 {
		return
	}
	w.have, w.head, w.up = 0, 0, nil
	works.Put(w)
}

func (c *plain) Method() string                 { return c.req.Method }
func (c *plain) Host() string                   { return c.req.Host }
func (c *plain) Path() string                   { return c.req.Path }
func (c *plain) Query() string                  { return strings.TrimPrefix(c.req.Query, "?") }
func (c *plain) Caller() string                 { return c.by.caller }
func (c *plain) Site() string                   { return c.by.site }
func (c *plain) version() int                   { return 1 }
func (c *plain) remote() string                 { return c.from }
func (c *plain) moved() (sent, received uint64) { return uint64(c.req.Body), c.passed }
func (c *plain) local() string                  { return c.conn.LocalAddr().String() }

// Header looks a field up. What was found is kept for the next time.
func (c *plain) Header(key string) []string {
	for i := range c.looked {
		if c.values[i].key == key {
			return c.values[i].list
		}
	}
	from := len(c.room)
	for i := range c.req.List {
		if f := &c.req.List[i]; len(f.Name) == len(key) && strings.EqualFold(f.Name, key) {
			c.room = append(c.room, f.Value)
		}
	}
	var list []string
	if len(c.room) > from {
		list = c.room[from:len(c.room):len(c.room)]
	}
	if c.looked < len(c.values) {
		c.values[c.looked].key, c.values[c.looked].list = key, list
		c.looked++
	}
	return list
}

// serve serves the connection until it ends or goes elsewhere.
func (c *plain) serve() {
	keep := false
	defer func() {
		if what := recover(); what != nil { // one connection is to suffer, not all
			c.port.log.Error("a request made this program stumble; please report it", "what", what, "stack", string(debug.Stack()))
			c.work = nil
		}
		c.port.forget(c)
		if c.work != nil {
			c.work.release()
		}
		if !keep {
			c.conn.Close()
		}
	}()
	for {
		switch err := c.next(); {
		case err == http1.ErrElsewhere:
			keep = true
			c.conn.SetDeadline(time.Time{})
			c.port.elsewhere(c.conn, append([]byte(nil), c.in[:c.have]...))
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
		if now := c.by.now(); c.waitable < now+idleTimeout/2 {
			c.waitable = now + idleTimeout
			c.conn.SetReadDeadline(c.by.epoch.Add(c.waitable))
		}
		if err := c.fill(); err != nil {
			return err
		}
		c.busy.Store(true)
	}
	if err := c.receive(); err != nil {
		var no *http1.Refusal
		if errors.As(err, &no) {
			c.turnDown(no)
			return errDone
		}
		return err
	}
	c.looked, c.room, c.passed = 0, c.room[:0], 0
	c.last = c.req.Close() || c.port.leaving()
	ok := c.port.handler.carry(c, &c.Exchange, c.shard)
	c.unwatch()
	c.dropAnswer()
	if !ok || c.last {
		return errDone
	}
	end := c.head + int(c.req.Body)
	c.have = copy(c.in, c.in[end:c.have])
	return nil
}

// fill reads the first bytes of a request. It holds no buffer while it waits.
func (c *plain) fill() error {
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

// receive reads on until the request is there, head and body.
func (c *plain) receive() error {
	bounded := false
	defer func() {
		if bounded {
			c.waitable = 0
			c.conn.SetReadDeadline(time.Time{})
		}
	}()
	more := func(limit time.Duration) error {
		if !bounded {
			bounded = true
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
			if err := c.receiveBody(more, &bounded); err != nil {
				return err
			}
			return nil
		case http1.ErrIncomplete:
		default:
			return err
		}
		for whole := false; !whole; { // a head that comes byte by byte is not read again for each
			if c.have == len(c.in) {
				if c.have >= maxHeader {
					return &http1.Refusal{Status: http.StatusRequestHeaderFieldsTooLarge, Why: "the head is longer than " + strconv.Itoa(maxHeader) + " bytes"}
				}
				c.in = append(make([]byte, 0, 2*len(c.in)), c.in...)[:2*len(c.in)]
			}
			before := max(c.have-3, 0)
			if err := more(headerTimeout); err != nil {
				if errors.Is(err, os.ErrDeadlineExceeded) {
					return &http1.Refusal{Status: http.StatusRequestTimeout, Why: "the head did not come within " + headerTimeout.String()}
				}
				return err
			}
			whole = strings.Contains(string(c.in[before:c.have]), "\r\n\r\n")
		}
	}
}

// receiveBody reads the rest of a short body. A longer one, or one that comes
// slowly, is for net/http to stream.
func (c *plain) receiveBody(more func(time.Duration) error, bounded *bool) error {
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
	*bounded = false
	for c.have < need {
		if err := more(bodyPatience); errors.Is(err, os.ErrDeadlineExceeded) {
			return http1.ErrElsewhere
		} else if err != nil {
			return err
		}
	}
	return nil
}

// turnDown refuses what cannot be read, and ends the connection.
func (c *plain) turnDown(no *http1.Refusal) {
	reason := engine.BadRequest
	if no.Status == http.StatusRequestHeaderFieldsTooLarge {
		reason = engine.TooLarge
	}
	c.req = http1.Request{Method: "GET"}
	c.looked = 0
	h := http.Header{"Connection": {"close"}}
	p := problem{Status: no.Status, Detail: no.Why, Reason: reason, Proxy: c.by.name}
	c.say(no.Status, h, p.write(h, false))
	// Closing with bytes unread would reset the connection and take the answer
	// with it (RFC 9112, section 9.6).
	c.conn.CloseWrite()
	c.conn.SetReadDeadline(time.Now().Add(lingering))
	io.CopyN(io.Discard, c.conn, 256<<10)
}

func (c *plain) wait(d time.Duration) bool {
	c.watchFor(nil)
	t := time.NewTimer(d)
	defer t.Stop()
	ended := c.watch.ended
	for {
		select {
		case <-t.C:
			return !c.left()
		case <-c.woken:
			return true
		case <-ended:
			if c.left() {
				return false
			}
			ended = nil
		}
	}
}

func (c *plain) wake() func() { return c.waker }

// write writes to the caller.
func (c *plain) write(b []byte) error {
	if now := c.by.now(); c.writable < now+stall/2 {
		c.writable = now + stall
		c.conn.SetWriteDeadline(c.by.epoch.Add(c.writable))
	}
	_, err := c.conn.Write(b)
	if err != nil { // nobody is there, or nobody reads
		c.gone.Store(true)
	}
	return err
}

func (c *plain) say(status int, h http.Header, body []byte) {
	b := c.out[:0]
	b = append(b, "HTTP/1.1 "...)
	b = strconv.AppendInt(b, int64(status), 10)
	b = append(b, ' ')
	b = append(b, http.StatusText(status)...)
	b = append(b, "\r\nDate: "...)
	b = append(b, today()...)
	b = append(b, "\r\n"...)
	for k, values := range h {
		for _, v := range values {
			b = putField(b, k, v)
		}
	}
	if h["Connection"] == nil && c.last {
		b = append(b, "Connection: close\r\n"...)
	}
	if status != http.StatusNoContent && status != http.StatusNotModified {
		b = append(b, "Content-Length: "...)
		b = strconv.AppendInt(b, int64(len(body)), 10)
		b = append(b, "\r\n"...)
	}
	b = append(b, "\r\n"...)
	if c.req.Method != http.MethodHead {
		b = append(b, body...)
	}
	c.out = b
	if c.write(b) == nil && c.req.Method != http.MethodHead {
		c.passed += uint64(len(body))
	}
}

func putField(b []byte, name, value string) []byte {
	b = append(b, name...)
	b = append(b, ": "...)
	b = append(b, value...)
	return append(b, "\r\n"...)
}

// day is the date of answers of our own, made anew every second.
var day atomic.Pointer[struct {
	second int64
	text   string
}]

func today() string {
	now := time.Now()
	d := day.Load()
	if d == nil || d.second != now.Unix() {
		d = &struct {
			second int64
			text   string
		}{now.Unix(), now.UTC().Format(http.TimeFormat)}
		day.Store(d)
	}
	return d.text
}
