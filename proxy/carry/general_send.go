package carry

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"strings"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
	"nightjar/wire"
)

func (g *general) send() (engine.Outcome, bool) { return g.ask(), true }

// ask sends the request once and waits for the head of the answer.
func (g *general) ask() engine.Outcome {
	g.dropAnswer()
	left := g.to.deadline - g.s.src.now()
	if left <= 0 {
		return engine.Outcome{Reason: engine.TimedOut}
	}
	if g.kept != nil && !g.kept.again() {
		return engine.Outcome{
			Reason:  engine.Reset,
			IsSpent: true,
			Detail:  "the request's body could not be had again for another attempt",
		}
	}
	ctx, cancel := context.WithCancelCause(g.r.Context())
	g.life.beginAttempt()
	body, before := g.body, time.Duration(0)
	if body != nil {
		before = body.awaited()
	}
	g.life.onEnd(func(why error) {
		cancel(why)
		body.breakOff(&g.life)
	})
	way := &way{}
	stopTimer := g.life.expireAfter(left, func() bool {
		if !way.isThere.Load() { // nothing was read of the body yet
			return body.isMissing()
		}
		return body.isSlow(before, way.left(left))
	})

	out := g.outgoing()
	if g.to.mirror != nil && g.kept == nil {
		g.copyRequest(out, nil)
	}
	interim := &interimPasser{to: g.w}
	trace := &httptrace.ClientTrace{GotConn: way.got}
	if upgradeOf(g.r) == "" {
		trace.Got1xxResponse = interim.pass
	}
	ctx = httptrace.WithClientTrace(ctx, trace)
	answer, err := g.roundTrip(out.WithContext(ctx), interim)
	interim.end()
	stopTimer()
	g.life.onEnd(nil)
	if g.to.mirror != nil && g.kept != nil {
		if body, isWhole := g.kept.all(); isWhole {
			g.copyRequest(out, body)
		}
	}
	if err == nil && answer.StatusCode == http.StatusSwitchingProtocols && upgradeOf(g.r) == "" {
		answer.Body.Close()
		err = errors.New("it switched to another protocol without being asked")
	}
	if why := g.life.cause(); why != nil {
		if err == nil {
			answer.Body.Close()
		}
		err = why
	}
	isSpent := interim.hasPassed() || g.isBodySpent()
	if err != nil {
		cancel(nil)
		return g.outcome(err, isSpent, way)
	}
	g.answer, g.free = answer, cancel
	o := engine.Outcome{Status: answer.StatusCode, IsSpent: isSpent}
	if reason := answer.Header[wire.HeaderReason]; reason != nil && !g.to.To.Outside {
		return saidByProxy(reason[0], o)
	}
	if g.isAnswerGRPC() {
		status := answer.Header.Get("Grpc-Status")
		o.Means = forward.GRPCMeans(status) // of an answer that is over with its head
		o.IsOpen = status == "" && answer.StatusCode == http.StatusOK
	}
	return o
}

const maxResends = 3

// roundTrip sends a request and waits for the head of the answer. One whose connection was
// closed for another request is sent again, maxResends times at most.
func (g *general) roundTrip(out *http.Request, interim *interimPasser) (*http.Response, error) {
	transport := g.s.transport.To(g.to.To, g.speaksHTTP2())
	mayResend := g.body == nil && engine.Idempotent(out.Method)
	for resent := 0; ; resent++ {
		answer, err := transport.RoundTrip(out)
		switch {
		case !g.isOfAnother(err):
			return answer, err
		case !mayResend || resent == maxResends || interim.hasPassed():
			return nil, errors.New("it was closed for another request")
		}
	}
}

// isOfAnother tells whether an attempt failed since another request was ended here, which
// says nothing of the instance: net/http closes a connection whose caller leaves just when
// the answer comes, although it may have given it to the next request by then.
func (g *general) isOfAnother(err error) bool {
	return err != nil && !g.speaksHTTP2() && g.life.cause() == nil && isEnd(err)
}

// outcome is that of an attempt without an answer.
func (g *general) outcome(err error, isSpent bool, way *way) engine.Outcome {
	if o, yes := g.bodyOutcome(); yes && g.life.given() == nil {
		return o
	}
	// The caller alone says that this is gRPC.
	if !g.to.isHTTP2 && g.life.cause() == nil && (isNotHTTP2(err) || way.isNotHTTP2()) {
		return engine.Outcome{
			Reason: engine.BadRequest,
			Detail: "the request is one of gRPC, and the workload does not speak HTTP/2",
		}
	}
	o := outcomeOf(err)
	o.IsSpent = o.IsSpent || isSpent
	isDialing := o.Reason == engine.Unreachable || o.Reason == engine.Shortage ||
		o.Reason == engine.TimedOut && !way.isThere.Load()
	o.IsUnsent = isDialing && (g.body == nil || g.body.read.Load() == 0)
	return o
}

// isAnswerGRPC tells whether the answer is one of gRPC: that of a service which
// speaks it, or one that says so. What another workload answers to a caller that
// calls its request gRPC means what it means in HTTP.
func (g *general) isAnswerGRPC() bool {
	return forward.IsGRPC(g, g.isHTTP2()) && (g.to.isHTTP2 || forward.SaysGRPC(g.answer.Header["Content-Type"]))
}

