package carry

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"sort"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// rawHTTP2 speaks frames, so that a test can say what no client library would.
type rawHTTP2 struct {
	t       *testing.T
	conn    net.Conn
	framer  *http2.Framer
	decoder *hpack.Decoder
	block   bytes.Buffer
	encoder *hpack.Encoder
}

func rawHTTP2To(t *testing.T, url string) *rawHTTP2 {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(conn, http2.ClientPreface)
	c := &rawHTTP2{t: t, conn: conn, framer: http2.NewFramer(conn, conn)}
	c.framer.AllowIllegalWrites = true
	c.encoder = hpack.NewEncoder(&c.block)
	c.decoder = hpack.NewDecoder(4096, nil)
	c.framer.WriteSettings()
	return c
}

// send sends a request on a stream: fields, and a body unless it is nil.
func (c *rawHTTP2) send(stream uint32, fields [][2]string, body []byte) {
	c.block.Reset()
	for _, f := range fields {
		c.encoder.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
	}
	c.framer.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: c.block.Bytes(), EndHeaders: true, EndStream: body == nil})
	if body != nil {
		c.framer.WriteData(stream, true, body)
	}
}

// head sends a request whose body goes on after its beginning.
func (c *rawHTTP2) head(stream uint32, fields [][2]string, begin []byte) {
	c.block.Reset()
	for _, f := range fields {
		c.encoder.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
	}
	c.framer.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: c.block.Bytes(), EndHeaders: true})
	c.framer.WriteData(stream, false, begin)
}

// answer reads the answer on a stream and writes it down as HTTP/1.1 would be:
// interim answers, head, body, trailer. A stream or connection that is reset says
// so with its code.
func (c *rawHTTP2) answer(stream uint32) string {
	var out strings.Builder
	for {
		f, err := c.framer.ReadFrame()
		if err != nil {
			return out.String() + "closed: " + err.Error()
		}
		switch f := f.(type) {
		case *http2.SettingsFrame:
			if !f.IsAck() {
				c.framer.WriteSettingsAck()
			}
		case *http2.HeadersFrame:
			fields, err := c.decoder.DecodeFull(f.HeaderBlockFragment())
			if err != nil {
				c.t.Fatal(err)
			}
			var lines []string
			for _, h := range fields {
				if h.Name == ":status" {
					var status int
					fmt.Sscan(h.Value, &status)
					fmt.Fprintf(&out, "HTTP/2 %d %s\r\n", status, http.StatusText(status))
				} else {
					lines = append(lines, http.CanonicalHeaderKey(h.Name)+": "+h.Value+"\r\n")
				}
			}
			sort.Strings(lines)
			out.WriteString(strings.Join(lines, "") + "\r\n")
			if f.StreamEnded() {
				return out.String()
			}
		case *http2.DataFrame:
			out.Write(f.Data())
			c.framer.WriteWindowUpdate(0, uint32(max(1, len(f.Data()))))
			if f.StreamEnded() {
				return out.String()
			}
		case *http2.RSTStreamFrame:
			return out.String() + "reset: " + f.ErrCode.String()
		case *http2.GoAwayFrame:
			if f.ErrCode == http2.ErrCodeNo { // what is under way goes on
				continue
			}
			return out.String() + "goaway: " + f.ErrCode.String()
		}
	}
}

// asHTTP2 is a request of HTTP/1.1 as fields of HTTP/2; what frames it or belongs
// to its connection is left out.
func asHTTP2(request string) (fields [][2]string, body []byte) {
	head, text, _ := strings.Cut(request, "\r\n\r\n")
	lines := strings.Split(head, "\r\n")
	first := strings.Split(lines[0], " ")
	host := ""
	var rest [][2]string
	for _, l := range lines[1:] {
		name, value, _ := strings.Cut(l, ": ")
		switch name = strings.ToLower(name); name {
		case "host":
			host = value
		case "connection", "content-length", "transfer-encoding", "keep-alive":
		default:
			rest = append(rest, [2]string{name, value})
		}
	}
	if text != "" {
		body = []byte(text)
	}
	return append([][2]string{{":method", first[0]}, {":scheme", "http"}, {":authority", host}, {":path", first[1]}}, rest...), body
}
