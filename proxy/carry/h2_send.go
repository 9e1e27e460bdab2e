package carry

import (
	"errors"
	"net/http"
	"strconv"
	"strings"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/h2"
	"nightjar/proxy/http1"
	"nightjar/wire"
)

func (f *h2Request) send() (o engine.Outcome, isThere bool) {
	f.dropAttempt()
	if f.now() >= f.open.to.deadline {
		return engine.Outcome{Reason: engine.TimedOut}, true
	}
	if f.isLost {
		return engine.Outcome{
			Reason:  engine.Reset,
			IsSpent: true,
			Detail:  "the request's body could not be had again for another attempt",
		}, true
	}
	f.up = &f.first
	if f.tries++; f.tries > 1 { // what is still told of the one before is not this one's
		f.up = new(h2Attempt)
	}
	f.up.f, f.up.pool = f, f.caller.l.Pools.h2Of(f.open.to.To)
	f.isSaid, f.answerEnd, f.interims, f.sentInterim, f.gone, f.resent = false, false, 0, false, 0, 0
	f.setDue(f.open.to.deadline)
	return f.connect()
}

// connect opens a stream for the attempt, or waits for a connection.
func (f *h2Request) connect() (o engine.Outcome, isThere bool) {
	up := f.up
	for range 2 * h2Connections {
		at := up.pool.pick(f.caller.slot)
		if at == nil {
			break
		}
		w, err := at.conn.Open(f.batch, &up.Stream, up, f.method == http.MethodHead)
		if err != nil {
			continue // it is full by now, or takes no more: another one
		}
		up.at, up.isOpen, f.doing = at, true, doingAsk
		f.writeRequest(w)
		return o, false
	}
	f.doing = doingConnect
	if !up.pool.await(h2Waiter{f, up}) {
		f.doing = doingNothing
		return engine.Outcome{
			Reason:   engine.Shortage,
			IsUnsent: true,
			Detail:   "too many requests of this proxy wait for a connection to it",
		}, true
	}
	return o, false
}

// resend goes on with an attempt on another connection, since the instance ends the one that
// it had, and has not processed it.
func (f *h2Request) resend(a *h2Attempt) {
	f.resent++
	f.up = &h2Attempt{f: f, pool: a.pool}
	f.gone = 0
	if o, isThere := f.connect(); isThere {
		f.went(f.course.sent(o))
	}
}

// tryAgain lets an attempt that waited for a connection try again; failed tells it that
// there is none.
func (f *h2Request) tryAgain(up *h2Attempt) {
	f.connected(up, func() {
		f.doing = doingNothing
		if o, isThere := f.connect(); isThere {
			f.went(f.course.sent(o))
		}
	})
}

func (f *h2Request) failed(up *h2Attempt, err error) {
	f.connected(up, func() {
		f.doing = doingNothing
		o := outcomeOf(err)
		if err == errNotHTTP2 && !f.open.to.isHTTP2 {
			o = notGRPC
		}
		o.IsUnsent = !f.isLost
		f.went(f.course.sent(o))
	})
}

// errTooManyInterims ends an attempt.
var errTooManyInterims = errors.New("it sent more than " + strconv.Itoa(forward.MaxInterim) + " interim answers")

// notGRPC is the outcome where a workload does not speak HTTP/2: the caller alone says that
// this is gRPC.
var notGRPC = engine.Outcome{
	Reason: engine.BadRequest,
	Detail: "the request is one of gRPC, and the workload does not speak HTTP/2",
}

// connected goes on with an attempt that waited for a connection, if it still does, and
// lets go of it.
func (f *h2Request) connected(up *h2Attempt, goOn func()) {
	var b h2.Batch
	f.lock(&b)
	if f.up == up && f.doing == doingConnect {
		goOn()
	}
	f.unlock()
	b.Flush()
	f.release()
}