// isBodySpent tells whether the body cannot be had again for another attempt.
func (g *general) isBodySpent() bool {
	switch {
	case g.body == nil:
		return false
	case g.body.isBroken.Load():
		return true
	case g.kept == nil:
		return g.body.read.Load() > 0
	}
	return g.kept.isGone()
}

// dropAnswer lets go of an answer that is not passed on.
func (g *general) dropAnswer() {
	if g.answer == nil {
		return
	}
	g.answer.Body.Close()
	if g.free != nil {
		g.free(nil)
	}
	g.answer, g.free = nil, nil
}

func (g *general) speaksHTTP2() bool {
	return g.to.isHTTP2 || forward.IsGRPC(g, g.isHTTP2())
}

// outgoing is the request as it goes on.
func (g *general) outgoing() *http.Request {
	r := g.r
	g.to.Trailers = g.speaksHTTP2() && tokenIn(r.Header["Te"], "trailers")
	h := make(http.Header, len(r.Header)+5)
	g.to.WriteHeader(&forward.Map{Header: h})
	if _, ok := h["User-Agent"]; !ok {
		h["User-Agent"] = nil // none came, so none is added
	}
	out := &http.Request{
		Method:        r.Method,
		Proto:         "HTTP/1.1",
		ProtoMajor:    1,
		ProtoMinor:    1,
		Host:          g.to.SendHost(),
		URL:           Addressed(g.to.To, g.to.path, g.query, g.hasQuery && g.query == ""),
		Header:        h,
		ContentLength: r.ContentLength,
	}
	if upgrade := upgradeOf(r); upgrade != "" {
		h["Connection"], h["Upgrade"] = []string{"Upgrade"}, []string{upgrade}
	}
	if g.body == nil {
		return out
	}
	out.Body = g.body
	if g.kept == nil && (g.to.mirror != nil || g.to.mayRepeat) {
		g.kept = newKeptBody(g.body, r.ContentLength)
	}
	if g.kept != nil {
		out.Body = g.kept.once()
	}
	g.passTrailer(out)
	return out
}

// passTrailer makes the trailer of the caller's body follow that of the request
// that goes on, once it has come.
func (g *general) passTrailer(out *http.Request) {
	if g.r.ContentLength >= 0 && g.r.Trailer == nil {
		return
	}
	trailer, r := http.Header{}, g.r
	for k := range r.Trailer {
		if g.keepsTrailer(k) {
			trailer[k] = nil
		}
	}
	out.Trailer = trailer
	g.body.onEnd = func() {
		for k, v := range r.Trailer {
			if g.keepsTrailer(k) && v != nil {
				trailer[k] = v
			}
		}
	}
}

// copyRequest sends a copy of the request to the mirror.
func (g *general) copyRequest(out *http.Request, body []byte) {
	url := Addressed(g.to.mirror, g.to.path, g.query, g.hasQuery && g.query == "")
	g.to.mirrors.send(&http.Request{
		Method:     out.Method,
		Proto:      out.Proto,
		ProtoMajor: 1,
		ProtoMinor: 1,
		Host:       out.Host,
		URL:        url,
		Header:     out.Header.Clone(),
	}, g.to.mirror, body, g.to.TimeLeft)
}

// Addressed is where net/http sends a request to an instance, by the transport that
// Transports.To gives.
func Addressed(to *engine.Instance, path, query string, force bool) *url.URL {
	u := forward.URL(to, path, query, force)
	if to.Mutual || to.Secure { // the connection speaks TLS itself
		u.Scheme, u.Host = "http", placeOf(to).host()
	}
	return u
}

// interimPasser passes interim answers on, as long as the attempt lasts: the
// transport may still be at it when the attempt was given up.
type interimPasser struct {
	mu    sync.Mutex
	to    http.ResponseWriter // nil: the attempt is over
	came  int
	begun bool // one has gone to the caller
}

func (i *interimPasser) pass(status int, h textproto.MIMEHeader) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.came++; i.came > forward.MaxInterim {
		return fmt.Errorf("it sent more than %d interim answers", forward.MaxInterim)
	}
	if i.to == nil || !forward.PassesInterim(status) {
		return nil
	}
	i.begun = true
	var fields http1.Fields
	fields.Reset()
	for k, values := range h {
		for _, v := range values {
			fields.Add(k, v)
		}
	}
	mine := i.to.Header()
	forward.WriteInterim(&fields, &forward.Map{Header: mine})
	i.to.WriteHeader(status)
	clear(mine)
	return nil
}

func (i *interimPasser) end() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.to = nil
}

func (i *interimPasser) hasPassed() bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.begun
}

// tokenIn tells whether a list of tokens has one of that name.
func tokenIn(lines []string, token string) bool {
	for _, l := range lines {
		for t := range strings.SplitSeq(l, ",") {
			if strings.EqualFold(strings.TrimSpace(t), token) {
				return true
			}
		}
	}
	return false
}
