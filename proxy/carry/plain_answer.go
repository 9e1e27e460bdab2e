package carry

import (
	"errors"
	"io"
	"strconv"
	"strings"

	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
)

func (c *plain) statusLine(b []byte) []byte {
	b = append(b, "HTTP/1.1 "...)
	b = strconv.AppendInt(b, int64(c.resp.Status), 10)
	b = append(b, ' ')
	b = append(b, c.resp.Reason...)
	return append(b, "\r\n"...)
}

// sendAnswer writes the answer to the caller. The connection to the instance
// stays in use when all of the answer has come.
func (c *plain) sendAnswer(a forward.Answer) (failed bool, err error) {
	c.writeAnswerHead(&a)
	b := c.out.b
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
	c.out.b = b
	u := c.up
	c.up = nil
	if err != nil || c.resp.Close() || c.used != c.filled {
		u.conn.Close()
		return false, err
	}
	u.pool.put(c.slot, u, c.src.now())
	return false, nil
}

// writeAnswerHead writes the head of the answer to c.out.
func (c *plain) writeAnswerHead(a *forward.Answer) {
	c.out.b = c.statusLine(c.out.b[:0])
	if c.resp.Body == http1.Chunked { // what it announces goes on
		for i := range c.resp.List {
			if f := &c.resp.List[i]; len(f.Name) == 7 && strings.EqualFold(f.Name, "trailer") {
				c.out.Add(f.Name, f.Value)
			}
		}
	}
	if !a.WriteHeader(&c.resp.Fields, "1.1", &c.out) { // RFC 9110, section 6.6.1
		c.out.Add("Date", today())
	}
	if c.endsHere() {
		c.out.Add("Connection", "close")
	}
	switch {
	case c.resp.Body == http1.Chunked || c.resp.Body == http1.UntilClose:
		c.out.Add("Transfer-Encoding", "chunked")
	case c.resp.Size >= 0:
		c.out.addLength(c.resp.Size)
	}
	c.out.b = append(c.out.b, "\r\n"...)
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
	if c.received += uint64(first); left == 0 {
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
			c.received += uint64(n)
		} else if err != nil {
			return b, cutOff(err)
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
		c.received += uint64(held)
		n, err := c.readUp(*buf, 0)
		switch held = n; {
		case n > 0:
			b = http1.AppendChunk(b[:0], (*buf)[:n])
		case err == io.EOF:
			return b, c.write([]byte("0\r\n\r\n"))
		default:
			return b, cutOff(err)
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
		var held uint64
		var isOver bool
		var err error
		if b, held, isOver, err = c.rechunk(b, have); err != nil {
			c.write(b) // the caller is to see an answer that breaks off, not none
			return b, err
		}
		if len(b) > 0 {
			if err := c.write(b); err != nil {
				return b, err
			}
			c.received += held
			b = b[:0]
		}
		if isOver {
			c.filled = len(have)
			return b, nil
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
			return b, cutOff(err)
		}
		have = (*buf)[:rest+n]
	}
}

// rechunk appends to b what have holds of a chunked body from c.used on, as it
// goes to the caller: held bytes of it, and the trailer when it isOver.
func (c *plain) rechunk(b, have []byte) (out []byte, held uint64, isOver bool, err error) {
	for {
		payload, n, over, err := c.chunks.Next(have[c.used:])
		c.used += n
		switch {
		case err != nil:
			return b, held, false, err
		case over:
			trailer := headerBytes{append(b, "0\r\n"...)}
			for i := range c.chunks.Trailer.List {
				if f := &c.chunks.Trailer.List[i]; !c.chunks.Trailer.OneHop(f) && forward.KeepsTrailer(f.Name) {
					trailer.Add(f.Name, f.Value)
				}
			}
			return append(trailer.b, "\r\n"...), held, true, nil
		case len(payload) > 0:
			b = http1.AppendChunk(b, payload)
			held += uint64(len(payload))
		case n == 0:
			return b, held, false, nil
		}
	}
}

// cutOff is the error of a body that ended too early.
func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}
