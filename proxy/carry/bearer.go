// Package carry sees requests through, from the first byte of a caller to the
// last byte of the answer. The engine decides, package forward says what is done
// to messages, and a bearer carries the bytes. There are three bearers: plain, for
// HTTP/1.1, and h2, for gRPC, by codecs of our own, and general, over net/http, for
// every protocol. All of them have TestConformance to pass.
package carry

import (
	"net/http"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/observe"
)

// bearer carries the bytes of one request and decides nothing.
type bearer interface {
	engine.View
	// outside is the bearer's room for what is known of an outsider.
	outside() *visitor
	// length is how long the request says its body is; -1: it does not say.
	length() int64
	// came is how the request came.
	came() forward.Came
	isHTTP2() bool
	// member is who calls, by mutual TLS; nil: nobody has proved to.
	member() *member
	// attempt is the bearer's room for the next attempt: fill it, then send.
	attempt() *attempt
	// send carries the attempt out. It keeps the answer, if there is one, until
	// the next attempt or until it has gone to the caller. A bearer that does not
	// wait says that the outcome is not there yet, and tells course.sent later.
	send() (o engine.Outcome, isThere bool)
	// wait waits for d, or until wake is called. The error says why the request is
	// given up meanwhile: errCallerLeft or errDraining. A bearer that does not wait
	// says that it is not over yet, and tells course.waited later.
	wait(d time.Duration) (why error, isOver bool)
	// wake ends a wait that is under way, or else the next one.
	wake() func()
	// ended says why the request is given up: errCallerLeft or errDraining; nil: it
	// is not.
	ended() error
	// bodyError is what went wrong with reading the caller's body, which is the
	// caller's fault; nil: nothing so far. One that broke off is the caller's leaving.
	bodyError() error
	// isBodySlow tells whether most of the attempt's time so far went by in waiting
	// for the caller's body.
	isBodySlow() bool
	// sendAnswer sends the kept answer on. failed tells that an answer of status 200
	// means a failure of the workload (gRPC). A bearer that does not wait says that it
	// has not gone by yet, and tells course.answered later.
	sendAnswer(a forward.Answer) (failed bool, err error, isOver bool)
	// reply sends an answer of the proxy's own.
	reply(status int, h http.Header, body []byte)
	// bytes is how many bytes of bodies went by: of the request, and of answers to
	// the caller.
	bytes() (sent, received uint64)
}

// attempt is where a request is sent once, and how.
type attempt struct {
	forward.Request
	path      string        // percent-encoded
	began     time.Duration // since the router's epoch
	deadline  time.Duration // for the head of the answer, since the same
	mirror    *engine.Instance
	mirrors   *mirrors
	isHTTP2   bool // the instance speaks HTTP/2 alone
	mayRepeat bool // the request may have to be sent once more
}

// progress is how far a request has come.
type progress uint8

const (
	underway  progress = iota // its bearer tells when what it waits for is there
	completed                 // it is over
	severed                   // it is over, and so is the connection, since the answer broke off or nobody waits for it
)

// course is one request on its way through a Handler. Each call takes it as far as it
// goes without waiting, which is to its end with a bearer that waits by itself.
type course interface {
	begin() progress
	// sent goes on with the outcome of an attempt, waited after a wait, and answered after
	// the answer: see bearer.
	sent(o engine.Outcome) progress
	waited(why error) progress
	answered(failed bool, err error) progress
	// abort ends a request in whose course something went wrong here.
	abort()
}

// room is where a bearer keeps the course of its request, whatever its handler. It is made
// with the first that needs it.
type room struct {
	carried *carried
	served  *served
}

// clear lets go of the request.
func (r *room) clear() {
	if r.carried != nil {
		*r.carried = carried{}
	}
	if r.served != nil {
		*r.served = served{}
	}
}

// carry sees a request through, by a bearer that waits by itself. False: the connection
// must be cut.
func carry(h Handler, b bearer, x *engine.Exchange, s *observe.Shard, in *room) bool {
	c := h.course(b, x, s, in)
	p := underway
	defer func() {
		if p == underway { // a panic
			c.abort()
		}
	}()
	p = c.begin()
	return p == completed
}

// Handler is what the requests of a listener go to: a Router, or an Inbound.
type Handler interface {
	// course is that of a new request.
	course(b bearer, x *engine.Exchange, s *observe.Shard, in *room) course
	// refused is told of a request that could not be read, and was refused so.
	refused(b bearer, x *engine.Exchange, s *observe.Shard, why *forward.Refusal)
	// outsider is the id for a refusal of a request that could not be read; empty: its
	// caller is none.
	outsider() string
	// leadsToHTTP2 tells whether a request may go to a workload that speaks HTTP/2 alone.
	leadsToHTTP2(host string) bool
	// source is whose requests these are.
	source() *Source
}
