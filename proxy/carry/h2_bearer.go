package carry

import (
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/h2"
	"nightjar/proxy/http1"
)

// h2Request is the bearer h2, of gRPC, by our own codec of HTTP/2: a stream of the caller's
// connection, and for each attempt one of a connection to an instance. No goroutine waits
// in it. Whoever brings news (the reader of either connection, a timer, a place in a line)
// takes the request as far as it goes, with mu held. It is pooled.
//
// A lock of a connection may be taken with mu held, not the other way round, and never
// that of another request.
type h2Request struct {
	engine.Exchange
	caller *h2Caller
	down   h2.Stream    // of the caller's connection
	first  h2Attempt    // room for the first attempt
	users  atomic.Int32 // of this object: see keep

	alert func() // engine.Entry.Wake; made once

	mu    sync.Mutex // guards what follows
	batch *h2.Batch  // of whoever holds mu
	h2State
	visitor
}

// h2State is where a request stands. The zero value is one of nothing yet.
type h2State struct {
	course course // nil before it has begun
	room   room
	doing  doing
	ending error         // why the request is given up; nil: it is not
	due    time.Duration // when something is to be looked at; 0: never

	// The request.
	method, host, target string
	path, query          string
	fields               http1.Fields
	secret               []string   // names of fields that enter no table
	open                 *h2Opening // nil while an answer goes by
	declared             int64      // what Content-Length says; -1: nothing
	gotEnd               bool
	trailer              []http1.Field
	bodyErr              error  // what the caller did wrong with its body
	isLost               bool   // not all of it is kept any more
	read                 uint64 // bytes of it that came
	credited             uint64 // and for which the caller was given room again
	lastCame             time.Duration
	awaited              time.Duration // for how long they let the others wait
	rateFrom             time.Duration // since when the rate of the body is measured
	rateRead             uint64        // and what had come by then

	// The attempt.
	tries       int
	resent      int        // how often the attempt went to another connection
	up          *h2Attempt // nil: there is none
	gone        uint64     // bytes of the body that have gone on
	interims    int
	sentInterim bool

	// The answer.
	status     int
	isSaid     bool // the head has come
	answerSize int64
	answerEnd  bool // it has come whole
	asksGRPC   bool // the request is one of gRPC
	isGRPC     bool // and its answer
	grpcStatus string
	downEnded  bool // its end has been sent
	received   uint64
	resetCode  h2.Code // of an answer that broke off
}

// h2Opening is what a request needs until its answer begins. It is pooled, so that streams
// which stay open for long do not hold it.
type h2Opening struct {
	to       attempt
	seen     lookedUp
	kept     []byte // of the body, from its beginning
	answered http1.Fields
	number   [20]byte // room for one
}

var h2Openings = sync.Pool{New: func() any { return new(h2Opening) }}

// opening is the one of the request, or another where it has let go of that.
func (f *h2Request) opening() *h2Opening {
	if f.open == nil {
		f.open = h2Openings.Get().(*h2Opening)
	}
	return f.open
}

// closeOpening lets go of it.
func (f *h2Request) closeOpening() {
	o := f.open
	if o == nil {
		return
	}
	f.open, f.isLost = nil, true
	f.caller.l.HTTP2.held.Add(-len(o.kept))
	if o.kept = o.kept[:0]; cap(o.kept) > smallBody {
		o.kept = nil
	}
	o.answered.Reset()
	clear(o.answered.List[:cap(o.answered.List)])
	o.seen.forget()
	o.to = attempt{}
	h2Openings.Put(o)
}

// doing is what a request waits for.
type doing uint8

const (
	doingNothing doing = iota
	doingWait          // that a time comes, or that it is woken
	doingConnect       // for a connection
	doingAsk           // for the head of the answer
	doingAnswer        // that the answer goes by
	doingOver          // for nothing any more
)

// h2Attempt is the stream of one attempt, and told of what comes on it. What is still told
// of an attempt that is over is not taken for the next one's.
type h2Attempt struct {
	h2.Stream
	f      *h2Request
	pool   *h2Pool
	at     *h2Upstream
	isOpen bool // it has a stream
	owed   int  // bytes that have gone on, and for which no room was given back yet
}

// h2Down is told of what comes on the caller's stream.
type h2Down h2Request

var h2Requests sync.Pool

// newH2Request is one that nobody uses.
func newH2Request(c *h2Caller) *h2Request {
	f, _ := h2Requests.Get().(*h2Request)
	if f == nil {
		f = new(h2Request)
		f.alert = func() {
			if f.keepUsed() { // whoever wakes holds locks of others
				go f.woken()
			}
		}
	}
	f.caller = c
	return f
}

