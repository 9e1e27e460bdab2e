package api

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"nightjar/control"
	"nightjar/control/people"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/test/contract"
	"nightjar/wire"
)

// served are the servers of running tests, by their control.
var served sync.Map

type testServer struct {
	*Server
	stop func()
}

func serverOf(t *testing.T, c *control.Control) *testServer {
	t.Helper()
	s, ok := served.Load(c)
	if !ok {
		t.Fatal("it has no server")
	}
	return s.(*testServer)
}

// stopServer lets the server of a test begin to end.
func stopServer(t *testing.T, c *control.Control) { serverOf(t, c).stop() }

// serve runs a server on loopback until the test ends.
func serve(t *testing.T) (url string, c *control.Control) {
	t.Helper()
	st, err := store.Open(t.TempDir(), "test")
	if err != nil {
		t.Fatal(err)
	}
	ca, err := authority.Open(authority.Config{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	self := identity.Member{Name: identity.Name{Kind: identity.Node, Name: "n"}, Domain: ca.Domain(), ID: "n"}
	c, err = control.New(t.Context(), control.Config{Store: st, Authority: ca, Node: &identity.Credentials{}, Self: self, Program: "test"})
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	console := fstest.MapFS{"index.html": {Data: []byte("<!doctype html>the console")}, "assets/a.js": {Data: []byte("1")}, "assets/long.js": {Data: []byte(longScript)}}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	s := New(c, console, l.Addr(), slog.New(slog.DiscardHandler))
	served.Store(c, &testServer{s, stop})
	mate, _, err := c.People.CreateToken(t.Context(), people.Wanted{Name: "mate", Role: people.Admin})
	if err != nil {
		t.Fatal(err)
	}
	tokens.Store(l.Addr().String(), mate)
	go func() { ended <- s.Serve(ctx, l, time.Second) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("the server ended with %v", err)
		}
		st.Close()
	})
	return "http://" + l.Addr().String(), c
}

// tokens are those with which tests call, by the address of the server.
var tokens sync.Map

// signed sends calls with the token of the server, unless they say who calls. A call of
// nobody has an Authorization of "nobody".
type signed struct{ next http.RoundTripper }

func (s signed) RoundTrip(r *http.Request) (*http.Response, error) {
	switch token, isKnown := tokens.Load(r.URL.Host); {
	case r.Header.Get("Authorization") == "nobody":
		r = r.Clone(r.Context())
		r.Header.Del("Authorization")
	case isKnown && r.Header.Get("Authorization") == "" && r.Header.Get("Cookie") == "":
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+token.(string))
	}
	return s.next.RoundTrip(r)
}

func TestMain(m *testing.M) {
	http.DefaultClient.Transport = signed{http.DefaultTransport}
	os.Exit(m.Run())
}

// longScript is a file that is worth compressing.
var longScript = strings.Repeat("sail(); ", 1000)

// TestCompression: browsers get the console compressed; who asks for the plain file, or
// for a part of it, gets that.
func TestCompression(t *testing.T) {
	base, _ := serve(t)
	for _, c := range []struct {
		path, encoding, extent string
		compressed             bool
	}{
		{"/assets/long.js", "gzip, br", "", true},
		{"/assets/long.js", "identity", "", false},
		{"/assets/long.js", "gzip", "bytes=8-15", false},
		{"/assets/a.js", "gzip", "", false},
	} {
		lines := []string{"Accept-Encoding: " + c.encoding}
		if c.extent != "" {
			lines = append(lines, "Range: "+c.extent)
		}
		resp, body := ask(t, "GET", base+c.path, "", lines...)
		if got := resp.Header.Get("Content-Encoding") == "gzip"; got != c.compressed || c.compressed && len(body) > 500 {
			t.Errorf("%+v: compressed %v, %d bytes", c, got, len(body))
		}
		if c.extent != "" && (resp.StatusCode != http.StatusPartialContent || body != "sail(); ") {
			t.Errorf("a part: %d, %q", resp.StatusCode, body)
		}
		if c.compressed && !strings.Contains(resp.Header.Get("Vary"), "Accept-Encoding") {
			t.Errorf("Vary: %s", resp.Header.Get("Vary"))
		}
	}
}

var contracted = sync.OnceValues(func() (*contract.Contract, error) { return contract.New(document) })

