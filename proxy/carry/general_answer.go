package carry

import (
	"cmp"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"nightjar/proxy/forward"
)

// sendAnswer writes the answer to the caller. Bodies of unknown length are
// flushed as they come, so that streams arrive at once.
func (g *general) sendAnswer(a forward.Answer) (failed bool, err error, isOver bool) {
	failed, err = g.passAnswer(&a)
	return failed, err, true
}

// passAnswer is sendAnswer, from its beginning to its end.
func (g *general) passAnswer(a *forward.Answer) (failed bool, err error) {
	w, answer := g.w, g.answer
	h := w.Header()
	g.writeAnswerHeader(a, h)
	if answer.StatusCode == http.StatusSwitchingProtocols {
		return false, g.switchTo(answer)
	}
	announced := len(answer.Trailer)
	for k := range answer.Trailer {
		if forward.KeepsTrailer(k) {
			h.Add("Trailer", k)
		}
	}
	if announced > 0 && g.r.ProtoMajor == 1 {
		delete(h, "Content-Length") // trailers need chunks
	}
	if g.mustClose() {
		h["Connection"] = []string{"close"}
	}
	defer answer.Body.Close()
	w.WriteHeader(answer.StatusCode)
	if answer.ContentLength != 0 {
		if err := g.copyBody(); err != nil {
			return false, err
		}
	}
	if len(answer.Trailer) > announced {
		g.flush() // a head that is still held back would end the stream
	}
	for k, values := range answer.Trailer {
		switch {
		case !forward.KeepsTrailer(k):
		case announced > 0 && tokenIn(h["Trailer"], k):
			h[k] = values
		default:
			h[http.TrailerPrefix+k] = values
		}
	}
	if !g.isAnswerGRPC() {
		return false, nil
	}
	status := answer.Trailer.Get("Grpc-Status")
	if status == "" {
		status = answer.Header.Get("Grpc-Status")
	}
	return forward.GRPCFailed(status, answer.StatusCode), nil
}

// writeAnswerHeader writes the fields of the answer that go on.
func (g *general) writeAnswerHeader(a *forward.Answer, h http.Header) {
	answer := g.answer
	fields := &g.answered
	fields.Reset()
	for k, values := range answer.Header {
		for _, v := range values {
			fields.Add(k, v)
		}
	}
	protocol := "1.1"
	if answer.ProtoMajor == 2 {
		protocol = "2"
	}
	a.WriteHeader(fields, protocol, &forward.Map{Header: h})
	if h["Content-Type"] == nil {
		h["Content-Type"] = nil // none came, so none is guessed
	}
	if length := answer.Header["Content-Length"]; length != nil && answer.StatusCode != http.StatusNoContent &&
		len(answer.TransferEncoding) == 0 {
		h["Content-Length"] = length[:1]
	}
}

// stallTimer gives a caller up that takes no bytes for a while. It runs
// while something is written, and only then: a stream may be quiet for as long
// as it likes.
type stallTimer struct{ timer *time.Timer }

func (t *stallTimer) start(w http.ResponseWriter, after time.Duration) {
	if t.timer == nil {
		t.timer = time.AfterFunc(after, func() {
			http.NewResponseController(w).SetWriteDeadline(time.Unix(1, 0))
		})
		return
	}
	t.timer.Reset(after)
}

func (t *stallTimer) stop() { t.timer.Stop() }

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

func (g *general) copyBody() error {
	b := buffers.Get().(*[]byte)
	defer buffers.Put(b)
	g.stalls.timer = nil // the one before belongs to another request
	for {
		n, err := g.answer.Body.Read(*b)
		if n > 0 {
			g.stalls.start(g.w, patience(n, cmp.Or(g.s.stall, stallTimeout), g.s.leastRate()))
			written := g.lendPlace()
			_, werr := g.w.Write((*b)[:n])
			if werr == nil && g.answer.ContentLength < 0 {
				g.flush()
			}
			written()
			g.stalls.stop()
			if werr != nil {
				g.life.endRequest(errCallerLeft)
				return werr
			}
			g.received.Add(uint64(n))
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// lendPlace gives the request's place among those under way back when its time is
// over and the caller has not taken what is written to it: until written is called.
func (g *general) lendPlace() (written func()) {
	if !g.HoldsPlace() {
		return func() {}
	}
	var mu sync.Mutex
	isOver := false
	timer := time.AfterFunc(max(g.Deadline()-g.s.src.now(), placeGrace), func() {
		mu.Lock()
		defer mu.Unlock()
		if !isOver { // so the request's goroutine is in the write
			g.FreePlace()
		}
	})
	return func() {
		timer.Stop()
		mu.Lock()
		isOver = true
		mu.Unlock()
	}
}

func (g *general) flush() {
	if f, ok := g.w.(http.Flusher); ok {
		f.Flush()
	}
}

func (g *general) reply(status int, h http.Header, body []byte) {
	g.dropAnswer()
	to := g.w.Header()
	for k, v := range h {
		to[k] = v
	}
	if to["Content-Type"] == nil {
		to["Content-Type"] = nil
	}
	if g.mustClose() {
		to["Connection"] = []string{"close"}
	}
	if status != http.StatusNoContent && status != http.StatusNotModified && to["Grpc-Status"] == nil {
		to["Content-Length"] = []string{strconv.Itoa(len(body))}
	}
	g.w.WriteHeader(status)
	if n, err := g.w.Write(body); err == nil && g.r.Method != http.MethodHead {
		g.received.Add(uint64(n))
	}
}