// isGRPC tells whether a header list is that of a request of gRPC, or of its answer.
func isGRPC(in *http1.Fields) bool {
	for i := range in.List {
		if f := &in.List[i]; f.Name == "content-type" {
			return strings.HasPrefix(f.Value, "application/grpc")
		}
	}
	return false
}

// keep and release say that somebody begins to use the object, and does not any more. When
// nobody does, it is for another request.
func (f *h2Request) keep() { f.users.Add(1) }

func (f *h2Request) release() {
	if f.users.Add(-1) == 0 {
		f.recycle()
	}
}

// keepUsed is keep for whoever comes from outside: false, nobody uses it.
func (f *h2Request) keepUsed() bool {
	for n := f.users.Load(); n > 0; n = f.users.Load() {
		if f.users.CompareAndSwap(n, n+1) {
			return true
		}
	}
	return false
}

// recycle empties the object for the next request. Its room stays, where it is not large.
func (f *h2Request) recycle() {
	f.fields.Reset()
	clear(f.fields.List[:cap(f.fields.List)])
	f.closeOpening()
	f.room.clear()
	f.h2State = h2State{fields: f.fields, secret: f.secret[:0], trailer: f.trailer[:0], room: f.room}
	f.caller, f.batch, f.visitor = nil, nil, visitor{}
	f.first.at, f.first.pool, f.first.isOpen, f.first.owed = nil, nil, false, 0
	h2Requests.Put(f)
}

func (f *h2Request) lock(b *h2.Batch) { f.mu.Lock(); f.batch = b }
func (f *h2Request) unlock()          { f.batch = nil; f.mu.Unlock() }

func (f *h2Request) Method() string                 { return f.method }
func (f *h2Request) Host() string                   { return f.host }
func (f *h2Request) Path() string                   { return f.path }
func (f *h2Request) Query() string                  { return f.query }
func (f *h2Request) Header(key string) []string     { return f.opening().seen.find(&f.fields, key) }
func (f *h2Request) Caller() string                 { return callerOf(f.caller.l.src, f.caller.peer) }
func (f *h2Request) Site() string                   { return siteOf(f.caller.l.src, f.caller.peer) }
func (f *h2Request) member() *member                { return f.caller.peer }
func (f *h2Request) length() int64                  { return f.declared }
func (f *h2Request) isHTTP2() bool                  { return true }
func (f *h2Request) attempt() *attempt              { return &f.opening().to }
func (f *h2Request) ended() error                   { return f.ending }
func (f *h2Request) wake() func()                   { return f.alert }
func (f *h2Request) bodyError() error               { return f.bodyErr }
func (f *h2Request) bytes() (sent, received uint64) { return f.read, f.received }
func (f *h2Request) now() time.Duration             { return f.caller.l.src.now() }

func (f *h2Request) came() forward.Came {
	return forward.Came{
		Fields:   &f.fields,
		Host:     f.host,
		Protocol: "2",
		Remote:   f.caller.remote,
		IsSecure: f.caller.tls != nil && f.caller.peer == nil,
	}
}

// Keep and Release are for the connections.
func (d *h2Down) Keep()       { (*h2Request)(d).keep() }
func (d *h2Down) Release()    { (*h2Request)(d).release() }
func (a *h2Attempt) Keep()    { a.f.keep() }
func (a *h2Attempt) Release() { a.f.release() }

// Head takes the head of the request, and begins its course; or its trailer.
func (d *h2Down) Head(b *h2.Batch, head *h2.Block, isEnd bool) {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	if f.course != nil {
		f.takeTrailer(head)
		return
	}
	f.opening()
	f.fields, head.Fields = head.Fields, f.fields
	f.secret = append(f.secret, head.Secret...)
	f.method, f.host, f.target = head.Method, head.Authority, head.Path
	f.declared, f.gotEnd = head.Length(), isEnd
	f.path, f.query, _ = strings.Cut(f.target, "?")
	f.asksGRPC = isGRPC(&f.fields)
	f.joinFields()
	if !isEnd {
		f.lastCame = f.now()
		f.rateFrom = f.lastCame
	}
	h := f.caller.l.handler
	f.course = h.course(f, &f.Exchange, f.caller.shard, &f.room)
	if err := f.check(); err != nil {
		f.refuseUnread(err)
		return
	}
	f.went(f.course.begin())
}

