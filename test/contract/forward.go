package contract

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
)

// Forwarder stands before a service, passes calls on, and checks each with its answer.
type Forwarder struct {
	contract *Contract
	to       string // host:port of the service
	report   func(error)
	client   http.Transport
	server   http.Server
	serving  sync.WaitGroup
	before   atomic.Pointer[func(*http.Request) int]
	Address  string // host:port where it listens
}

// Before has f see each call before it is passed on. A status that f returns is the
// answer, and Break breaks the connection; with 0 the call is passed on. Nil ends it.
func (f *Forwarder) Before(see func(*http.Request) int) {
	if see == nil {
		f.before.Store(nil)
		return
	}
	f.before.Store(&see)
}

// Break is the answer of a service that is gone.
const Break = -1

// Forward starts a Forwarder for a service, which need not run yet. report is told of
// everything that breaks the contract.
func (c *Contract) Forward(to string, report func(error)) (*Forwarder, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	f := &Forwarder{contract: c, to: to, report: report, Address: l.Addr().String()}
	f.server.Handler = f
	f.serving.Go(func() { f.server.Serve(l) })
	return f, nil
}

// Close ends it.
func (f *Forwarder) Close() {
	f.server.Close()
	f.client.CloseIdleConnections()
	f.serving.Wait()
}

// maxBody bounds what is kept of an answer to check it.
const maxBody = 64 << 20

// ServeHTTP passes one call on. Of a service that does not answer, the caller sees what it
// would see without the Forwarder: a connection that breaks.
func (f *Forwarder) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	if see := f.before.Load(); see != nil {
		switch status := (*see)(r); {
		case status > 0:
			w.WriteHeader(status)
			return
		case status == Break:
			panic(http.ErrAbortHandler)
		}
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(r.Context()))
	defer stop()
	stay := context.AfterFunc(r.Context(), stop)
	out := r.Clone(ctx)
	out.URL.Scheme, out.URL.Host, out.RequestURI = "http", f.to, ""
	if r.Host == f.Address {
		out.Host = f.to
	}
	if origin := r.Header.Get("Origin"); origin == "http://"+f.Address {
		out.Header.Set("Origin", "http://"+f.to)
	}
	out.Body, out.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	out.Header.Del("Accept-Encoding")
	f.client.DisableCompression = true
	resp, err := f.client.RoundTrip(out)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer resp.Body.Close()
	if !isStream(resp) { // a caller may leave as soon as it has understood, before the last byte
		stay()
	}
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(resp.StatusCode)
	answer, isWhole := f.pass(w, resp)
	if !isWhole && !isStream(resp) {
		panic(http.ErrAbortHandler)
	}
	err = f.contract.Check(r, body, Answer{resp.StatusCode, resp.Header, answer})
	if err != nil {
		f.report(err)
	}
	if !isWhole {
		panic(http.ErrAbortHandler)
	}
}

func isStream(resp *http.Response) bool {
	media := resp.Header.Get("Content-Type")
	return strings.HasPrefix(media, "text/event-stream") || strings.HasPrefix(media, "application/x-ndjson")
}

// pass passes an answer on as it comes, and returns what came; of a stream that breaks,
// up to the last whole line.
func (f *Forwarder) pass(w http.ResponseWriter, resp *http.Response) (answer []byte, isWhole bool) {
	flush := http.NewResponseController(w)
	flush.Flush()
	buf := make([]byte, 64<<10)
	for {
		n, err := resp.Body.Read(buf)
		if len(answer) < maxBody {
			answer = append(answer, buf[:n]...)
		}
		if n > 0 {
			if _, werr := w.Write(buf[:n]); werr != nil {
				if isStream(resp) {
					err = werr
				}
			}
			flush.Flush()
		}
		switch {
		case err == io.EOF, int64(len(answer)) == resp.ContentLength: // the caller may leave with the last byte
			return answer, true
		case err != nil:
			return answer[:bytes.LastIndexByte(answer, '\n')+1], false
		}
	}
}
