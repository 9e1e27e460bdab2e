package http1

// Body takes the body of an answer apart, however it is framed. Make one with
// Response.NewBody.
type Body struct {
	// Trailer is set when Next says that a chunked body is over.
	Trailer *Fields

	framing Framing
	left    int64 // of a sized body
	chunks  Chunks
}

// NewBody is the body of the answer, before its first byte.
func (r *Response) NewBody() Body { return Body{framing: r.Body, left: r.Size} }

// Next takes a piece of the body from the beginning of b: n bytes are used up, and
// payload, a part of them, is what they hold. With n 0 more bytes are needed, or the
// body isOver. Only a chunked body has errors; a Refusal says which.
func (d *Body) Next(b []byte) (payload []byte, n int, isOver bool, err error) {
	switch d.framing {
	case Sized:
		n = int(min(d.left, int64(len(b))))
		d.left -= int64(n)
		return b[:n], n, d.left == 0, nil
	case Chunked:
		payload, n, isOver, err = d.chunks.Next(b)
		if isOver {
			d.Trailer = &d.chunks.Trailer
		}
		return payload, n, isOver, err
	case UntilClose:
		return b, len(b), false, nil
	}
	return nil, 0, true, nil
}

// Wants is how many bytes at most the body can still take, as far as it says; -1: it
// does not. What follows them belongs to another answer.
func (d *Body) Wants() int64 {
	if d.framing == Sized {
		return d.left
	}
	return -1
}

// EndsWithConnection tells whether the end of the connection is the end of the body.
func (d *Body) EndsWithConnection() bool { return d.framing == UntilClose }