// writeRequest writes the request as it goes on, as far as it has come.
func (f *h2Request) writeRequest(w *h2.Writer) {
	f.open.to.Trailers = hasField(&f.fields, "te")
	w.Secret = f.secret
	w.Add(":method", f.method)
	scheme := "http"
	if f.open.to.To.Secure {
		scheme = "https"
	}
	w.Add(":scheme", scheme)
	w.Add(":authority", f.open.to.SendHost())
	path := f.target
	if f.open.to.path != f.path {
		path = f.open.to.path + f.target[len(f.path):]
	}
	w.Add(":path", path)
	f.open.to.WriteHeader(w)
	if f.declared >= 0 {
		w.AddBytes("content-length", strconv.AppendInt(f.open.number[:0], f.declared, 10))
	}
	hasMore := len(f.open.kept) > 0 || len(f.trailer) > 0
	w.End(f.gotEnd && !hasMore)
	if len(f.open.kept) > 0 {
		sent, _ := f.up.Write(f.batch, f.open.kept, f.gotEnd && len(f.trailer) == 0)
		f.gone += uint64(sent)
		f.credit(f.gone)
	}
	if f.gotEnd && len(f.trailer) > 0 {
		f.endRequest()
	}
	if f.gotEnd {
		f.mirrorWhole()
	}
}

// hasField tells whether there is a field, whose name is in small letters.
func hasField(in *http1.Fields, name string) bool {
	for i := range in.List {
		if in.List[i].Name == name {
			return true
		}
	}
	return false
}

// mirrorWhole sends a copy of the request, which has come whole, to the mirror, if there is
// one and the body is kept.
func (f *h2Request) mirrorWhole() {
	if f.open == nil || f.open.to.mirror == nil || f.isLost {
		return
	}
	h := http.Header{"User-Agent": nil}
	f.open.to.WriteHeader(&canonical{forward.Map{Header: h}})
	query := strings.TrimPrefix(f.target[len(f.path):], "?")
	f.open.to.mirrors.send(
		&http.Request{
			Method:     f.method,
			Proto:      "HTTP/2.0",
			ProtoMajor: 2,
			Host:       f.open.to.SendHost(),
			URL:        Addressed(f.open.to.mirror, f.open.to.path, query, false),
			Header:     h,
		},
		f.open.to.mirror,
		append([]byte(nil), f.open.kept...),
		f.open.to.TimeLeft,
	)
	f.open.to.mirror = nil
}

// canonical is a header of net/http for names in small letters.
type canonical struct{ forward.Map }

func (c *canonical) Add(name, value string) { c.Map.Add(http.CanonicalHeaderKey(name), value) }

func (c *canonical) AddBytes(name string, value []byte) { c.Add(name, string(value)) }

// dropAttempt ends the attempt, if there is one.
func (f *h2Request) dropAttempt() {
	up := f.up
	if f.up = nil; up == nil || !up.isOpen {
		return
	}
	up.Reset(f.batch, h2.Cancel)
	up.pool.freed()
}

// Head takes the head of the answer, an interim answer, or the trailer.
func (a *h2Attempt) Head(b *h2.Batch, head *h2.Block, isEnd bool) {
	f := a.f
	f.lock(b)
	defer f.unlock()
	switch {
	case f.up != a || f.doing == doingOver:
	case f.isSaid:
		f.takeAnswerTrailer(head)
	case head.Status < 200:
		f.takeInterim(head)
	default:
		f.takeAnswer(head, isEnd)
	}
}

// takeInterim passes an interim answer on, if it is one that goes on.
func (f *h2Request) takeInterim(head *h2.Block) {
	if f.interims++; f.interims > forward.MaxInterim {
		f.doing = doingNothing
		f.dropAttempt()
		o := outcomeOf(errTooManyInterims)
		o.IsSpent = f.sentInterim || f.isLost
		f.went(f.course.sent(o))
		return
	}
	if !forward.PassesInterim(head.Status) {
		return
	}
	f.sentInterim = true
	if w := f.down.Begin(f.batch); w != nil {
		w.AddBytes(":status", strconv.AppendInt(f.open.number[:0], int64(head.Status), 10))
		forward.WriteInterim(&head.Fields, w)
		w.End(false)
	}
}

