package load

import (
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"nightjar/proxy/http1"
)

// job is one request of a connection.
type job struct {
	s       *Source
	message int
	due     time.Duration
	sent    bool // it went out already
}

// conn is a connection that carries one request after the other.
type conn struct {
	run  *Run
	jobs chan job
	net  net.Conn // nil: not open yet
	buf  []byte
	n    int    // filled
	room []byte // for bodies
	resp http1.Response
	used bool // for a request before
}

const (
	dialTimeout = 5 * time.Second
	maxHead     = 64 << 10
	// large is a message that is not written by the goroutine that keeps the
	// times, since it could have to wait.
	large = 16 << 10
)

var errTooLong = errors.New("the answer's head is longer than 64 KiB")

// write sends the request; false: it has to be sent anew.
func (c *conn) write(j *job) bool {
	m := j.s.Messages[j.message]
	if len(m) > large {
		return false
	}
	c.wait()
	_, err := c.net.Write(m)
	return err == nil || !j.s.Safe
}

// work carries out jobs until the connection is not wanted any more.
func (c *conn) work() {
	defer c.close(true)
	for j := range c.jobs {
		a := Answered{Due: j.due}
		keep, err := c.exchange(&j)
		a.Took = time.Since(c.run.opt.Begin) - j.due
		if a.Err = err; err == nil {
			a.Status, a.Fields = c.resp.Status, fields{&c.resp}
		}
		c.run.finished(j.s, j.message, &a)
		if !keep || !c.rest(j.s.Address) {
			return
		}
	}
}

// rest puts the connection where the next request finds it; false: nobody will.
func (c *conn) rest(address string) bool {
	c.used = true
	c.run.mu.Lock()
	defer c.run.mu.Unlock()
	if c.run.idle == nil || c.run.ends.Err() != nil {
		return false
	}
	c.run.idle[address] = append(c.run.idle[address], c)
	return true
}

// exchange sends what was not sent, and reads the whole answer.
func (c *conn) exchange(j *job) (keep bool, err error) {
	c.n = 0
	for {
		if c.net == nil {
			if err = c.dial(j.s.Address); err != nil {
				return false, err
			}
		}
		if !j.sent {
			c.wait()
			_, err = c.net.Write(j.s.Messages[j.message])
		}
		if err == nil {
			keep, err = c.read(j.s.Head)
		}
		if err == nil {
			return keep, nil
		}
		c.close(false)
		// A kept connection that ended says nothing of who would have answered
		// (RFC 9112, section 9.3.1).
		if !c.used || !j.s.Safe || c.n > 0 || errors.Is(err, os.ErrDeadlineExceeded) {
			return false, err
		}
		j.sent, err = false, nil
	}
}

// wait sets how long the next answer is waited for.
func (c *conn) wait() {
	c.net.SetDeadline(time.Now().Add(c.run.opt.Wait))
	if c.run.ctx.Err() != nil {
		c.net.SetDeadline(time.Now().Add(grace))
	}
}

func (c *conn) dial(address string) error {
	d := net.Dialer{Timeout: dialTimeout}
	n, err := d.DialContext(c.run.ctx, "tcp", address)
	c.run.mu.Lock()
	defer c.run.mu.Unlock()
	if c.used = false; err == nil {
		c.net = n
	}
	return err
}

// close closes the connection, perhaps to open it anew.
func (c *conn) close(forGood bool) {
	c.run.mu.Lock()
	defer c.run.mu.Unlock()
	if c.net != nil {
		c.net.Close()
		c.net = nil
	}
	if forGood {
		delete(c.run.all, c)
	}
}

// read reads an answer to its end.
func (c *conn) read(head bool) (keep bool, err error) {
	if c.buf == nil {
		c.buf = make([]byte, 4<<10)
	}
	c.n = 0
	for {
		if c.n == len(c.buf) {
			if c.n >= maxHead {
				return false, errTooLong
			}
			c.buf = append(c.buf, make([]byte, c.n)...)
		}
		k, rerr := c.net.Read(c.buf[c.n:])
		if c.n += k; k == 0 {
			return false, rerr
		}
		used, err := c.resp.Parse(c.buf[:c.n], head)
		switch {
		case errors.Is(err, http1.ErrIncomplete):
			continue
		case err != nil:
			return false, err
		case c.resp.Status < 200:
			c.n = copy(c.buf, c.buf[used:c.n])
			continue
		}
		return c.body(used)
	}
}

// body reads what follows the head, which takes up the first used bytes of the
// buffer. The head stays there, since its fields point to it.
func (c *conn) body(used int) (keep bool, err error) {
	body := c.resp.NewBody()
	have := c.buf[used:c.n]
	for {
		_, n, isOver, err := body.Next(have)
		if err != nil || isOver {
			return err == nil && !c.resp.Close(), err
		}
		if have = have[n:]; n > 0 && len(have) > 0 {
			continue
		}
		if c.room == nil {
			c.room = make([]byte, 32<<10)
		}
		rest := copy(c.room, have) // may lie in the same buffer
		if rest == len(c.room) {
			return false, errTooLong
		}
		n, err = c.net.Read(c.room[rest:])
		if n == 0 {
			return false, ended(&body, err)
		}
		have = c.room[:rest+n]
	}
}

// ended is what the end of a connection, or an error of reading it, means for a body.
func ended(body *http1.Body, err error) error {
	if body.EndsWithConnection() && err == io.EOF {
		return nil
	}
	return err
}

// fields are those of the last answer.
type fields struct{ resp *http1.Response }

func (f fields) Get(name string) string {
	for i := range f.resp.List {
		if strings.EqualFold(f.resp.List[i].Name, name) {
			return f.resp.List[i].Value
		}
	}
	return ""
}

// Message writes an HTTP/1.1 request as it goes over the wire.
func Message(method, target, host string, header http.Header, body string) []byte {
	var b strings.Builder
	b.WriteString(method + " " + target + " HTTP/1.1\r\nHost: " + host + "\r\n")
	header.Write(&b)
	if body != "" || method == http.MethodPost || method == http.MethodPut || method == http.MethodPatch {
		b.WriteString("Content-Length: " + strconv.Itoa(len(body)) + "\r\n")
	}
	b.WriteString("\r\n" + body)
	return []byte(b.String())
}
