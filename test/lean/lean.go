// Package lean has ends of HTTP/2 that do as little as can be done, so that what is
// measured between them is the hop's: a workload that answers like one of gRPC, and callers.
package lean

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/proxy/h2"
)

// calm lets either end do what it likes.
const calm = 1 << 30

// EchoPath is where the workload sends each message back as it comes; anywhere else it
// answers with 1 KiB when the request is over.
const EchoPath = "/ferry.Line/Echo"

var body = []byte(strings.Repeat("night ferry. ", 79))[:1024]

// Serve is the workload, until the listener closes.
func Serve(l net.Listener) error {
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		conn, err := h2.New(c.(*net.TCPConn), nil, nil, nil, nil, h2.Config{Handler: workload{}, Calm: calm})
		if err != nil {
			return err
		}
		go conn.Serve()
	}
}

type workload struct{}

// answer is a stream of the workload. It is pooled.
type answer struct {
	h2.Stream
	users   atomic.Int32
	isBegun bool
	isEcho  bool
}

var answers = sync.Pool{New: func() any { return new(answer) }}

func (workload) Open(_ *h2.Conn, head *h2.Block) (*h2.Stream, h2.Receiver) {
	a := answers.Get().(*answer)
	a.isBegun, a.isEcho = false, head.Path == EchoPath
	return &a.Stream, a
}

func (workload) Busy(*h2.Conn, bool) {}
func (workload) Leaves(*h2.Conn)     {}

func (a *answer) Keep() { a.users.Add(1) }

func (a *answer) Release() {
	if a.users.Add(-1) == 0 {
		answers.Put(a)
	}
}

func (a *answer) Head(b *h2.Batch, _ *h2.Block, isEnd bool) {
	if a.isEcho && !a.isBegun {
		a.begin(b)
	}
	if a.isBegun = true; isEnd {
		a.end(b)
	}
}

func (a *answer) begin(b *h2.Batch) {
	if w := a.Begin(b); w != nil {
		w.Add(":status", "200")
		w.Add("content-type", "application/grpc")
		w.End(false)
	}
}

func (a *answer) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	if a.isEcho {
		sent, _ := a.Write(b, p, false)
		a.Credit(b, sent+flow-len(p))
	} else {
		a.Credit(b, flow)
	}
	if isEnd {
		a.end(b)
	}
}

func (a *answer) end(b *h2.Batch) {
	if !a.isEcho {
		a.begin(b)
		a.Write(b, body, false)
	}
	if w := a.Begin(b); w != nil {
		w.Add("grpc-status", "0")
		w.End(true)
	}
}

func (a *answer) Sent(b *h2.Batch, n int, _ bool) {
	if a.isEcho {
		a.Credit(b, n)
	}
}

func (a *answer) Gone(*h2.Batch, *h2.Gone) {}

// Load is what callers do.
type Load struct {
	Address   string
	Authority string
	Path      string
	Conns     int
	Streams   int   // of each connection, at once
	Requests  int64 // in all; with Messages, messages
	Messages  bool  // each stream is one request, on which a message of 1 KiB goes after the other
}

// callers are those of one load.
type callers struct {
	Load
	isHeld bool // streams are opened, and nothing more
	left   atomic.Int64
	failed atomic.Int64
	done   sync.WaitGroup
}

// Run makes the load, and tells how long it took. The error says how much of it failed.
func Run(load Load) (time.Duration, error) {
	all := &callers{Load: load}
	all.left.Store(load.Requests)
	begun := time.Now()
	for range load.Conns {
		c, err := net.Dial("tcp", load.Address)
		if err != nil {
			return 0, err
		}
		defer c.Close()
		one := &caller{all: all}
		one.conn, err = h2.New(c.(*net.TCPConn), nil, nil, nil, nil, h2.Config{Handler: one, IsClient: true, Calm: calm})
		if err != nil {
			return 0, err
		}
		go one.conn.Serve()
		var b h2.Batch
		for range load.Streams {
			all.done.Add(1)
			one.ask(&b, &question{of: one})
		}
		b.Flush()
	}
	all.done.Wait()
	took := time.Since(begun)
	if n := all.failed.Load(); n > 0 {
		return took, fmt.Errorf("%d of %d failed", n, load.Requests)
	}
	return took, nil
}

