// Package http1 reads HTTP/1.1 (RFC 9112) strictly and without allocating. What
// it reads keeps pointing into the buffer it was read from: names and values
// are good until that buffer is written to again.
//
// A message is either understood whole, or it is refused, or, for a request
// whose framing is clear, left to a reader that knows more of the protocol.
// Nothing that could be read in two ways is ever understood.
package http1

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unsafe"
)

// Errors of reading a head.
var (
	// ErrIncomplete means that the head goes on after the buffer.
	ErrIncomplete = errors.New("the head goes on")
	// ErrElsewhere means that the framing is clear, and that the request needs
	// more of the protocol than this package knows: another version, a chunked
	// body, an upgrade, an expectation, a tunnel.
	ErrElsewhere = errors.New("not for this reader")
)

// Refusal is why a message is not taken.
type Refusal struct {
	Status int // to answer a request with
	Why    string
}

func (r *Refusal) Error() string { return r.Why }

func refuse(format string, args ...any) error {
	return &Refusal{400, fmt.Sprintf(format, args...)}
}

// maxFields bounds the fields of one message.
const maxFields = 256

// Role is what a field means to a hop.
type Role uint8

// The roles. All but EndToEnd belong to one connection, or are written anew for
// the next one (RFC 9110, section 7.6.1).
const (
	EndToEnd Role = iota
	Hop           // of this connection alone
	Host
	Length
	Transfer
)

// Field is one field line.
type Field struct {
	Name, Value string
	Role        Role
}

// Fields are field lines in the order in which they came.
type Fields struct {
	List  []Field
	named []string // by Connection, besides close and keep-alive

	close, upgrade, expect bool
	lengths, transfers     int
	length                 int64
	chunked                bool
	hosts                  int
	host                   string
}

// Add adds a field that another codec read. What it says of the length of a body
// is taken for granted: that codec has understood it.
func (f *Fields) Add(name, value string) {
	f.List = append(f.List, Field{Name: name, Value: value})
	_ = f.understand(&f.List[len(f.List)-1])
}

// Reset makes the fields those of another message.
func (f *Fields) Reset() {
	*f = Fields{List: f.List[:0], named: f.named[:0], length: -1}
}

// OneHop tells whether a field goes no further than this connection.
func (f *Fields) OneHop(field *Field) bool {
	if field.Role != EndToEnd {
		return true
	}
	for _, n := range f.named {
		if strings.EqualFold(n, field.Name) {
			return true
		}
	}
	return false
}

// Close tells whether the connection ends after this message.
func (f *Fields) Close() bool { return f.close }

// End makes this message the last of its connection.
func (f *Fields) End() { f.close = true }

// Stated tells whether there is a Content-Length.
func (f *Fields) Stated() bool { return f.lengths > 0 }

func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// tokens are the bytes of a token (RFC 9110, section 5.6.2), plain those of a
// field's value (section 5.5), hosts those of a host's name (RFC 3986, section 3.2.2), without percent-encoding.
var tokens, plain, hosts = func() (t, p, h [256]bool) {
	for c := range 256 {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		t[c] = letter || c < 0x80 && strings.IndexByte("!#$%&'*+-.^_`|~", byte(c)) >= 0
		p[c] = c == '\t' || c >= ' ' && c != 0x7f
		h[c] = letter || c < 0x80 && strings.IndexByte("-._~!$&'()*+,;=", byte(c)) >= 0
	}
	return
}()

func all(s []byte, of *[256]bool) bool {
	for _, c := range s {
		if !of[c] {
			return false
		}
	}
	return true
}

// line takes the line that begins at b[0], without its end. A line that ends
// in a line feed alone is taken only when lax is set.
func line(b []byte, lax bool) (l []byte, n int, err error) {
	i := bytes.IndexByte(b, '\n')
	switch {
	case i < 0:
		return nil, 0, ErrIncomplete
	case i > 0 && b[i-1] == '\r':
		return b[:i-1], i + 1, nil
	case lax:
		return b[:i], i + 1, nil
	}
	return nil, 0, refuse("a line of the head ends in a line feed without a carriage return")
}

