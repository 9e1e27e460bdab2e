package http1

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
)

// outcomes of reading a head, in a word or a status.
func read(text string) string {
	var r Request
	n, err := r.Parse([]byte(text))
	var no *Refusal
	switch {
	case err == ErrIncomplete:
		return "incomplete"
	case err == ErrElsewhere:
		return "elsewhere"
	case errors.As(err, &no):
		return fmt.Sprint(no.Status)
	case err != nil:
		return err.Error()
	}
	return fmt.Sprintf("%s %s %s%s body=%d rest=%d close=%t", r.Method, r.Host, r.Path, r.Query, r.Body, len(text)-n, r.Close())
}

const ask = "GET / HTTP/1.1\r\nHost: s\r\n"

// TestRequests holds the known ways of making two readers disagree, each
// refused, beside what is read and what is left to another reader.
func TestRequests(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"plain", "GET /a%2Fb//c?d=e HTTP/1.1\r\nHost: s:80\r\n\r\n", "GET s:80 /a%2Fb//c?d=e body=0 rest=0 close=false"},
		{"one after the other", ask + "\r\n" + ask, "GET s / body=0 rest=" + fmt.Sprint(len(ask)) + " close=false"},
		{"with a body", "POST / HTTP/1.1\r\nhost: s\r\ncontent-length: 3\r\nconnection: x, Close\r\n\r\nabc", "POST s / body=3 rest=3 close=true"},
		{"an empty line before", "\r\n" + ask + "\r\n", "GET s / body=0 rest=0 close=false"},
		{"absolute form", "GET HTTP://other:81?x HTTP/1.1\r\nHost: s\r\n\r\n", "GET other:81 /?x body=0 rest=0 close=false"},
		{"not all there", ask, "incomplete"},

		{"two lengths that differ", ask + "Content-Length: 3\r\nContent-Length: 4\r\n\r\n", "400"},
		{"two lengths that do not", ask + "Content-Length: 3\r\nContent-Length: 3\r\n\r\n", "400"},
		{"a list of lengths", ask + "Content-Length: 3, 3\r\n\r\n", "400"},
		{"a signed length", ask + "Content-Length: +3\r\n\r\n", "400"},
		{"a length of hexadecimal digits", ask + "Content-Length: 0x3\r\n\r\n", "400"},
		{"an empty length", ask + "Content-Length:\r\n\r\n", "400"},
		{"a length over all bounds", ask + "Content-Length: 99999999999999999999\r\n\r\n", "400"},
		{"length and chunks", ask + "Content-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n", "400"},
		{"chunks and length", ask + "Transfer-Encoding: chunked\r\nContent-Length: 3\r\n\r\n", "400"},
		{"another encoding", ask + "Transfer-Encoding: gzip\r\n\r\n", "501"},
		{"chunked twice", ask + "Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n", "501"},
		{"chunked and more", ask + "Transfer-Encoding: chunked, identity\r\n\r\n", "501"},
		{"chunked with a mark", ask + "Transfer-Encoding: \vchunked\r\n\r\n", "400"},
		{"a space before the colon", ask + "Content-Length : 3\r\n\r\n", "400"},
		{"a tab before the colon", ask + "Transfer-Encoding\t: chunked\r\n\r\n", "400"},
		{"a field in two lines", ask + "X-A: 1\r\n b\r\n\r\n", "400"},
		{"a first line that begins with a space", "GET / HTTP/1.1\r\n Host: s\r\n\r\n", "400"},
		{"line feeds alone", "GET / HTTP/1.1\nHost: s\n\n", "400"},
		{"one line feed alone", "GET / HTTP/1.1\r\nHost: s\nX: 1\r\n\r\n", "400"},
		{"a carriage return within a value", ask + "X: a\rTransfer-Encoding: chunked\r\n\r\n", "400"},
		{"a zero byte", ask + "X: a\x00b\r\n\r\n", "400"},
		{"no colon", ask + "X-A\r\n\r\n", "400"},
		{"no name", ask + ": a\r\n\r\n", "400"},
		{"a name with a slash", ask + "X/A: a\r\n\r\n", "400"},
		{"two hosts", ask + "Host: other\r\n\r\n", "400"},
		{"no host", "GET / HTTP/1.1\r\n\r\n", "400"},
		{"a host with a space", "GET / HTTP/1.1\r\nHost: a b\r\n\r\n", "400"},
		{"a host with a path", "GET / HTTP/1.1\r\nHost: a/b\r\n\r\n", "400"},
		{"somebody before the host", "GET http://a@b/ HTTP/1.1\r\nHost: b\r\n\r\n", "400"},
		{"by TLS", "GET https://s/ HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"two spaces", "GET  / HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"three words more", "GET / x HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"a tab", "GET\t/ HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"no version", "GET /\r\nHost: s\r\n\r\n", "400"},
		{"a version in small letters", "GET / http/1.1\r\nHost: s\r\n\r\n", "400"},
		{"a version to come", "GET / HTTP/3.0\r\nHost: s\r\n\r\n", "505"},
		{"a method that is none", "G(T / HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"a fragment", "GET /a#b HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"half a percent-encoding", "GET /a%2 HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"a path without a slash", "GET a HTTP/1.1\r\nHost: s\r\n\r\n", "400"},
		{"too many fields", ask + strings.Repeat("X: 1\r\n", maxFields) + "\r\n", "431"},
		{"chunks in HTTP/1.0", "GET / HTTP/1.0\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n", "400"},

		{"HTTP/1.0", "GET / HTTP/1.0\r\n\r\n", "elsewhere"},
		{"chunks", ask + "Transfer-Encoding: Chunked\r\n\r\n", "elsewhere"},
		{"an upgrade", ask + "Upgrade: websocket\r\nConnection: upgrade\r\n\r\n", "elsewhere"},
		{"an expectation", ask + "Expect: 100-continue\r\nContent-Length: 3\r\n\r\n", "elsewhere"},
		{"HTTP/2", Preface, "elsewhere"},
		{"a tunnel", "CONNECT s:443 HTTP/1.1\r\nHost: s:443\r\n\r\n", "elsewhere"},
		{"of the server", "OPTIONS * HTTP/1.1\r\nHost: s\r\n\r\n", "elsewhere"},
		{"an ambiguous one that would go elsewhere", ask + "Upgrade: x\r\nContent-Length: 1\r\nTransfer-Encoding: chunked\r\n\r\n", "400"},
	} {
		if got := read(c.text); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// FuzzRequest compares the reader with that of net/http: what ours understands,
// the other understands in the same way.
func FuzzRequest(f *testing.F) {
	f.Add(ask + "\r\n")
	f.Add("POST /a?b HTTP/1.1\r\nHost: s\r\nContent-Length: 3\r\nConnection: close, x\r\n\r\nabc")
	f.Add("GET http://a:1/b HTTP/1.1\r\nHost: s\r\nX-A:  b \t\r\n\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		var r Request
		n, err := r.Parse([]byte(text))
		if err != nil {
			return
		}
		theirs, err := http.ReadRequest(bufio.NewReader(strings.NewReader(text)))
		if strings.HasPrefix(text, "\r\n") && err != nil { // forgiven by us alone
			return
		}
		if err != nil {
			t.Fatalf("%q: ours reads it, theirs does not: %v", text, err)
		}
		if theirs.Method != r.Method || theirs.Host != r.Host || max(theirs.ContentLength, 0) != r.Body || theirs.TransferEncoding != nil {
			t.Errorf("%q: ours %s %s %d, theirs %s %s %d %v", text, r.Method, r.Host, r.Body, theirs.Method, theirs.Host, theirs.ContentLength, theirs.TransferEncoding)
		}
		fields := http.Header{}
		for _, d := range r.List {
			if d.Role != Host {
				fields.Add(d.Name, d.Value)
			}
		}
		for k, v := range fields {
			if fmt.Sprint(theirs.Header[k]) != fmt.Sprint(v) {
				t.Errorf("%q: field %s is %q for us, %q for them", text, k, v, theirs.Header[k])
			}
		}
		for cut := range n { // whatever comes first, it is never understood before it is whole
			if _, err := r.Parse([]byte(text[:cut])); err == nil {
				t.Fatalf("%q: the first %d bytes look whole", text, cut)
			}
		}
	})
}

