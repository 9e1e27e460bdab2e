package proxy

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"

	"nightjar/proxy/http1"
	"nightjar/wire"
)

// interim passes a 1xx answer on. 100 is between two hops.
func (c *plain) interim() error {
	if c.resp.Status == http.StatusContinue {
		return nil
	}
	c.told = true
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
		if c.resp.Body == http1.Chunked && len(f.Name) == 7 && strings.EqualFold(f.Name, "trailer") {
			b = putField(b, f.Name, f.Value) // what it announces goes on too
			continue
		}
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
	if err := c.write(b); err != nil {
		return b, err
	}
	if c.passed += uint64(first); left == 0 {
		return b, nil
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
			c.passed += uint64(n)
		} else if err != nil {
			return b, broken(err)
		}
	}
	return b, nil
}

// passRest passes a body that ends with the connection on in chunks.
func (c *plain) passRest(b []byte) ([]byte, error) {
	held := c.filled - c.used // of the body, not written yet
	if held > 0 {
		b = http1.AppendChunk(b, c.answer[c.used:c.filled])
		c.used = c.filled
	}
	buf := bodies.Get().(*[]byte)
	defer bodies.Put(buf)
	for {
		if err := c.write(b); err != nil {
			return b, err
		}
		c.passed += uint64(held)
		n, err := c.readUp(*buf, 0)
		switch held = n; {
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
	held := uint64(0) // of the body, not written yet
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
				err := c.write(append(b, "\r\n"...))
				if err == nil {
					c.passed += held
				}
				return b, err
			case len(payload) > 0:
				b = http1.AppendChunk(b, payload)
				held += uint64(len(payload))
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
			c.passed += held
			b, held = b[:0], 0
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
