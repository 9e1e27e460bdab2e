package carry

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

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
func (c *plain) sendAnswer(a forward.Answer) (failed bool, err error, isOver bool) {
	c.writeAnswerHead(&a)
	err = c.passBody()
	u := c.up
	c.up = nil
	c.giveBack(u, err == nil && !c.resp.Close() && c.used == c.filled)
	return false, err, true
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

// passBody writes the head that stands in c.out, and the body as it comes: what one
// read brought is written at once. The first of it goes with the head.
func (c *plain) passBody() error {
	c.body = c.resp.NewBody()
	have := c.answer[:c.filled]
	var buf *[]byte
	defer func() {
		if buf != nil {
			bodies.Put(buf)
		}
	}()
	for {
		isOver, err := c.takeBody(have)
		if err != nil {
			return err
		}
		if isOver {
			c.filled = len(have) // should there be more than the answer
			return nil
		}
		if buf == nil {
			buf = bodies.Get().(*[]byte)
		}
		rest := copy(*buf, have[c.used:]) // may lie in the same buffer
		room := (*buf)[rest:]
		if len(room) == 0 {
			return errors.New("a trailer is too long")
		}
		if wants := c.body.Wants(); wants >= 0 {
			room = room[:min(int64(len(room)), wants)]
		}
		c.used = 0
		n, err := c.readUp(room, 0)
		if n == 0 {
			if err == io.EOF && c.body.EndsWithConnection() {
				c.filled = 0
				return c.write([]byte("0\r\n\r\n"))
			}
			return cutOff(err)
		}
		have = (*buf)[:rest+n]
	}
}

// takeBody takes from have, from c.used on, what it holds of the body, and writes it
// after what stands in c.out. On an error that too is written: the caller is to see
// an answer that breaks off, not none.
func (c *plain) takeBody(have []byte) (isOver bool, err error) {
	held := uint64(0)
	isChunked := c.resp.Body == http1.Chunked || c.resp.Body == http1.UntilClose
	for n := 1; !isOver && err == nil && n > 0 && (c.used < len(have) || c.resp.Body == http1.NoBody); {
		var payload []byte
		payload, n, isOver, err = c.body.Next(have[c.used:])
		c.used += n
		held += uint64(len(payload))
		switch {
		case len(payload) == 0:
		case isChunked:
			c.out.b = http1.AppendChunk(c.out.b, payload)
		case len(c.out.b) == 0: // nothing that it could go with
			err = c.write(payload)
		default:
			c.out.b = append(c.out.b, payload...)
		}
	}
	if isOver && isChunked {
		c.writeTrailer()
	}
	if len(c.out.b) > 0 {
		if werr := c.write(c.out.b); err == nil {
			err = werr
		}
		c.out.b = c.out.b[:0]
	}
	if err == nil {
		c.received += held
	}
	return isOver, err
}

// writeTrailer writes the end of a chunked body to c.out.
func (c *plain) writeTrailer() {
	c.out.b = append(c.out.b, "0\r\n"...)
	for i := range c.body.Trailer.List {
		if f := &c.body.Trailer.List[i]; !c.body.Trailer.OneHop(f) && forward.KeepsTrailer(f.Name) {
			c.out.Add(f.Name, f.Value)
		}
	}
	c.out.b = append(c.out.b, "\r\n"...)
}

// cutOff is the error of a body that ended too early.
func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (c *plain) reply(status int, h http.Header, body []byte) {
	c.out.b = c.out.b[:0]
	c.out.b = append(c.out.b, "HTTP/1.1 "...)
	c.out.b = strconv.AppendInt(c.out.b, int64(status), 10)
	c.out.b = append(c.out.b, ' ')
	c.out.b = append(c.out.b, http.StatusText(status)...)
	c.out.b = append(c.out.b, "\r\n"...)
	c.out.Add("Date", today())
	for k, values := range h {
		for _, v := range values {
			c.out.Add(k, v)
		}
	}
	if c.endsHere() {
		c.out.Add("Connection", "close")
	}
	if status != http.StatusNoContent && status != http.StatusNotModified {
		c.out.addLength(int64(len(body)))
	}
	c.out.b = append(c.out.b, "\r\n"...)
	if c.req.Method != http.MethodHead {
		c.out.b = append(c.out.b, body...)
	}
	if c.write(c.out.b) == nil && c.req.Method != http.MethodHead {
		c.received += uint64(len(body))
	}
}

// day is the date of answers of our own, made anew every second.
var day atomic.Pointer[struct {
	second int64
	text   string
}]

func today() string {
	now := time.Now()
	d := day.Load()
	if d == nil || d.second != now.Unix() {
		d = &struct {
			second int64
			text   string
		}{now.Unix(), now.UTC().Format(http.TimeFormat)}
		day.Store(d)
	}
	return d.text
}
