package h2

import (
	"strings"
)

type field struct {
	name, value string
	isSecret    bool
}

// Writer writes a header list, while the connection is locked.
type Writer struct {
	// Secret are names of fields that enter no table (see Block.Secret).
	Secret []string

	c      *Conn
	s      *Stream
	b      *Batch
	at     int  // where its frame begins
	isKept bool // it follows what is pending
}

// Begin begins a header list: the head of an answer, an interim answer, or a trailer. nil:
// the stream is over. End it with Writer.End.
func (s *Stream) Begin(b *Batch) *Writer {
	s.c.mu.Lock()
	if s.isOver || s.sentEnd || s.isEnding || s.c.isDead {
		s.c.mu.Unlock()
		return nil
	}
	return s.c.begin(b, s)
}

func (c *Conn) begin(b *Batch, s *Stream) *Writer {
	w := &c.writer
	*w = Writer{c: c, s: s, b: b, at: len(c.w), isKept: len(s.pending) > 0}
	if !w.isKept {
		c.w = appendFrame(c.w, 0, frameHeaders, flagEndHeaders, s.id)
		c.w = c.enc.begin(c.w)
	}
	return w
}

// Add adds a field. A name may have capitals.
func (w *Writer) Add(name, value string) { w.add(name, value, false) }

// AddBytes adds a field whose value is good during the call alone.
func (w *Writer) AddBytes(name string, value []byte) { w.add(name, text(value), true) }

func (w *Writer) add(name, value string, isBorrowed bool) {
	name, isLowered := w.c.lower(name)
	isBorrowed = isBorrowed || isLowered
	isSecret := isCredential(name) || w.isSecret(name)
	if w.isKept {
		if isBorrowed {
			name, value = strings.Clone(name), strings.Clone(value)
		}
		w.s.trailer = append(w.s.trailer, field{name, value, isSecret})
		return
	}
	w.c.w = w.c.enc.field(w.c.w, name, value, isSecret, isBorrowed)
}

// lower is the name of a field in small letters. One that had capitals is good until the next.
func (c *Conn) lower(name string) (lowered string, hadCapitals bool) {
	for i := range len(name) {
		if name[i] >= 'A' && name[i] <= 'Z' {
			c.name = append(c.name[:0], name...)
			for i, b := range c.name {
				if b >= 'A' && b <= 'Z' {
					c.name[i] = b | 0x20
				}
			}
			return text(c.name), true
		}
	}
	return name, false
}

func (w *Writer) isSecret(name string) bool {
	for _, s := range w.Secret {
		if s == name {
			return true
		}
	}
	return false
}

// isCredential tells whether a field is to be kept from all tables, whoever wrote it.
func isCredential(name string) bool {
	switch len(name) {
	case 6:
		return name == "cookie"
	case 10:
		return name == "set-cookie"
	case 13:
		return name == "authorization"
	case 19:
		return name == "proxy-authorization"
	}
	return false
}

// End ends the list, and with isEnd the side of this end. isGone tells whether it has gone
// on; otherwise it follows what is pending, and Receiver.Sent tells of it.
func (w *Writer) End(isEnd bool) (isGone bool) {
	c, s := w.c, w.s
	if w.isKept {
		s.isEnding = isEnd
		c.mu.Unlock()
		return false
	}
	c.endBlock(w.at, s.id, isEnd)
	if isEnd {
		s.sentEnd = true
		s.to.Keep()
		s.finish()
	}
	w.b.add(c)
	c.mu.Unlock()
	if isEnd {
		s.to.Release()
	}
	return true
}

// endBlock completes the frame of a header list that begins at a place, and splits one
// that is too long.
func (c *Conn) endBlock(at int, id uint32, isEnd bool) {
	c.calm.earn(calmPerFrame)
	flags := byte(flagEndHeaders)
	if isEnd {
		flags |= flagEnd
	}
	n := len(c.w) - at - frameHead
	if n <= maxFrame {
		c.w[at], c.w[at+1], c.w[at+2], c.w[at+4] = byte(n>>16), byte(n>>8), byte(n), flags
		return
	}
	list := append([]byte(nil), c.w[at+frameHead:]...)
	c.w = c.w[:at]
	kind := byte(frameHeaders)
	for flags &^= flagEndHeaders; len(list) > 0; kind, flags = frameContinuation, 0 {
		k := min(len(list), maxFrame)
		if k == len(list) {
			flags |= flagEndHeaders
		}
		c.w = append(appendFrame(c.w, k, kind, flags, id), list[:k]...)
		list = list[k:]
	}
}
