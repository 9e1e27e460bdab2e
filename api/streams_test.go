package api

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"nightjar/wire"
)

// TestForeignPages: a page of another site can let a browser neither read nor change
// anything, streams included; the console, links to it and programs can.
func TestForeignPages(t *testing.T) {
	url, _ := serve(t)
	for _, path := range []string{"/api/v1/requests", "/api/v1/live", "/api/v1/mesh", "/api/v1/revisions/0", "/metrics", "/api/v1/openapi.json"} {
		for _, c := range []struct {
			line string
			ok   bool
		}{
			{"Sec-Fetch-Site: cross-site", false}, {"Sec-Fetch-Site: same-site", false}, {"Sec-Fetch-Site: nonsense", false},
			{"Origin: http://evil.example", false}, {"Origin: null", false}, {"Origin: http://127.0.0.1:1", false},
			{"Sec-Fetch-Site: same-origin", true}, {"Sec-Fetch-Site: none", true}, {"Origin: " + url, true}, {"Accept: */*", true},
		} {
			ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
			req, err := http.NewRequestWithContext(ctx, "GET", url+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			k, v, _ := strings.Cut(c.line, ": ")
			req.Header.Set(k, v)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			if got := resp.StatusCode == 200; got != c.ok || !c.ok && resp.StatusCode != 403 {
				t.Errorf("%s with %s: %d", path, c.line, resp.StatusCode)
			}
			stop()
			resp.Body.Close()
		}
	}
	if r, _ := ask(t, "GET", url+"/services/s", "", "Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: navigate"); r.StatusCode != 200 {
		t.Errorf("a link to a page of the console: %d", r.StatusCode)
	}
}

// TestPlacesOfStreams: one client cannot take the places of others, and nobody those of
// proxies.
func TestPlacesOfStreams(t *testing.T) {
	url, c := serve(t)
	open := func(path, program string) (*http.Response, func()) {
		ctx, stop := context.WithCancel(t.Context())
		req, _ := http.NewRequestWithContext(ctx, "GET", url+path, nil)
		req.Header.Set("User-Agent", program)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		return resp, func() { stop(); resp.Body.Close() }
	}
	var ends []func()
	for range watchesEach {
		resp, end := open("/api/v1/requests", "greedy")
		if ends = append(ends, end); resp.StatusCode != 200 {
			t.Fatal(resp.StatusCode)
		}
	}
	resp, end := open("/api/v1/requests", "greedy")
	text, _ := io.ReadAll(resp.Body)
	if end(); resp.StatusCode != 503 || !strings.Contains(string(text), "too-many-streams") || !resp.Close {
		t.Errorf("one too many: %d %s", resp.StatusCode, text)
	}
	resp, end = open("/api/v1/requests", "modest")
	if end(); resp.StatusCode != 200 {
		t.Errorf("another client: %d", resp.StatusCode)
	}
	ends[0]()
	for tries := 0; ; tries++ { // the place is free as soon as the service sees it
		resp, end := open("/api/v1/requests", "greedy")
		if end(); resp.StatusCode == 200 {
			break
		}
		if tries > 200 {
			t.Fatal("a place that was left is not free")
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, end := range ends {
		end()
	}

	p := places{most: 3}
	for i := range 3 {
		if _, err := p.take(strings.Repeat("x", i)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.take("y"); err == nil {
		t.Error("more than all places are taken")
	}
	// With all places of people taken, a proxy still gets one.
	one := join(t, url, c, wire.Join{ID: "p", Service: "s", Version: "v1"})
	if status, body := one.ask("PUT", "", `{"id":"p","nonce":"1","service":"s","version":"v1","inbound":"127.0.0.1:9"}`); status != 200 {
		t.Fatal(body)
	}
	req, _ := http.NewRequest("GET", one.url+"/snapshots", nil)
	req.Header.Set("Nightjar-Nonce", "1")
	for i := range maxPeopleStreams {
		if _, err := serverOf(t, c).people.take(fmt.Sprint("client ", i)); err != nil {
			t.Fatal(err)
		}
	}
	if resp, end := open("/api/v1/live", "late"); resp.StatusCode != 503 {
		t.Errorf("a stream of somebody: %d", resp.StatusCode)
	} else {
		end()
	}
	if resp, err := one.client.Do(req); err != nil || resp.StatusCode != 200 {
		t.Errorf("a stream of a proxy: %v, %v", resp, err)
	} else {
		resp.Body.Close()
	}
}

// TestShutdown: a publish that waits for a proxy is answered when the service ends, and
// streams end at once.
func TestShutdown(t *testing.T) {
	url, c := serve(t)
	p := join(t, url, c, wire.Join{ID: "p", Service: "s", Version: "v1"})
	if status, body := p.ask("PUT", "", `{"id":"p","nonce":"1","service":"s","version":"v1","inbound":"127.0.0.1:9"}`); status != 200 {
		t.Fatal(body)
	}
	req, _ := http.NewRequest("GET", p.url+"/snapshots", nil)
	req.Header.Set("Nightjar-Nonce", "1")
	resp, err := p.client.Do(req) // it never acknowledges
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	live, err := http.Get(url + "/api/v1/live")
	if err != nil {
		t.Fatal(err)
	}
	answered := make(chan string, 1)
	go func() {
		r, body := ask(t, "POST", url+"/api/v1/revisions", strings.Replace(rule, `"waitMS":0`, `"waitMS":30000`, 1), "If-Match: *")
		answered <- fmt.Sprint(r.StatusCode, " ", body)
	}()
	for c.Revisions.Current().Revision.Number == 0 {
		time.Sleep(5 * time.Millisecond)
	}
	begin := time.Now()
	stopServer(t, c)
	io.Copy(io.Discard, live.Body)
	if took := time.Since(begin); took > 500*time.Millisecond {
		t.Errorf("a stream ended after %s", took)
	}
	select {
	case got := <-answered:
		if !strings.HasPrefix(got, "201") || !strings.Contains(got, `"away":["p"]`) {
			t.Errorf("the publish that waited: %s", got)
		}
	case <-time.After(5 * time.Second):
		t.Error("the publish that waited had no answer")
	}
}

// TestSlowBodies: a body that does not arrive ends its request, whether somebody of this
// machine sends it or a stranger at the port of the proxies; a response that takes longer
// than that goes on.
func TestSlowBodies(t *testing.T) {
	defer func(before time.Duration) { bodyTime = before }(bodyTime)
	bodyTime = 200 * time.Millisecond
	url, c := serve(t)
	p := join(t, url, c, wire.Join{ID: "p", Service: "s", Version: "v1"})
	for name, open := range map[string]func() (net.Conn, error){
		"people": func() (net.Conn, error) { return net.Dial("tcp", strings.TrimPrefix(url, "http://")) },
		"stranger": func() (net.Conn, error) {
			return tls.Dial("tcp", strings.TrimPrefix(url, "http://"), &tls.Config{InsecureSkipVerify: true})
		},
	} {
		conn, err := open()
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		path := map[string]string{"people": "/api/v1/explain", "stranger": wire.JoinPath}[name]
		fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: %s\r\nContent-Length: 100\r\n\r\n{\"url\":", path, strings.TrimPrefix(url, "http://"))
		conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		begun := time.Now()
		if _, err := conn.Read(make([]byte, 1)); errors.Is(err, os.ErrDeadlineExceeded) || time.Since(begun) > 3*time.Second {
			t.Errorf("%s: after %s: %v", name, time.Since(begun), err)
		}
	}
	large := strings.Repeat("x", maxJoin+1)
	if status, _ := sendTo(stranger(nil), "POST", secure(url)+wire.JoinPath, `{"secret":"`+large+`"}`); status != 413 {
		t.Errorf("a large request to join: %d", status)
	}
	// A stream with a body lasts longer than bodies may take to arrive.
	if status, body := p.ask("PUT", "", `{"id":"p","nonce":"1","service":"s","version":"v1","inbound":"127.0.0.1:9"}`); status != 200 {
		t.Fatal(body)
	}
	req, err := http.NewRequest("POST", url+"/api/v1/revisions", strings.NewReader(strings.Replace(rule, `"waitMS":0`, `"waitMS":700`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("If-Match", "*")
	follow, _ := http.NewRequest("GET", p.url+"/snapshots", nil)
	follow.Header.Set("Nightjar-Nonce", "1")
	stream, err := p.client.Do(follow) // so that the publish waits for it
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	begun := time.Now()
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != 201 || time.Since(begun) < 600*time.Millisecond {
		t.Errorf("a publish that waits: %v, %v after %s", resp, err, time.Since(begun))
	}
}