// ask makes a call, and holds it against the document; lines are header lines.
func ask(t *testing.T, method, url, body string, lines ...string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range lines {
		k, v, _ := strings.Cut(l, ": ")
		if k == "Host" {
			req.Host = v
		}
		req.Header.Set(k, v)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := contracted()
	if err == nil {
		err = doc.Check(req, []byte(body), contract.Answer{Status: resp.StatusCode, Header: resp.Header, Body: b})
	}
	if err != nil {
		t.Error(err)
	}
	return resp, string(b)
}

const rule = `{"files":[{"name":"a.yaml","text":"services: {s: {versions: [v1, v2], routes: [{name: r, send: {v1: 50, v2: 50}}]}}"}],"waitMS":0}`

// TestAnswers goes through what callers do, right and wrong, in order.
func TestAnswers(t *testing.T) {
	url, _ := serve(t)
	for _, c := range []struct {
		name, method, path, body string
		lines                    []string
		status                   int
		want                     string
	}{
		{"nothing yet", "GET", "/api/v1/revisions/0", "", nil, 200, `"number":0`},
		{"a list of nothing", "GET", "/api/v1/revisions", "", nil, 200, `{"revisions":[]}`},
		{"publish on nothing in particular", "POST", "/api/v1/revisions", rule, nil, 428, `"code":"if-match"`},
		{"publish without files", "POST", "/api/v1/revisions", `{}`, []string{`If-Match: "0"`}, 422, `needs at least one file`},
		{"publish", "POST", "/api/v1/revisions", rule, []string{`If-Match: "0"`}, 201, `"revision":1`},
		{"publish on the wrong revision", "POST", "/api/v1/revisions", rule, []string{`If-Match: "7"`}, 412, `"code":"revision-conflict"`},
		{"publish the same", "POST", "/api/v1/revisions", rule, []string{`If-Match: "1"`}, 200, `"revision":1,"unchanged":true`},
		{"publish on the right revision", "POST", "/api/v1/revisions", strings.Replace(rule, "name: r,", "name: rr,", 1), []string{`If-Match: "1"`}, 201, `"revision":2`},
		{"another bundle", "POST", "/api/v1/revisions", `{"bundle":"crew","waitMS":0,"files":[{"name":"c","text":"services: {crew: {}}"}]}`, []string{`If-Match: "2"`}, 201, `"revision":3`},
		{"remove it on nothing in particular", "DELETE", "/api/v1/bundles/crew", "", nil, 428, `"code":"if-match"`},
		{"remove it on the wrong revision", "DELETE", "/api/v1/bundles/crew", "", []string{`If-Match: "2"`}, 412, `"code":"revision-conflict"`},
		{"remove it", "DELETE", "/api/v1/bundles/crew?waitMS=0", "", []string{`If-Match: "3"`}, 200, `"path":"services.crew"`},
		{"remove it again", "DELETE", "/api/v1/bundles/crew?waitMS=0", "", []string{"If-Match: *"}, 404, `no bundle crew`},
		{"nonsense in If-Match", "POST", "/api/v1/revisions", rule, []string{`If-Match: yes`}, 400, `"code":"if-match"`},
		{"mistakes", "POST", "/api/v1/revisions", strings.Replace(rule, "v2: 50", "v2: 45", 1), []string{"If-Match: *"}, 422, `"code":"weights"`},
		{"check", "POST", "/api/v1/rules/check", `{"files":[{"name":"a","text":"services: {s: {version: []}}"}]}`, nil, 200, `did you mean`},
		{"check and remember", "POST", "/api/v1/rules/check", `{"remember":true,"files":[{"name":"a.yaml","text":"services: {s: {}, t: {}}"}]}`, nil, 200, `"path":"services.t"`},
		{"format", "POST", "/api/v1/rules/format", `{"files":[{"name":"a","text":"services:\n    s:  {}\n"}]}`, nil, 200, `"text":"services:\n  s: {}\n"`},
		{"format what is no YAML", "POST", "/api/v1/rules/format", `{"files":[{"name":"a","text":"["}]}`, nil, 422, `"code":"syntax"`},
		{"the schema", "GET", "/api/v1/rules/schema", "", nil, 200, `json-schema.org/draft/2020-12`},
		{"settings in force", "GET", "/api/v1/services/s/effective", "", nil, 200, `"name":"timeout","value":"15s","from":"built in"`},
		{"settings of an unknown service", "GET", "/api/v1/services/ghost/effective", "", nil, 404, `declare no service ghost`},
		{"unknown field", "POST", "/api/v1/revisions", `{"fils":[]}`, []string{"If-Match: *"}, 400, `unknown field \"fils\"`},
		{"a wrong type", "POST", "/api/v1/services/s/split", `{"weights":{"v1":1}}`, []string{"If-Match: *"}, 400, `weights: expected array, found object`},
		{"a wrong type within", "POST", "/api/v1/explain", `{"url":"s","headers":{"a":[1]}}`, nil, 400, `headers: expected string, found array`},
		{"no body", "POST", "/api/v1/explain", ``, nil, 400, `it is empty`},
		{"half a body", "POST", "/api/v1/explain", `{"url":`, nil, 400, `it ends too early`},
		{"not JSON", "POST", "/api/v1/explain", `GET /`, nil, 400, `"code":"body"`},
		{"a body that is too large", "POST", "/api/v1/rules/check", `{"bundle":"` + strings.Repeat("x", maxBody) + `"}`, nil, 413, `"code":"too-large"`},
		{"split", "POST", "/api/v1/services/s/split", `{"weights":[{"target":"v1","weight":"100"}],"waitMS":0}`, []string{`If-Match: "4"`}, 201, `"after":"v1"`},
		{"split of nobody", "POST", "/api/v1/services/ghost/split", `{"weights":[]}`, []string{"If-Match: *"}, 404, `declare no service ghost`},
		{"restore", "POST", "/api/v1/revisions/1/restore", `{"waitMS":0}`, []string{`If-Match: "5"`}, 201, `"revision":6`},
		{"a revision that is not there", "GET", "/api/v1/revisions/99", "", nil, 404, `"code":"not-found"`},
		{"no number", "GET", "/api/v1/revisions/one", "", nil, 400, `"code":"path"`},
		{"a page", "GET", "/api/v1/revisions?limit=2", "", nil, 200, `"next":5`},
		{"a page too long", "GET", "/api/v1/revisions?limit=2000", "", nil, 400, `from 1 to 200`},
		{"a window too long", "GET", "/api/v1/mesh?window=1209601", "", nil, 400, `from 1 to 1209600`},
		{"the mesh", "GET", "/api/v1/mesh", "", nil, 200, `"name":"s"`},
		{"explain", "POST", "/api/v1/explain", `{"url":"http://s/"}`, nil, 200, `"share":0.5`},
		{"a call without a proxy", "POST", "/api/v1/calls", `{"url":"http://s/"}`, nil, 503, `proxy is not ready yet`},
		{"releases of nobody", "GET", "/api/v1/releases", "", nil, 200, `{"releases":[],"declared":[]}`},
		{"a release of nobody", "GET", "/api/v1/releases/r", "", nil, 404, `there is no release r`},
		{"a wish for a release of nobody", "POST", "/api/v1/releases/7/hold", `{}`, nil, 404, `there is no release 7`},
		{"a release that is not declared", "POST", "/api/v1/releases", `{"name":"r"}`, nil, 422, `declare no release`},
		{"a workload of nobody", "PUT", "/api/v1/standins/s~v1", `{"errors":0.5}`, nil, 422, `has no stand-ins`},
		{"a path of nobody", "GET", "/api/v1/nothing", "", nil, 404, `"code":"not-found"`},
		{"a wrong method", "DELETE", "/api/v1/mesh", "", nil, 405, `"status":405`},
		{"a page of another site", "POST", "/api/v1/explain", `{"url":"s"}`, []string{"Origin: http://evil.example"}, 403, `"code":"wrong-origin"`},
		{"a name that was made to point here", "GET", "/api/v1/mesh", "", []string{"Host: evil.example:7600"}, 421, `"code":"wrong-host"`},
		{"localhost is us", "GET", "/api/v1/mesh", "", []string{"Host: localhost:7600"}, 200, `"services"`},
		{"the console", "GET", "/", "", nil, 200, "the console"},
		{"a page of the console", "GET", "/services/s", "", nil, 200, "the console"},
		{"a file of the console", "GET", "/assets/a.js", "", nil, 200, "1"},
		{"no such file", "GET", "/assets/b.js", "", nil, 404, "nothing at"},
		{"out of the console", "GET", "/assets/%2e%2e/%2e%2e/go.mod", "", nil, 404, ""},
		{"the OpenAPI document", "GET", "/api/v1/openapi.json", "", nil, 200, `"openapi": "3.1.0"`},
		{"alive", "GET", "/healthz", "", nil, 200, "ok"},
	} {
		t.Run(c.name, func(t *testing.T) {
			resp, body := ask(t, c.method, url+c.path, c.body, c.lines...)
			want := strings.ReplaceAll(c.want, "did you mean", "nearest: versions")
			if resp.StatusCode != c.status || !strings.Contains(body, want) {
				t.Errorf("%d %.400s\nwant %d with %s", resp.StatusCode, body, c.status, want)
			}
			if c.status >= 400 && resp.Header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("an error as %s", resp.Header.Get("Content-Type"))
			}
			if resp.Header.Get("Content-Security-Policy") == "" {
				t.Error("no content security policy")
			}
		})
	}
}