// Names of the mesh's fields as HTTP/2 has them.
var (
	lowerReason = strings.ToLower(wire.HeaderReason)
	lowerUnsent = strings.ToLower(wire.HeaderUnsent)
)

// takeAnswer goes on with the head of the answer.
func (f *h2Request) takeAnswer(head *h2.Block, isEnd bool) {
	f.isSaid, f.status, f.answerEnd, f.answerSize = true, head.Status, isEnd, head.Length()
	f.open.answered, head.Fields = head.Fields, f.open.answered
	if isEnd {
		f.up.pool.freed()
	}
	o := engine.Outcome{Status: f.status, IsSpent: f.sentInterim || f.isLost}
	f.isGRPC, f.grpcStatus = f.asksGRPC && (f.open.to.isHTTP2 || isGRPC(&f.open.answered)), ""
	isByProxy := false
	for i := range f.open.answered.List {
		switch field := &f.open.answered.List[i]; {
		case field.Name == "grpc-status":
			f.grpcStatus = field.Value
		case field.Name == lowerReason && !f.open.to.To.Outside:
			o, isByProxy = saidByProxy(field.Value, o), true
		}
	}
	if isByProxy && hasField(&f.open.answered, lowerUnsent) {
		o.IsUnsent = !o.IsSpent
	}
	if f.isGRPC && !isByProxy {
		o.Means = forward.GRPCMeans(f.grpcStatus)
		o.IsOpen = f.grpcStatus == "" && f.status == http.StatusOK
	}
	f.doing = doingNothing
	f.went(f.course.sent(o))
}

// Data passes a piece of the answer on.
func (a *h2Attempt) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	f := a.f
	f.lock(b)
	defer f.unlock()
	if f.up != a || f.doing != doingAnswer {
		a.Credit(b, flow)
		return
	}
	sent, hasEnded := f.down.Write(b, p, isEnd)
	f.received += uint64(sent)
	a.credit(b, sent+flow-len(p))
	if isEnd {
		f.answerEnd = true
		f.up.pool.freed()
		f.pass(hasEnded)
	}
}

// credit gives the instance room again for bytes that have gone on.
func (a *h2Attempt) credit(b *h2.Batch, n int) {
	if a.owed += n; a.owed >= creditStep {
		a.Credit(b, a.owed)
		a.owed = 0
	}
}

// takeAnswerTrailer passes the trailer of the answer on, which ends it.
func (f *h2Request) takeAnswerTrailer(head *h2.Block) {
	f.answerEnd = true
	f.up.pool.freed()
	for i := range head.List {
		if head.List[i].Name == "grpc-status" {
			f.grpcStatus = head.List[i].Value
		}
	}
	if f.doing != doingAnswer {
		return
	}
	if w := f.down.Begin(f.batch); w != nil {
		w.Secret = head.Secret
		for i := range head.List {
			if field := &head.List[i]; !head.OneHop(field) && forward.KeepsTrailer(field.Name) {
				w.Add(field.Name, field.Value)
			}
		}
		f.pass(w.End(true))
	}
}

// pass ends a request whose answer has gone to the caller with its end. Of one that has not,
// Sent tells, or Gone.
func (f *h2Request) pass(hasEnded bool) {
	if f.downEnded = hasEnded; hasEnded {
		f.went(f.course.answered(f.hasFailed(), nil))
	}
}

// Sent says that some of the request has gone on that had to wait.
func (a *h2Attempt) Sent(b *h2.Batch, n int, _ bool) {
	f := a.f
	f.lock(b)
	defer f.unlock()
	if f.up == a {
		f.gone += uint64(n)
		f.credit(f.gone)
	}
}

