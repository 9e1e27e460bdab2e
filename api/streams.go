package api

import (
	"context"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

// tooManyStreams is the code of a problem.
const tooManyStreams = "too-many-streams"

const (
	maxProxyStreams  = 4096 // of snapshots
	maxPeopleStreams = 1024 // of everybody else
	streamsEach      = 64   // of one client of the latter
	watchesEach      = 8    // of these, that watch single requests
)

// bodyTime is how long a body may take to arrive.
var bodyTime = time.Minute

// places are the streams of a kind that may be open at once, and how many of them one
// client may have; 0: all.
type places struct {
	most, each int

	mu   sync.Mutex // guards what follows
	open int
	by   map[string]int
}

// take takes a place for a client, until leave is called.
func (p *places) take(client string) (leave func(), err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.open >= p.most:
		return nil, failed(
			http.StatusServiceUnavailable,
			tooManyStreams,
			"%d streams are open: end some commands, or close some pages",
			p.most,
		)
	case p.each > 0 && p.by[client] >= p.each:
		return nil, failed(
			http.StatusServiceUnavailable,
			tooManyStreams,
			"this client has %d streams open, as many as it may: end some of its commands, or close some of its pages",
			p.each,
		)
	}
	if p.by == nil {
		p.by = map[string]int{}
	}
	p.open++
	p.by[client]++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.open--
		if p.by[client]--; p.by[client] == 0 {
			delete(p.by, client)
		}
	}, nil
}

// clientOf tells clients apart that share the places of streams: by address and program.
// A program can call itself as it likes, which gets it no more than there is in all.
func clientOf(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	program := r.UserAgent()
	return host + " " + program[:min(len(program), 200)]
}

// stream begins a stream for a client. Its context is done when the client leaves, and
// when the service begins to end: other requests may finish then.
func (s *Server) stream(c *echo.Context, from *places) (ctx context.Context, end func(), err error) {
	leave, err := from.take(clientOf(c.Request()))
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(c.Request().Context())
	unwatch := func() bool { return true }
	if ending, isServed := ctx.Value(endingKey{}).(context.Context); isServed {
		unwatch = context.AfterFunc(ending, cancel)
	}
	return ctx, func() {
		unwatch()
		cancel()
		leave()
	}, nil
}

// endingKey is the key of a context that is done when the service begins to end.
type endingKey struct{}

// answerTime is how long a response may take, with the waiting that its call asked for.
// Streams bound the time of each line instead.
const answerTime = 5 * time.Minute

// bound bounds the body of a request, in bytes and in the time that it may take, and the
// time of the response.
func bound(c *echo.Context, mostBody int64) {
	r, out := c.Request(), http.NewResponseController(c.Response())
	r.Body = http.MaxBytesReader(c.Response(), r.Body, mostBody)
	if r.ContentLength != 0 {
		// At once: the body of a call that is refused unread is read, too, before the answer.
		out.SetReadDeadline(time.Now().Add(bodyTime))
		r.Body = &timedBody{ReadCloser: r.Body, out: out}
	}
	out.SetWriteDeadline(time.Now().Add(answerTime))
}

// timedBody is the body of a request, which must arrive within bodyTime.
type timedBody struct {
	io.ReadCloser
	out *http.ResponseController
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF { // a response may take longer. After an error, what is left of it may not.
		b.out.SetReadDeadline(time.Time{})
	}
	return n, err
}
