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
	if c.up != nil {
		c.up.conn.Close()
		c.up = nil
	}
	c.out = c.appendRequest(c.out[:0], &to)
	head := len(c.out)
	body := c.in[c.head : c.head+int(c.req.Body)]
	c.out = append(c.out, body...)
	if to.mirror != nil {
		c.mirrorTo(to.by.mirrors, to.mirror, to.left, head, body)
	}
	rack := c.port.racks.of(to.to)
	safe := idempotent(c.req.Method)
	for {
		u := rack.take(c.near)
		if u != nil && !u.alive() {
			u.conn.Close()
			continue
		}
		if u == nil {
			var err error
			if u, err = c.dial(rack, to.deadline); err != nil {
				return outcome(err, c.cause(err))
			}
		}
		c.up, c.filled = u, 0
		err := c.exchange(to.deadline)
		if err == nil {
			break
		}
		u.conn.Close()
		c.up = nil
		// A kept connection that ended just now says nothing of the instance
		// (RFC 9112, section 9.3.1).
		if u.kept && c.filled == 0 && safe && !errors.Is(err, errDeadline) && !c.gone.Load() && !c.cut.Load() {
			continue
		}
		return outcome(err, c.cause(err))
	}
	status := c.resp.Status
	for i := range c.resp.List {
		if f := &c.resp.List[i]; !to.to.Outside && len(f.Name) == len(wire.HeaderReason) && strings.EqualFold(f.Name, wire.HeaderReason) {
			return engine.Outcome{Status: status, Reason: engine.Reason(strings.Clone(f.Value)), Detail: "its proxy could not reach the workload"}
		}
	}
	return engine.Outcome{Status: status}
}

// bodies are buffers for what follows the first read of an answer.
var bodies = sync.Pool{New: func() any { b := make([]byte, 64<<10); return &b }}

// idempotent tells whether a request may be sent twice (RFC 9110, section 9.2.2).
func idempotent(method string) bool {
	switch method {
	case "GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE":
		return true
	}
	return false
}

