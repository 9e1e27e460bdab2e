package http1

// Framing is how the body of an answer ends (RFC 9112, section 6.3).
type Framing uint8

// The framings.
const (
	NoBody     Framing = iota
	Sized              // after Size bytes
	Chunked            // with its last chunk
	UntilClose         // with the connection
)

// Response is the head of an answer.
type Response struct {
	Status int
	Reason string // phrase of the status line; may be empty
	Body   Framing
	Size   int64 // what Content-Length says, whether or not a body follows; -1: nothing
	Fields
}

// Parse reads a head from the beginning of b and returns its length. head tells
// that the request was a HEAD. Lines may end in a line feed alone, since an
// answer is written anew for the caller. The error is ErrIncomplete or a Refusal.
func (r *Response) Parse(b []byte, head bool) (n int, err error) {
	r.Reset()
	const shape = "HTTP/1."
	if k := min(len(b), len(shape)); text(b[:k]) != shape[:k] {
		return 0, refuse("it does not begin as an HTTP/1 answer does")
	}
	l, start, err := line(b, true)
	if err != nil {
		return 0, err
	}
	if len(l) < 12 || (l[7] != '0' && l[7] != '1') || l[8] != ' ' || len(l) > 12 && l[12] != ' ' || !all(l, &plain) {
		return 0, refuse("its first line is not that of an HTTP/1 answer")
	}
	r.Status = 0
	for _, c := range l[9:12] {
		if c < '0' || c > '9' {
			return 0, refuse("its status is not a number")
		}
		r.Status = r.Status*10 + int(c-'0')
	}
	if r.Status < 100 || r.Status > 599 {
		return 0, refuse("its status is %d", r.Status)
	}
	if r.Reason = ""; len(l) > 13 {
		r.Reason = text(l[13:])
	}
	if n, err = r.read(b[start:], true); err != nil {
		return 0, err
	}
	n += start
	r.Size = r.length
	if l[7] == '0' {
		r.close = true
	}
	switch {
	case r.Status < 200 || r.Status == 204:
		r.Body, r.Size = NoBody, -1
	case head || r.Status == 304:
		r.Body = NoBody
	case r.transfers > 1 || r.transfers == 1 && !r.chunked:
		return 0, refuse("its Transfer-Encoding is not chunked alone")
	case r.chunked:
		// A length beside it is passed over, and the connection is not trusted
		// any further (RFC 9112, section 6.3).
		r.Body, r.Size, r.close = Chunked, -1, r.close || r.lengths > 0
	case r.length == 0:
		r.Body = NoBody
	case r.length > 0:
		r.Body = Sized
	default:
		r.Body, r.close = UntilClose, true
	}
	return n, nil
}