func TestDrafts(t *testing.T) {
	base, _ := serve(t)
	url := base + "/api/v1/drafts/main"
	put := func(body, match string) (int, string) {
		var lines []string
		if match != "" {
			lines = append(lines, "If-Match: "+match)
		}
		r, b := ask(t, "PUT", url, body, lines...)
		return r.StatusCode, b
	}
	const draft = `{"base": 3, "files": [{"name": "a.yaml", "text": "services: ["}]}`
	for _, c := range []struct {
		body, match, want string
		status            int
	}{
		{draft, "", `"code":"if-match"`, 428},
		{draft, "x", `"code":"if-match"`, 400},
		{draft, `"1"`, `"code":"draft-changed"`, 412},
		{draft, `"0"`, `"version":1`, 200}, // mistakes in it do not matter
		{draft, `"0"`, `"code":"draft-changed"`, 412},
		{draft, `"1"`, `"version":2`, 200},
		{`{"by": "cook"}`, `"0"`, `unknown field`, 400},
	} {
		if status, b := put(c.body, c.match); status != c.status || !strings.Contains(b, c.want) {
			t.Errorf("%s on %s: %d %s", c.body, c.match, status, b)
		}
	}
	if r, b := ask(t, "GET", url, ""); r.StatusCode != 200 || !strings.Contains(b, `"text":"services: ["`) || !strings.Contains(b, `"base":3`) {
		t.Errorf("read back: %d %s", r.StatusCode, b)
	}
	if _, b := ask(t, "GET", base+"/api/v1/drafts", ""); !strings.Contains(b, `"by":"mate"`) || strings.Contains(b, "services") {
		t.Errorf("list: %s", b)
	}
	if r, _ := ask(t, "DELETE", url, "", `If-Match: "2"`); r.StatusCode != 204 {
		t.Errorf("delete: %d", r.StatusCode)
	}
	if r, b := ask(t, "GET", url+"?by=mate", ""); r.StatusCode != 404 || !strings.Contains(b, `has no draft of bundle main`) {
		t.Errorf("deleted: %d %s", r.StatusCode, b)
	}
}

