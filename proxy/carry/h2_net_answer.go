package carry

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"nightjar/proxy/h2"
)

// Header is that of the answer.
func (n *netStream) Header() http.Header { return n.header }

// WriteHeader says the status. An interim answer goes out at once, the head of the answer
// with what follows.
func (n *netStream) WriteHeader(status int) {
	switch {
	case n.status != 0:
	case status == http.StatusSwitchingProtocols: // which HTTP/2 does by an answer of the usual kind
		n.status, n.isSwitched = http.StatusOK, true
		for _, k := range []string{"Connection", "Upgrade", "Sec-Websocket-Accept"} {
			delete(n.header, k)
		}
	case status >= 200:
		n.status = status
	default:
		var b h2.Batch
		if w := n.begin(&b, status); w != nil {
			w.End(false)
		}
		b.Flush()
	}
}

// begin begins a header list with a status and the fields of the header.
func (n *netStream) begin(b *h2.Batch, status int) *h2.Writer {
	w := n.Begin(b)
	if w == nil {
		return nil
	}
	w.Add(":status", fmt.Sprint(status))
	announced := n.header["Trailer"]
	for k, values := range n.header {
		if k == "Connection" || strings.HasPrefix(k, http.TrailerPrefix) || announced != nil && tokenIn(announced, k) {
			continue
		}
		for _, v := range values {
			w.Add(k, v)
		}
	}
	if status >= 200 && n.header["Date"] == nil {
		w.Add("date", today())
	}
	return w
}

// netRoom is how much of an answer is collected before it is sent.
const netRoom = 16 << 10

func (n *netStream) Write(p []byte) (int, error) {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	if n.r.Method == http.MethodHead || n.status == http.StatusNoContent || n.status == http.StatusNotModified {
		return len(p), nil
	}
	if n.out = append(n.out, p...); len(n.out) < netRoom {
		return len(p), nil
	}
	if err := n.send(false); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Flush sends what was written so far.
func (n *netStream) Flush() { n.send(false) }

// send sends what was written, and with isEnd the end of the answer. It waits until the
// caller has taken it.
func (n *netStream) send(isEnd bool) error {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	var b h2.Batch
	trailer := n.trailer(isEnd)
	endsHere := isEnd && trailer == nil
	isSent := false
	if !n.hasHead {
		n.hasHead = true
		w := n.begin(&b, n.status)
		if w == nil {
			return n.goneOr(io.ErrClosedPipe)
		}
		isSent = endsHere && len(n.out) == 0
		w.End(isSent)
		if n.header.Get("Connection") == "close" {
			n.caller.conn.GoAway(&b)
		}
	}
	if len(n.out) > 0 || endsHere && !isSent {
		isSent = n.sendBody(&b, endsHere)
	}
	if trailer != nil {
		isSent = n.sendTrailer(&b, trailer)
	}
	b.Flush()
	return n.awaitSent(isEnd, isSent)
}

// sendBody sends what was collected of the body, and tells whether the end of the answer has
// gone with it.
func (n *netStream) sendBody(b *h2.Batch, isEnd bool) (hasEnded bool) {
	n.mu.Lock()
	n.unsent += len(n.out) // Sent may tell of it at once
	n.mu.Unlock()
	sent, hasEnded := n.Stream.Write(b, n.out, isEnd)
	n.mu.Lock()
	n.unsent -= sent
	n.mu.Unlock()
	n.out = n.out[:0]
	return hasEnded
}

// sendTrailer sends the trailer, and tells whether it has gone.
func (n *netStream) sendTrailer(b *h2.Batch, trailer http.Header) bool {
	w := n.Begin(b)
	if w == nil {
		return false
	}
	for k, values := range trailer {
		for _, v := range values {
			w.Add(k, v)
		}
	}
	return w.End(true)
}

// awaitSent waits until the caller has taken what was sent; isSent tells that the end has
// gone already.
func (n *netStream) awaitSent(isEnd, isSent bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.isSent = n.isSent || isSent
	for (n.unsent > 0 || isEnd && !n.isSent) && n.gone == nil && !n.writeUntil.isOver() {
		n.more.Wait()
	}
	switch {
	case n.gone != nil:
		return n.gone
	case n.unsent > 0 || isEnd && !n.isSent:
		return os.ErrDeadlineExceeded
	}
	return nil
}

func (n *netStream) goneOr(err error) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.gone != nil {
		return n.gone
	}
	return err
}

// trailer is what follows the body; nil: nothing does, or not yet.
func (n *netStream) trailer(isEnd bool) (t http.Header) {
	if !isEnd {
		return nil
	}
	announced := n.header["Trailer"]
	for k, v := range n.header {
		name, isPrefixed := strings.CutPrefix(k, http.TrailerPrefix)
		if isPrefixed || announced != nil && tokenIn(announced, k) {
			if t == nil {
				t = http.Header{}
			}
			t[name] = v
		}
	}
	return t
}

// finish sends the rest of the answer, and its end. What still comes of the request is
// not wanted then (RFC 9113, section 8.1).
func (n *netStream) finish() {
	if n.isSwitched {
		return // whoever carried it has ended it
	}
	if !n.hasHead && n.header["Content-Length"] == nil && len(n.out) > 0 {
		n.header["Content-Length"] = []string{fmt.Sprint(len(n.out))}
	}
	n.SetWriteDeadline(time.Now().Add(n.caller.l.patience(len(n.out))))
	if err := n.send(true); err != nil {
		if errors.Is(err, os.ErrDeadlineExceeded) {
			n.end(h2.Cancel)
		}
		return
	}
	n.mu.Lock()
	isLeft := !n.gotEnd && n.gone == nil
	if isLeft {
		n.gone = errDone
	}
	n.mu.Unlock()
	if isLeft {
		var b h2.Batch
		n.Leave(&b)
		b.Flush()
	}
}