// Gone says that the attempt's stream is over before its end.
func (a *h2Attempt) Gone(b *h2.Batch, why *h2.Gone) {
	f := a.f
	f.lock(b)
	defer f.unlock()
	a.isOpen = false
	a.pool.freed()
	if f.up != a || f.doing == doingOver || f.answerEnd {
		return
	}
	switch f.doing {
	case doingAsk:
		f.up, f.doing = nil, doingNothing
		if why.IsUnprocessed && why.Err != nil && !f.isLost && f.resent < maxResends {
			f.resend(a)
			return
		}
		var o engine.Outcome
		switch {
		case a.at.notHTTP2(why) && !f.open.to.isHTTP2:
			o = notGRPC
		case a.at.notHTTP2(why):
			o = outcomeOf(errNotHTTP2)
		case why.Code == h2.Cancel && !why.IsOwn && f.isLate():
			o = outcomeOf(errDeadline)
		case why.Err == h2.ErrStuck:
			o = outcomeOf(errStalled)
		case why.Err != nil && !why.IsUnprocessed:
			o = outcomeOf(why.Err)
		default:
			o = outcomeOf(why)
		}
		isRefused := why.Err != nil && f.open.to.To.Mutual && isRefusedThere(why.Err)
		o.IsSpent = o.IsSpent || f.sentInterim || f.isLost
		o.IsUnsent = (why.IsUnprocessed || isRefused) && !f.isLost
		f.went(f.course.sent(o))
	case doingAnswer:
		f.resetCode = h2.InternalError
		if !why.IsOwn {
			f.resetCode = why.Code
		}
		f.went(f.course.answered(false, why))
	}
}

// hasFailed tells whether an answer that has gone by means a failure of the workload.
func (f *h2Request) hasFailed() bool {
	return f.isGRPC && forward.GRPCFailed(f.grpcStatus, f.status)
}

func (f *h2Request) sendAnswer(a forward.Answer) (failed bool, err error, isOver bool) {
	w := f.down.Begin(f.batch)
	if w == nil { // which is told in a moment
		f.ending = errCallerLeft
		return false, errCallerLeft, true
	}
	w.AddBytes(":status", strconv.AppendInt(f.open.number[:0], int64(f.status), 10))
	if !a.WriteHeader(&f.open.answered, "2", w) { // RFC 9110, section 6.6.1
		w.Add("date", today())
	}
	if f.answerSize >= 0 && f.status != http.StatusNoContent {
		w.AddBytes("content-length", strconv.AppendInt(f.open.number[:0], f.answerSize, 10))
	}
	w.End(f.answerEnd)
	if f.answerEnd {
		f.downEnded = true
		return f.hasFailed(), nil, true
	}
	f.doing = doingAnswer
	f.closeOpening()
	f.due = 0
	f.watchPlace(f.now())
	return false, nil, false
}

func (f *h2Request) reply(status int, h http.Header, body []byte) {
	f.dropAttempt()
	w := f.down.Begin(f.batch)
	if w == nil {
		return
	}
	w.AddBytes(":status", strconv.AppendInt(f.open.number[:0], int64(status), 10))
	for k, values := range h {
		for _, v := range values {
			w.Add(k, v)
		}
	}
	if h["Date"] == nil {
		w.Add("date", today())
	}
	if status != http.StatusNoContent && status != http.StatusNotModified && h["Grpc-Status"] == nil {
		w.AddBytes("content-length", strconv.AppendInt(f.open.number[:0], int64(len(body)), 10))
	}
	if f.method == http.MethodHead {
		body = nil
	}
	w.End(len(body) == 0)
	if len(body) == 0 {
		f.downEnded = true
		return
	}
	sent, hasEnded := f.down.Write(f.batch, body, true)
	f.received += uint64(sent)
	f.downEnded = hasEnded
}