// TestStreams: a proxy gets the whole at first and then what changed; a console
// gets the mesh; both end with the server.
func TestStreams(t *testing.T) {
	url, c := serve(t)
	p := join(t, url, c, wire.Join{ID: "p", Service: "s", Version: "v1"})
	if status, body := p.ask("PUT", "", `{"id":"p","nonce":"1","service":"s","version":"v1","inbound":"127.0.0.1:9"}`); status != 200 {
		t.Fatal(body)
	}
	req, _ := http.NewRequest("GET", p.url+"/snapshots", nil)
	req.Header.Set("Nightjar-Nonce", "1")
	resp, err := p.client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	nonce := ""
	next := func() (s wire.Snapshot) {
		for lines.Scan() {
			if err := json.Unmarshal(lines.Bytes(), &s); err != nil {
				t.Fatal(err)
			}
			if nonce = cmp.Or(s.Nonce, nonce); s.Sequence > 0 {
				return s
			}
		}
		t.Fatalf("the stream ended: %v", lines.Err())
		return s
	}
	if s := next(); !s.Whole || s.Rest == nil || len(s.Instances) != 1 {
		t.Errorf("first: %+v", s)
	}
	if r, body := ask(t, "POST", url+"/api/v1/revisions", rule, "If-Match: *"); r.StatusCode != 201 {
		t.Fatal(body)
	}
	if s := next(); s.Whole || s.Revision != 1 || len(s.Services) != 1 || s.Services[0].Name != "s" || s.Instances != nil {
		t.Errorf("after publishing: %+v", s)
	}
	if status, body := p.ask("POST", "/acks", `{"nonce":"`+nonce+`","sequence":3,"revision":1}`); status != 204 {
		t.Error(body)
	}
	if f := c.Fleet.List().Proxies; !f[0].IsConnected || f[0].Revision != 1 || f[0].IsBehind {
		t.Errorf("fleet: %+v", f)
	}

	for path, want := range map[string]string{"/live": "mesh mesh mesh", "/live?changes=true": "mesh change change"} {
		live, err := http.Get(url + "/api/v1" + path)
		if err != nil {
			t.Fatal(err)
		}
		events := bufio.NewScanner(live.Body)
		events.Buffer(nil, 1<<20)
		var kinds, seen []string
		for len(kinds) < 3 && events.Scan() {
			word, rest, _ := strings.Cut(events.Text(), ": ")
			if seen = append(seen, word); word == "event" {
				kinds = append(kinds, rest)
			}
			if rest, ok := strings.CutPrefix(events.Text(), `data: {"at":[`); ok && (!strings.Contains(rest, `"end":[`) || strings.Contains(rest, "services")) {
				t.Errorf("a second in which nothing happens: %s", rest)
			}
		}
		live.Body.Close()
		if got := strings.Join(seen, " "); got != "id event data  id event data  id event" || strings.Join(kinds, " ") != want {
			t.Errorf("%s: %q with the events %q, want %q", path, got, kinds, want)
		}
	}
}