func TestAnswers(t *testing.T) {
	for _, c := range []struct {
		name, text string
		head       bool
		want       string
	}{
		{"sized", "HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nabc", false, `200 "OK" sized 3 close=false`},
		{"chunked", "HTTP/1.1 200\r\nTransfer-Encoding: chunked\r\n\r\n", false, `200 "" chunked -1 close=false`},
		{"until the end", "HTTP/1.1 200 OK\r\n\r\n", false, `200 "OK" close -1 close=true`},
		{"line feeds alone", "HTTP/1.0 200 OK\nX: y\n\n", false, `200 "OK" close -1 close=true`},
		{"no content", "HTTP/1.1 204 No Content\r\nContent-Length: 3\r\n\r\n", false, `204 "No Content" none -1 close=false`},
		{"to HEAD", "HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\n", true, `200 "OK" none 3 close=false`},
		{"not modified", "HTTP/1.1 304 Not Modified\r\nContent-Length: 3\r\n\r\n", false, `304 "Not Modified" none 3 close=false`},
		{"chunks and a length", "HTTP/1.1 200 OK\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n", false, `200 "OK" chunked -1 close=true`},
		{"the same length twice", "HTTP/1.1 200 OK\r\nContent-Length: 3\r\nContent-Length: 3\r\n\r\n", false, `200 "OK" sized 3 close=false`},
		{"two lengths", "HTTP/1.1 200 OK\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\n", false, "refused"},
		{"another encoding", "HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip, chunked\r\n\r\n", false, "refused"},
		{"another protocol", "SSH-2.0\r\n", false, "refused"},
		{"a strange status", "HTTP/1.1 999 Odd\r\n\r\n", false, "refused"},
		{"a status of letters", "HTTP/1.1 2OO OK\r\n\r\n", false, "refused"},
		{"a field in two lines", "HTTP/1.1 200 OK\r\nX: a\r\n b\r\n\r\n", false, "refused"},
		{"a phrase with a control character", "HTTP/1.1 200 O\x01K\r\n\r\n", false, "refused"},
		{"not all there", "HTTP/1.1 200 OK\r\nX: ", false, "incomplete"},
	} {
		var r Response
		_, err := r.Parse([]byte(c.text), c.head)
		got := fmt.Sprintf("%d %q %s %d close=%t", r.Status, r.Reason, [...]string{"none", "sized", "chunked", "close"}[r.Body], r.Size, r.Close())
		if err == ErrIncomplete {
			got = "incomplete"
		} else if err != nil {
			got = "refused"
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestChunks: a body comes out the same however it is cut up, and never from
// framing that could be read in another way.
func TestChunks(t *testing.T) {
	body := func(text string, piece int) (out string, trailer int, err error) {
		var c Chunks
		var have []byte
		for rest := text; ; {
			k := min(piece, len(rest))
			have, rest = append(have, rest[:k]...), rest[k:]
			for {
				payload, n, over, err := c.Next(have)
				out += string(payload)
				have = append([]byte(nil), have[n:]...)
				if err != nil || over {
					return out, len(c.Trailer.List), err
				}
				if n == 0 && len(payload) == 0 {
					break
				}
			}
			if rest == "" {
				return out, 0, io.ErrUnexpectedEOF
			}
		}
	}
	const good = "5;name=\"v\"\r\nboard\r\n0A \r\n0123456789\r\n0\r\nX-Sum: 15\r\nX-B: c\r\n\r\n"
	for piece := 1; piece <= len(good); piece++ {
		if out, trailer, err := body(good, piece); out != "board0123456789" || trailer != 2 || err != nil {
			t.Fatalf("in pieces of %d: %q, %d, %v", piece, out, trailer, err)
		}
	}
	for _, bad := range []string{"", "5\r\nboardX\r\n0\r\n\r\n", "5\nboard\r\n0\r\n\r\n", "-5\r\nboard\r\n0\r\n\r\n", "0x5\r\nboard\r\n", "5 5\r\nboard\r\n", "ffffffffffffffff\r\n", "\r\n", ";x\r\n",
		"5\r\nboard\r\n0\r\nX: 1\n\r\n", "5\r\nboard\r\n0\r\nX : 1\r\n\r\n", strings.Repeat("0", 5000) + "\r\n", "5;" + strings.Repeat("x", 5000) + "\r\nboard\r\n0\r\n\r\n", "5;\x01\r\nboard\r\n0\r\n\r\n"} {
		if out, _, err := body(bad, 7); err == nil {
			t.Errorf("%.40q is taken for %q", bad, out)
		}
	}
	if got := AppendChunk(nil, bytes.Repeat([]byte("x"), 26)); string(got) != "1a\r\n"+strings.Repeat("x", 26)+"\r\n" {
		t.Errorf("written: %q", got)
	}
}

func BenchmarkParse(b *testing.B) {
	text := []byte("GET /ferry/times HTTP/1.1\r\nHost: sailings\r\nUser-Agent: curl/8\r\nAccept: */*\r\nX-Crew: no\r\nCookie: a=b; c=d\r\n\r\n")
	var r Request
	b.ReportAllocs()
	for b.Loop() {
		r.Parse(text)
	}
}