func (c *plain) cause(err error) error {
	switch {
	case c.cut.Load():
		return errLeaving
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return errDeadline
	}
	return nil
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
		if c.req.OneHop(f) || c.by.owned(f.Name) {
			continue
		}
		put(f.Name, f.Value)
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

// interim passes a 1xx answer on. 100 is between two hops.
func (c *plain) interim() error {
	if c.resp.Status == http.StatusContinue {
		return nil
	}
	b := c.statusLine(nil)
	for i := range c.resp.List {
		if f := &c.resp.List[i]; !c.resp.OneHop(f) {
			b = putField(b, f.Name, f.Value)
		}
	}
	return c.write(append(b, "\r\n"...))
}

func (c *plain) statusLine(b []byte) []byte {
	b = append(b, "HTTP/1.1 "...)
	b = strconv.AppendInt(b, int64(c.resp.Status), 10)
	b = append(b, ' ')
	b = append(b, c.resp.Reason...)
	return append(b, "\r\n"...)
}

// pass writes the answer to the caller.
func (c *plain) pass(p passing) (fault bool, err error) {
	b := c.statusLine(c.out[:0])
	changed := p.edits[0] != nil || p.edits[1] != nil
	dated := false
	for i := range c.resp.List {
		f := &c.resp.List[i]
		if c.resp.OneHop(f) || len(f.Name) == len(wire.HeaderReason) && strings.EqualFold(f.Name, wire.HeaderReason) {
			continue
		}
		dated = dated || len(f.Name) == 4 && strings.EqualFold(f.Name, "date")
		if !changed || !replaced(f.Name, p.edits, true) {
			b = putField(b, f.Name, f.Value)
		}
	}
	if !dated { // RFC 9110, section 6.6.1
		b = putField(b, "Date", today())
	}
	if changed {
		b = appendEdits(b, p.edits, true)
	}
	b = putField(b, "Via", "1.1 nightjar")
	for _, f := range p.extra {
		b = putField(b, f.Name, f.Value)
	}
	if c.last {
		b = append(b, "Connection: close\r\n"...)
	}
	switch {
	case c.resp.Body == http1.Chunked || c.resp.Body == http1.UntilClose:
		b = append(b, "Transfer-Encoding: chunked\r\n"...)
	case c.resp.Size >= 0:
		b = append(b, "Content-Length: "...)
		b = strconv.AppendInt(b, c.resp.Size, 10)
		b = append(b, "\r\n"...)
	}
	b = append(b, "\r\n"...)

	switch c.resp.Body {
	case http1.NoBody:
		err = c.write(b)
	case http1.Sized:
		b, err = c.passSized(b)
	case http1.Chunked:
		b, err = c.passChunks(b)
	case http1.UntilClose:
		b, err = c.passRest(b)
	}
	c.out = b
	u := c.up
	c.up = nil
	if err != nil || c.resp.Close() || c.used != c.filled {
		u.conn.Close()
		return false, err
	}
	u.rack.put(c.near, u, c.by.now())
	return false, nil
}

func (c *plain) passSized(b []byte) ([]byte, error) {
	left := c.resp.Size
	first := int(min(int64(c.filled-c.used), left))
	b = append(b, c.answer[c.used:c.used+first]...)
	c.used += first
	left -= int64(first)
	if err := c.write(b); err != nil || left == 0 {
		return b, err
	}
	buf := bodies.Get().(*[]byte)
	defer bodies.Put(buf)
	for left > 0 {
		n, err := c.readUp((*buf)[:min(int64(len(*buf)), left)], 0)
		left -= int64(n)
		if n > 0 {
			if err := c.write((*buf)[:n]); err != nil {
				return b, err
			}
		} else if err != nil {
			return b, broken(err)
		}
	}
	return b, nil
}

// passRest passes a body that ends with the connection on in chunks.
func (c *plain) passRest(b []byte) ([]byte, error) {
	if c.used < c.filled {
		b = http1.AppendChunk(b, c.answer[c.used:c.filled])
		c.used = c.filled
	}
	buf := bodies.Get().(*[]byte)
	defer bodies.Put(buf)
	for {
		if err := c.write(b); err != nil {
			return b, err
		}
		n, err := c.readUp(*buf, 0)
		switch {
		case n > 0:
			b = http1.AppendChunk(b[:0], (*buf)[:n])
		case err == io.EOF:
			return b, c.write([]byte("0\r\n\r\n"))
		default:
			return b, broken(err)
		}
	}
}

// passChunks passes a chunked body on, in chunks of what one read brought, and
// its trailer.
func (c *plain) passChunks(b []byte) ([]byte, error) {
	c.chunks = http1.Chunks{}
	var buf *[]byte
	defer func() {
		if buf != nil {
			bodies.Put(buf)
		}
	}()
	have := c.answer[:c.filled]
	for {
		for {
			payload, n, over, err := c.chunks.Next(have[c.used:])
			c.used += n
			switch {
			case err != nil:
				c.write(b) // the caller is to see an answer that breaks off, not none
				return b, err
			case over:
				b = append(b, "0\r\n"...)
				for i := range c.chunks.Trailer.List {
					if f := &c.chunks.Trailer.List[i]; !c.chunks.Trailer.OneHop(f) {
						b = putField(b, f.Name, f.Value)
					}
				}
				c.filled = len(have)
				return b, c.write(append(b, "\r\n"...))
			case len(payload) > 0:
				b = http1.AppendChunk(b, payload)
				continue
			}
			if n == 0 {
				break
			}
		}
		if len(b) > 0 {
			if err := c.write(b); err != nil {
				return b, err
			}
			b = b[:0]
		}
		if buf == nil {
			buf = bodies.Get().(*[]byte)
		}
		rest := copy(*buf, have[c.used:]) // may lie in the same buffer
		if rest == len(*buf) {
			return b, errors.New("a trailer is too long")
		}
		c.used = 0
		n, err := c.readUp((*buf)[rest:], 0)
		if n == 0 {
			return b, broken(err)
		}
		have = (*buf)[:rest+n]
	}
}

// broken is the error of a body that ended too early.
func broken(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}
