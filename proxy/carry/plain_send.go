package carry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
	"nightjar/wire"
)

func (c *plain) send() (engine.Outcome, bool) { return c.ask(), true }

// ask sends the request once and reads the head of the answer.
func (c *plain) ask() engine.Outcome {
	c.dropAnswer()
	c.life.beginAttempt()
	c.sentInterim, c.interims = false, 0
	head := c.writeRequest()
	body := c.in[c.head : c.head+int(c.req.Body)]
	c.out.b = append(c.out.b, body...)
	if c.to.mirror != nil {
		c.copyRequest(c.out.b[:head], body)
	}
	pool := c.listener.Pools.of(c.to.To)
	mayResend := engine.Idempotent(c.req.Method)
	for isFresh := false; ; isFresh = true {
		u, err := c.connect(pool, isFresh)
		if err != nil {
			return c.outcome(err, !isFresh)
		}
		c.up, c.filled = u, 0
		if err = c.exchange(); err == nil {
			break
		}
		u.conn.Close()
		c.up = nil
		// A kept connection that ended just now says nothing of the instance
		// (RFC 9112, section 9.3.1). Silence does.
		if u.isKept && c.filled == 0 && mayResend && c.life.cause() == nil && !errors.Is(err, syscall.ETIMEDOUT) {
			continue
		}
		return c.outcome(err, c.to.To.Mutual && c.filled == 0 && isRefusedThere(err))
	}
	o := engine.Outcome{Status: c.resp.Status, IsSpent: c.sentInterim}
	for i := range c.resp.List {
		f := &c.resp.List[i]
		if !c.to.To.Outside && len(f.Name) == len(wire.HeaderReason) && strings.EqualFold(f.Name, wire.HeaderReason) {
			o = saidByProxy(f.Value, o)
		}
	}
	return o
}

// outcome is that of an attempt without an answer.
func (c *plain) outcome(err error, isUnsent bool) engine.Outcome {
	if why := c.life.cause(); why != nil {
		err = why
	}
	o := outcomeOf(err)
	o.IsSpent, o.IsUnsent = c.sentInterim, isUnsent
	return o
}

// dropAnswer lets go of an answer that is not passed on. Its connection stays
// in use when all of it has come.
func (c *plain) dropAnswer() {
	u := c.up
	if c.up = nil; u == nil {
		return
	}
	left := int64(c.filled - c.used)
	isWhole := c.resp.Body == http1.NoBody && left == 0 || c.resp.Body == http1.Sized && left == c.resp.Size
	c.giveBack(u, isWhole && !c.resp.Close())
}

// giveBack puts a connection back among those that are kept, or closes it. One whose
// attempt was given up is closed in any case: an interrupt may be on its way to it.
func (c *plain) giveBack(u *upstream, isReusable bool) {
	if c.watch.isOn {
		c.life.onEnd(nil)
	}
	if isReusable && c.life.cause() == nil {
		u.pool.put(c.slot, u, c.wrote)
		return
	}
	u.conn.Close()
}

// bodies are buffers for what follows the first read of an answer.
var bodies = sync.Pool{New: func() any { b := make([]byte, 64<<10); return &b }}

// connect takes a kept connection, or opens one when there is none or a fresh
// one is wanted.
func (c *plain) connect(pool *connPool, isFresh bool) (*upstream, error) {
	for !isFresh {
		u := pool.take(c.slot)
		switch {
		case u == nil:
			isFresh = true
		case u.isAlive() && c.listener.Pools.isGood(u, c.src.now()):
			return u, nil
		default:
			u.conn.Close()
		}
	}
	ctx, cancel := context.WithDeadline(context.Background(), c.src.Epoch.Add(c.to.deadline))
	defer cancel()
	c.watchCaller()
	c.life.onEnd(func(error) { cancel() })
	defer c.life.onEnd(nil)
	u, err := c.listener.Pools.dial(ctx, pool)
	if err != nil && isShortage(err) { // what is kept and not needed makes room
		c.listener.Pools.CloseIdle()
		c.listener.Callers.relieve()
		u, err = c.listener.Pools.dial(ctx, pool)
	}
	if err != nil && ctx.Err() == context.DeadlineExceeded {
		err = errDeadline
	}
	return u, err
}

