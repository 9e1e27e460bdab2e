package proxy

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/http1"
	"nightjar/wire"
)

// unnoticed is how long a try goes on before somebody looks out for the
// caller's leaving.
const unnoticed = 10 * time.Millisecond

// try sends the request and reads the head of the answer.
func (c *plain) try(to call) engine.Outcome {
	c.dropAnswer()
	c.told = false
	c.out = c.appendRequest(c.out[:0], &to)
	head := len(c.out)
	body := c.in[c.head : c.head+int(c.req.Body)]
	c.out = append(c.out, body...)
	if to.mirror != nil {
		c.mirrorTo(to.by.mirrors, to.mirror, to.left, head, body)
	}
	rack := c.port.racks.of(to.to)
	safe := engine.Idempotent(c.req.Method)
	for fresh := false; ; fresh = true {
		u, err := c.connect(rack, to.deadline, fresh)
		if err != nil {
			return c.spent(outcome(err, c.cause(err)))
		}
		c.up, c.filled = u, 0
		if err = c.exchange(to.deadline); err == nil {
			break
		}
		u.conn.Close()
		c.up = nil
		// A kept connection that ended just now says nothing of the instance
		// (RFC 9112, section 9.3.1).
		if u.kept && c.filled == 0 && safe && !errors.Is(err, errDeadline) && !c.gone.Load() && !c.cut.Load() {
			continue
		}
		return c.spent(outcome(err, c.cause(err)))
	}
	status := c.resp.Status
	for i := range c.resp.List {
		if f := &c.resp.List[i]; !to.to.Outside && len(f.Name) == len(wire.HeaderReason) && strings.EqualFold(f.Name, wire.HeaderReason) {
			return c.spent(engine.Outcome{Status: status, Reason: engine.Reason(strings.Clone(f.Value)), Detail: "its proxy could not reach the workload"})
		}
	}
	return c.spent(engine.Outcome{Status: status})
}

// spent notes whether something of an answer has gone to the caller.
func (c *plain) spent(o engine.Outcome) engine.Outcome {
	o.Spent = c.told
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
	if !c.resp.Close() && (c.resp.Body == http1.NoBody && left == 0 || c.resp.Body == http1.Sized && left == c.resp.Size) {
		u.rack.put(c.near, u, c.by.now())
		return
	}
	u.conn.Close()
}

// bodies are buffers for what follows the first read of an answer.
var bodies = sync.Pool{New: func() any { b := make([]byte, 64<<10); return &b }}

func (c *plain) cause(err error) error {
	switch {
	case c.cut.Load():
		return errLeaving
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return errDeadline
	}
	return nil
}

// connect takes a kept connection, or opens one when there is none or a fresh
// one is wanted.
func (c *plain) connect(rack *rack, deadline time.Duration, fresh bool) (*upstream, error) {
	for !fresh {
		u := rack.take(c.near)
		switch {
		case u == nil:
			fresh = true
		case u.alive():
			return u, nil
		default:
			u.conn.Close()
		}
	}
	return c.dial(rack, deadline)
}

func (c *plain) dial(rack *rack, deadline time.Duration) (*upstream, error) {
	limit := c.by.epoch.Add(deadline)
	ctx, cancel := context.WithDeadline(context.Background(), limit)
	defer cancel()
	c.watchFor(cancel)
	u, err := c.port.racks.dial(ctx, rack)
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() && time.Now().Before(limit) { // the dial's own limit came first
		return nil, &net.OpError{Op: "dial", Err: errors.New("no connection within " + dialTimeout.String())}
	}
	return u, err
}