// read reads field lines up to and with the empty line.
func (f *Fields) read(b []byte, lax bool) (n int, err error) {
	for {
		l, used, err := line(b[n:], lax)
		if err != nil {
			return 0, err
		}
		n += used
		if len(l) == 0 {
			return n, nil
		}
		if len(f.List) == maxFields {
			return 0, &Refusal{431, fmt.Sprintf("more than %d fields", maxFields)}
		}
		colon := bytes.IndexByte(l, ':')
		switch {
		case l[0] == ' ' || l[0] == '\t':
			return 0, refuse("a field goes on in a second line")
		case colon < 0:
			return 0, refuse("a field line has no colon")
		case colon == 0 || !all(l[:colon], &tokens):
			return 0, refuse("%.40q cannot be the name of a field", l[:colon])
		}
		value := l[colon+1:]
		for len(value) > 0 && (value[0] == ' ' || value[0] == '\t') {
			value = value[1:]
		}
		for len(value) > 0 && (value[len(value)-1] == ' ' || value[len(value)-1] == '\t') {
			value = value[:len(value)-1]
		}
		if !all(value, &plain) {
			return 0, refuse("field %.40s has a control character", l[:colon])
		}
		f.List = append(f.List, Field{Name: text(l[:colon]), Value: text(value)})
		if err := f.understand(&f.List[len(f.List)-1]); err != nil {
			return 0, err
		}
	}
}

// understand takes in what the field says of the message and the connection.
func (f *Fields) understand(d *Field) error {
	is := func(name string) bool { return strings.EqualFold(d.Name, name) }
	switch len(d.Name) {
	case 2:
		if is("te") {
			d.Role = Hop
		}
	case 4:
		if is("host") {
			d.Role, f.host = Host, d.Value
			f.hosts++
		}
	case 6:
		f.expect = f.expect || is("expect")
	case 7:
		switch {
		case is("trailer"):
			d.Role = Hop
		case is("upgrade"):
			d.Role, f.upgrade = Hop, true
		}
	case 10:
		switch {
		case is("connection"):
			d.Role = Hop
			f.connection(d.Value)
		case is("keep-alive"):
			d.Role = Hop
		}
	case 14:
		switch {
		case is("content-length"):
			d.Role = Length
			return f.setLength(d.Value)
		case is("http2-settings"):
			d.Role = Hop
		}
	case 16:
		if is("proxy-connection") {
			d.Role = Hop
		}
	case 17:
		if is("transfer-encoding") {
			d.Role = Transfer
			f.transfers++
			f.chunked = strings.EqualFold(d.Value, "chunked")
		}
	case 18:
		if is("proxy-authenticate") {
			d.Role = Hop
		}
	case 19:
		if is("proxy-authorization") {
			d.Role = Hop
		}
	}
	return nil
}

func (f *Fields) connection(value string) {
	for len(value) > 0 {
		name := value
		if i := strings.IndexByte(value, ','); i >= 0 {
			name, value = value[:i], value[i+1:]
		} else {
			value = ""
		}
		name = strings.Trim(name, " \t")
		switch {
		case strings.EqualFold(name, "close"):
			f.close = true
		case name != "" && !strings.EqualFold(name, "keep-alive"):
			f.named = append(f.named, name)
		}
	}
}

func (f *Fields) setLength(v string) error {
	n := int64(0)
	for i := range len(v) {
		c := v[i] - '0'
		if c > 9 || n > (1<<62)/10 {
			return refuse("Content-Length %.40q is not a number of bytes", v)
		}
		n = n*10 + int64(c)
	}
	if v == "" {
		return refuse("Content-Length is empty")
	}
	if f.lengths > 0 && n != f.length {
		return refuse("two different Content-Length")
	}
	f.length = n
	f.lengths++
	return nil
}
