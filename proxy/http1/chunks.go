package http1

import "strconv"

// maxChunkLine bounds the line before a chunk, extensions and all.
const maxChunkLine = 4 << 10

// Chunks takes a chunked body apart (RFC 9112, section 7.1). The zero value
// stands before the first chunk.
type Chunks struct {
	// Trailer is set when Next says that the body is over.
	Trailer Fields
	left    int64
	stage   uint8
}

const (
	size uint8 = iota
	data
	dataEnd
	trailer
)

// Next takes a piece of the body from the beginning of b: n bytes are used up,
// and payload, a part of them, is what they hold. With n 0 more bytes are
// needed. Chunk extensions are passed over, which a hop may do.
func (c *Chunks) Next(b []byte) (payload []byte, n int, over bool, err error) {
	for {
		switch c.stage {
		case size:
			l, used, err := line(b[n:], false)
			if err == ErrIncomplete && len(b)-n < maxChunkLine {
				return nil, n, false, nil
			}
			if err != nil || len(l) >= maxChunkLine {
				return nil, n, false, refuse("a chunk has no size that can be read")
			}
			if c.left, err = chunkSize(l); err != nil {
				return nil, n, false, err
			}
			n += used
			if c.stage = data; c.left == 0 {
				c.stage = trailer
				c.Trailer.Reset()
			}
		case data:
			k := int(min(int64(len(b)-n), c.left))
			if k == 0 {
				return nil, n, false, nil
			}
			if c.left -= int64(k); c.left == 0 {
				c.stage = dataEnd
			}
			return b[n : n+k], n + k, false, nil
		case dataEnd:
			if len(b)-n < 2 {
				return nil, n, false, nil
			}
			if b[n] != '\r' || b[n+1] != '\n' {
				return nil, n, false, refuse("a chunk is longer than it says")
			}
			n += 2
			c.stage = size
		case trailer:
			c.Trailer.Reset()
			used, err := c.Trailer.read(b[n:], false)
			if err == ErrIncomplete {
				return nil, n, false, nil
			}
			return nil, n + used, err == nil, err
		}
	}
}

func chunkSize(l []byte) (int64, error) {
	n := int64(0)
	i := 0
	for ; i < len(l) && hex(l[i]); i++ {
		if i == 15 {
			return 0, refuse("a chunk is too large")
		}
		c := l[i] | 0x20
		if c > '9' {
			c -= 'a' - 10
		} else {
			c = l[i] - '0'
		}
		n = n<<4 | int64(c)
	}
	if i == 0 {
		return 0, refuse("a chunk has no size")
	}
	rest := l[i:]
	for len(rest) > 0 && (rest[0] == ' ' || rest[0] == '\t') {
		rest = rest[1:]
	}
	if len(rest) > 0 && rest[0] != ';' || !all(rest, &plain) {
		return 0, refuse("the size of a chunk is followed by %.20q", rest)
	}
	return n, nil
}

// AppendChunk writes a payload, which is not empty, as one chunk.
func AppendChunk(to, payload []byte) []byte {
	to = strconv.AppendInt(to, int64(len(payload)), 16)
	to = append(to, "\r\n"...)
	to = append(to, payload...)
	return append(to, "\r\n"...)
}