// caller is one connection.
type caller struct {
	all  *callers
	conn *h2.Conn
}

func (*caller) Open(*h2.Conn, *h2.Block) (*h2.Stream, h2.Receiver) { return nil, nil }
func (*caller) Busy(*h2.Conn, bool)                                {}
func (*caller) Leaves(*h2.Conn)                                    {}

// question is a stream, used for one request after the other.
type question struct {
	h2.Stream
	of   *caller
	came int // bytes of a message that comes back
	over bool
}

var message = append([]byte{0, 0, 0, 4, 0}, body...)

// ask makes the next request, or is done.
func (c *caller) ask(b *h2.Batch, q *question) {
	if !c.all.Messages && c.all.left.Add(-1) < 0 {
		q.finish()
		return
	}
	w, err := c.conn.Open(b, &q.Stream, q, false)
	if err != nil {
		q.Gone(b, nil)
		return
	}
	for _, f := range [...][2]string{
		{":method", "POST"}, {":scheme", "http"}, {":authority", c.all.Authority}, {":path", c.all.Path},
		{"content-type", "application/grpc"}, {"te", "trailers"}, {"user-agent", "lean"},
	} {
		w.Add(f[0], f[1])
	}
	w.End(false)
	if c.all.isHeld {
		return
	}
	if c.all.Messages {
		q.say(b)
		return
	}
	q.Write(b, message[:8], true)
}

// say sends the next message, or the end.
func (q *question) say(b *h2.Batch) {
	q.came = 0
	if q.of.all.left.Add(-1) < 0 {
		q.Write(b, nil, true)
		return
	}
	q.Write(b, message, false)
}

// finish says that the stream asks for nothing any more.
func (q *question) finish() {
	if !q.over {
		q.over = true
		q.of.all.done.Done()
	}
}

func (q *question) Keep()    {}
func (q *question) Release() {}

func (q *question) Head(b *h2.Batch, head *h2.Block, isEnd bool) {
	if head.Status != 0 && head.Status != 200 {
		q.of.all.failed.Add(1)
	}
	if isEnd {
		q.ended(b)
	}
}

func (q *question) ended(b *h2.Batch) {
	if q.of.all.Messages {
		if q.of.all.left.Load() > 0 {
			q.of.all.failed.Add(1)
		}
		q.finish()
		return
	}
	q.of.ask(b, q)
}

func (q *question) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	q.Credit(b, flow)
	if isEnd {
		q.ended(b)
		return
	}
	if q.came += len(p); q.of.all.Messages && q.came >= len(message) {
		q.say(b)
	}
}

func (q *question) Sent(*h2.Batch, int, bool) {}

func (q *question) Gone(*h2.Batch, *h2.Gone) {
	if !q.over {
		q.of.all.failed.Add(1)
		q.finish()
	}
}

// Hold opens connections with streams that send nothing and wait, and returns what closes
// them.
func Hold(load Load) (end func(), err error) {
	load.Messages = true
	all := &callers{Load: load, isHeld: true}
	var conns []net.Conn
	end = func() {
		for _, c := range conns {
			c.Close()
		}
	}
	for range load.Conns {
		c, err := net.Dial("tcp", load.Address)
		if err != nil {
			return end, err
		}
		conns = append(conns, c)
		one := &caller{all: all}
		one.conn, err = h2.New(c.(*net.TCPConn), nil, nil, nil, nil, h2.Config{Handler: one, IsClient: true, Calm: calm})
		if err != nil {
			return end, err
		}
		go one.conn.Serve()
		var b h2.Batch
		for range load.Streams {
			all.done.Add(1)
			one.ask(&b, &question{of: one})
		}
		b.Flush()
	}
	if all.failed.Load() > 0 {
		return end, errors.New("some streams failed")
	}
	return end, nil
}