// exchange writes the request and reads the head of the answer.
func (c *plain) exchange(deadline time.Duration) error {
	now := c.by.now()
	if now >= deadline {
		return errDeadline
	}
	u := c.up
	if u.until < now+stall/2 {
		u.until = now + stall
		u.conn.SetWriteDeadline(c.by.epoch.Add(u.until))
	}
	if c.on {
		c.watchFor(u.hush)
		u.conn.SetReadDeadline(c.by.epoch.Add(deadline))
	} else {
		u.conn.SetReadDeadline(c.by.epoch.Add(min(deadline, now+unnoticed)))
	}
	if c.gone.Load() || c.cut.Load() {
		return errDone
	}
	_, werr := u.conn.Write(c.out)
	// An instance may answer before it has read everything, and close.
	for {
		n, err := c.resp.Parse(c.answer[:c.filled], c.req.Method == http.MethodHead)
		switch {
		case err == nil && c.resp.Status == http.StatusSwitchingProtocols:
			return errors.New("it switched to another protocol without being asked")
		case err == nil && c.resp.Status < 200:
			if err := c.interim(); err != nil {
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
		n, err = c.readUp(c.answer[c.filled:], deadline)
		c.filled += n
		if n == 0 {
			if err == io.EOF && werr != nil {
				err = werr
			}
			return err
		}
	}
}

// readUp reads from the instance. Only when that takes a while it begins to
// watch the caller. A deadline of 0 is none.
func (c *plain) readUp(b []byte, deadline time.Duration) (int, error) {
	for {
		n, err := c.up.conn.Read(b)
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		switch {
		case c.gone.Load() || c.cut.Load():
			return 0, errDone
		case deadline > 0 && c.by.now() >= deadline:
			return 0, errDeadline
		}
		until := time.Time{}
		if deadline > 0 {
			until = c.by.epoch.Add(deadline)
		}
		c.up.conn.SetReadDeadline(until)
		c.watchFor(c.up.hush)
		if c.gone.Load() || c.cut.Load() {
			return 0, errDone
		}
	}
}

// appendRequest writes the head of the request as it goes on.
func (c *plain) appendRequest(b []byte, to *call) []byte {
	b = append(b, c.req.Method...)
	b = append(b, ' ')
	b = append(b, to.path...)
	b = append(b, c.req.Query...)
	b = append(b, " HTTP/1.1\r\n"...)
	host := to.host
	if host == "" {
		host = c.req.Host
	}
	b = putField(b, "Host", host)
	changed := to.edits[0] != nil || to.edits[1] != nil
	put := func(name, value string) {
		if !changed || !replaced(name, to.edits, false) {
			b = putField(b, name, value)
		}
	}
	for i := range c.req.List {
		f := &c.req.List[i]
		if c.req.OneHop(f) || c.by.owned(f.Name) || to.retraces(f.Name) {
			continue
		}
		put(f.Name, f.Value)
	}
	if to.traced {
		b = append(append(append(b, headerTraceparent+": "...), to.trace[:]...), "\r\n"...)
	}
	put("Via", "1.1 nightjar")
	if c.by.tells(to.to) {
		if c.by.caller != "" {
			put(wire.HeaderCaller, c.by.caller)
		}
		b = append(b, wire.HeaderTimeLeft+": "...)
		b = strconv.AppendInt(b, millis(to.left), 10)
		b = append(b, "\r\n"...)
	}
	if c.by.gateway != "" {
		put("Forwarded", forwarded(c.from, c.req.Host, false))
	}
	if changed {
		b = appendEdits(b, to.edits, false)
	}
	if c.req.Body > 0 || c.req.Stated() {
		b = append(b, "Content-Length: "...)
		b = strconv.AppendInt(b, c.req.Body, 10)
		b = append(b, "\r\n"...)
	}
	return append(b, "\r\n"...)
}

func editsOf(e *rules.HeaderEdits, answer bool) *rules.Edits {
	switch {
	case e == nil:
		return nil
	case answer:
		return &e.Response
	}
	return &e.Request
}

// replaced tells whether edits remove or set a field, so that what came of it
// does not go on.
func replaced(name string, list [2]*rules.HeaderEdits, answer bool) bool {
	for _, h := range list {
		e := editsOf(h, answer)
		if e == nil {
			continue
		}
		for _, n := range e.Remove {
			if strings.EqualFold(n, name) {
				return true
			}
		}
		for i := range e.Set {
			if strings.EqualFold(e.Set[i].Name, name) {
				return true
			}
		}
	}
	return false
}

// appendEdits writes the fields that edits set and add. What the first of two
// sets or adds, the second may remove or set anew.
func appendEdits(b []byte, list [2]*rules.HeaderEdits, answer bool) []byte {
	if answer {
		list[0], list[1] = list[1], list[0]
	}
	for i, h := range list {
		e := editsOf(h, answer)
		if e == nil {
			continue
		}
		var later [2]*rules.HeaderEdits
		if i == 0 {
			later[1] = list[1]
		}
		for _, fields := range [][]rules.Field{e.Set, e.Add} {
			for _, f := range fields {
				if !replaced(f.Name, later, answer) {
					b = putField(b, f.Name, f.Value)
				}
			}
		}
	}
	return b
}

// mirrorTo sends a copy of the request that was written.
func (c *plain) mirrorTo(by *mirrors, to *engine.Instance, left time.Duration, head int, body []byte) {
	var copied http1.Request
	text := append([]byte(nil), c.out[:head]...)
	if _, err := copied.Parse(text); err != nil {
		return
	}
	h := http.Header{"User-Agent": nil}
	for _, f := range copied.List {
		if f.Role == http1.EndToEnd {
			h.Add(f.Name, f.Value)
		}
	}
	by.send(&http.Request{Method: copied.Method, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Host: copied.Host,
		URL: target(to, copied.Path, strings.TrimPrefix(copied.Query, "?"), copied.Query == "?"), Header: h}, append([]byte(nil), body...), left)
}