// exchange writes the request and reads the head of the answer.
func (c *plain) exchange() error {
	now := c.src.now()
	if now >= c.to.deadline {
		return errDeadline
	}
	u := c.up
	until := c.to.deadline
	if c.watch.isOn {
		c.life.onEnd(u.interrupt)
	} else { // until it is clear that it takes a while
		until = min(until, now+watchAfter)
	}
	u.setDeadline(len(c.out.b), until, min(c.to.deadline, now+c.listener.Stall), c.src.Epoch)
	if why := c.life.cause(); why != nil {
		return why
	}
	werr := c.writeUp(c.out.b)
	if why := c.life.cause(); why != nil {
		return why
	}
	// An instance may answer before it has read everything, and close.
	for {
		n, err := c.resp.Parse(c.answer[:c.filled], c.req.Method == http.MethodHead)
		switch {
		case err == nil && c.resp.Status == http.StatusSwitchingProtocols:
			return errors.New("it switched to another protocol without being asked")
		case err == nil && c.resp.Status < 200:
			if err := c.passInterim(); err != nil {
				return err
			}
			c.filled = copy(c.answer, c.answer[n:c.filled])
			continue
		case err == nil:
			c.used = n
			if werr != nil {
				c.resp.End()
			}
			return nil
		case err != http1.ErrIncomplete:
			return err
		}
		if c.filled == len(c.answer) {
			if c.filled >= maxHeader {
				return errors.New("the head of its answer is longer than " + strconv.Itoa(maxHeader) + " bytes")
			}
			c.answer = append(make([]byte, 0, 2*len(c.answer)), c.answer...)[:2*len(c.answer)]
		}
		n, err = c.readUp(c.answer[c.filled:], c.to.deadline)
		c.filled += n
		if n == 0 {
			if err == io.EOF && werr != nil {
				err = werr
			}
			return err
		}
	}
}

// writeUp writes to the instance. Only when that takes a while it begins to watch
// the caller.
func (c *plain) writeUp(b []byte) error {
	for {
		n, err := c.up.conn.Write(b)
		if err == nil || !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
		if b = b[n:]; c.up.isSecure { // what was cut in two cannot be gone on with
			return c.tooLate(errStalled)
		}
		now := c.src.now()
		if why := c.life.cause(); why != nil {
			return why
		}
		if now >= c.to.deadline {
			c.life.endAttempt(errDeadline)
			return errDeadline
		}
		if c.watch.isOn && n == 0 && now >= c.up.writeUntil {
			c.life.endAttempt(errStalled)
			return errStalled
		}
		c.up.writeUntil = min(c.to.deadline, now+c.listener.Stall)
		c.up.conn.SetWriteDeadline(c.src.Epoch.Add(c.up.writeUntil))
		c.watchCaller()
		c.life.onEnd(c.up.interrupt)
	}
}

// tooLate ends the attempt since its time is over, or else for another reason.
func (c *plain) tooLate(why error) error {
	if c.src.now() >= c.to.deadline {
		why = errDeadline
	}
	c.life.endAttempt(why)
	return c.life.cause()
}

// readUp reads from the instance. Only when that takes a while it begins to
// watch the caller. A deadline of 0 is none.
func (c *plain) readUp(b []byte, deadline time.Duration) (int, error) {
	for {
		n, err := c.up.conn.Read(b)
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		if why := c.life.cause(); why != nil {
			return 0, why
		}
		until := time.Time{}
		if deadline > 0 {
			if c.src.now() >= deadline {
				c.life.endAttempt(errDeadline)
				return 0, errDeadline
			}
			until = c.src.Epoch.Add(deadline)
		}
		c.up.conn.SetReadDeadline(until)
		c.watchCaller()
		c.life.onEnd(c.up.interrupt)
	}
}

// writeRequest writes the head of the request as it goes on to c.out, and returns
// its length.
func (c *plain) writeRequest() int {
	b := c.out.b[:0]
	b = append(b, c.req.Method...)
	b = append(b, ' ')
	b = append(b, c.to.path...)
	b = append(b, c.req.Query...)
	c.out.b = append(b, " HTTP/1.1\r\n"...)
	c.out.Add("Host", c.to.SendHost())
	c.to.WriteHeader(&c.out)
	if c.req.Body > 0 || c.req.Stated() {
		c.out.addLength(c.req.Body)
	}
	c.out.b = append(c.out.b, "\r\n"...)
	return len(c.out.b)
}

// copyRequest sends a copy of the request that was written.
func (c *plain) copyRequest(head, body []byte) {
	var copied http1.Request
	if _, err := copied.Parse(append([]byte(nil), head...)); err != nil {
		return
	}
	h := http.Header{"User-Agent": nil}
	for _, f := range copied.List {
		if f.Role == http1.EndToEnd {
			h.Add(f.Name, f.Value)
		}
	}
	url := Addressed(c.to.mirror, copied.Path, strings.TrimPrefix(copied.Query, "?"), copied.Query == "?")
	c.to.mirrors.send(
		&http.Request{
			Method:     copied.Method,
			Proto:      "HTTP/1.1",
			ProtoMajor: 1,
			ProtoMinor: 1,
			Host:       copied.Host,
			URL:        url,
			Header:     h,
		},
		c.to.mirror,
		append([]byte(nil), body...),
		c.to.TimeLeft,
	)
}

// passInterim passes an interim answer on, if it is one that goes on.
func (c *plain) passInterim() error {
	if c.interims++; c.interims > forward.MaxInterim {
		return fmt.Errorf("it sent more than %d interim answers", forward.MaxInterim)
	}
	if !forward.PassesInterim(c.resp.Status) {
		return nil
	}
	c.sentInterim = true
	interim := headerBytes{c.statusLine(nil)}
	forward.WriteInterim(&c.resp.Fields, &interim)
	return c.write(append(interim.b, "\r\n"...))
}