// joinFields makes one field of the pieces of a cookie (RFC 9113, section 8.2.3), and takes
// the host from its field where the authority is missing.
func (f *h2Request) joinFields() {
	first := -1
	for i := 0; i < len(f.fields.List); i++ {
		field := &f.fields.List[i]
		switch {
		case field.Name == "host" && f.host == "":
			f.host = field.Value
		case field.Name != "cookie":
		case first < 0:
			first = i
		default:
			f.fields.List[first].Value += "; " + field.Value
			f.fields.List = append(f.fields.List[:i], f.fields.List[i+1:]...)
			i--
		}
	}
}

// check tells what is wrong with the target or the host of a request.
func (f *h2Request) check() error {
	isForAll := f.target == "*" && f.method == http.MethodOptions
	if !isForAll && (f.path == "" || f.path[0] != '/') {
		return &http1.Refusal{
			Status: http.StatusBadRequest,
			Why:    "the path " + strconv.Quote(f.path) + " does not begin with a slash",
		}
	}
	if !http1.IsHost(f.host) {
		return &http1.Refusal{Status: http.StatusBadRequest, Why: strconv.Quote(f.host) + " is not a host"}
	}
	if isForAll {
		return nil
	}
	return http1.CheckTarget(f.path, f.target[len(f.path):])
}

// refuseUnread refuses a request whose target or host could not be written on.
func (f *h2Request) refuseUnread(err error) {
	h := http.Header{}
	refusal := forward.Refusal{
		Status:  http.StatusBadRequest,
		Reason:  engine.BadRequest,
		Detail:  err.Error(),
		Proxy:   f.caller.l.src.Proxy,
		Request: f.caller.l.handler.outsider(),
	}
	f.reply(refusal.Status, h, refusal.Text(h))
	f.caller.l.handler.refused(f, &f.Exchange, f.caller.shard, &refusal)
	f.went(completed)
}

// went goes on when the course has gone as far as it goes.
func (f *h2Request) went(p progress) {
	if p == underway {
		return
	}
	f.dropAttempt()
	if p == severed {
		code := f.resetCode
		if code == h2.NoError {
			code = h2.InternalError
		}
		f.down.Reset(f.batch, code)
	}
	f.doing, f.due = doingOver, 0
	if p == completed && !f.caller.l.isGood(f.caller.peer) {
		f.caller.conn.GoAway(f.batch)
	}
	f.leave()
}

// leave ends the caller's stream when its answer has gone. What still comes of the request
// is not wanted then (RFC 9113, section 8.1).
func (f *h2Request) leave() {
	if f.doing == doingOver && f.downEnded && !f.gotEnd {
		f.down.Leave(f.batch)
	}
}

// Sent says that some of the answer has gone to the caller that had to wait.
func (d *h2Down) Sent(b *h2.Batch, n int, isEnd bool) {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	f.received += uint64(n)
	if f.doing == doingAnswer && f.up != nil {
		f.up.credit(b, n)
	}
	if !isEnd {
		return
	}
	if f.doing == doingAnswer && f.answerEnd {
		f.pass(true)
		return
	}
	f.downEnded = true
	f.leave()
}

// Gone says that the caller's stream is over before its end.
func (d *h2Down) Gone(b *h2.Batch, why *h2.Gone) {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	if f.doing == doingOver || f.course == nil {
		return
	}
	if !why.IsOwn {
		f.caller.reset()
	}
	if why.IsOwn && why.Err == nil && why.Code != h2.Cancel {
		f.bodyErr = why
	}
	f.giveUp(errCallerLeft)
}

// giveUp ends the request before its answer.
func (f *h2Request) giveUp(why error) {
	if f.bodyErr == nil {
		f.ending = why
	}
	switch doing := f.doing; doing {
	case doingWait:
		f.doing = doingNothing
		f.went(f.course.waited(why))
	case doingConnect, doingAsk:
		f.doing = doingNothing
		f.dropAttempt()
		o := outcomeOf(why)
		if f.bodyErr != nil && why != errTooLarge {
			o = engine.Outcome{Reason: engine.BadRequest, Detail: unreadable + f.bodyErr.Error()}
		}
		o.IsSpent = true
		f.went(f.course.sent(o))
	case doingAnswer:
		f.went(f.course.answered(false, why))
	}
}

// cut ends the request, since the proxy ends.
func (d *h2Down) cut(b *h2.Batch) {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	if f.course != nil && f.doing != doingOver {
		f.giveUp(errDraining)
	}
}
