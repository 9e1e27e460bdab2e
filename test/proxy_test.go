package test

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/proxy"
	"nightjar/service"
	"nightjar/wire"
)

// limited runs the binary under a limit of the shell.
func limited(t *testing.T, limit, ready string, args ...string) *process {
	t.Helper()
	return launch(t, ready, exec.Command("sh", append([]string{"-c", "ulimit " + limit + `; exec "$0" "$@"`, watched}, args...)...))
}

// member waits until a proxy is as it should be.
func (m *mesh) member(id, what string, ok func(model.Proxy) bool) (found model.Proxy) {
	m.t.Helper()
	eventually(m.t, id+" "+what, func() bool {
		f, err := m.api.Fleet(m.t.Context())
		if err != nil {
			return false
		}
		for _, p := range f.Proxies {
			if p.ID == id && ok(p) {
				found = p
				return true
			}
		}
		return false
	})
	return found
}

func follows(p model.Proxy) bool { return p.State == model.ProxyCurrent }

// variant is a load of one kind of request.
type variant struct {
	name   string
	method string
	body   string
	http2  bool
}

// TestUpgradesUnderLoad upgrades a caller's proxy and one beside a workload
// again and again, under three kinds of load: no request fails.
func TestUpgradesUnderLoad(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	out := "127.0.0.1:" + strings.Split(freeBase(t), ":")[1]
	start(t, "proxy ready", "proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--outbound", out)
	t.Cleanup(func() { // those that took over are no children of the test
		for _, id := range []string{"kiosk-a", "lamp-v1"} {
			if f, err := p.api.Fleet(context.Background()); err == nil {
				for _, m := range f.Proxies {
					if m.ID == id {
						syscall.Kill(m.PID, syscall.SIGTERM)
					}
				}
			}
		}
	})
	quit := make(chan struct{})
	var sent atomic.Int64
	bad := make(chan string, 100)
	var loads []chan struct{}
	for _, v := range []variant{{"plain", "GET", "", false}, {"with a body", "PUT", "hello", false}, {"HTTP/2", "GET", "", true}} {
		done := make(chan struct{})
		loads = append(loads, done)
		go func() {
			defer close(done)
			tr := &http.Transport{Protocols: new(http.Protocols)}
			tr.Protocols.SetHTTP1(!v.http2)
			tr.Protocols.SetUnencryptedHTTP2(v.http2)
			defer tr.CloseIdleConnections()
			for {
				select {
				case <-quit:
					return
				default:
				}
				req, _ := http.NewRequest(v.method, "http://"+out+"/", strings.NewReader(v.body))
				if v.body == "" {
					req.Body = nil
				}
				req.Host = "lamp"
				resp, err := (&http.Client{Transport: tr, Timeout: patience}).Do(req)
				if sent.Add(1); err != nil {
					bad <- v.name + ": " + err.Error()
					continue
				}
				b, _ := io.ReadAll(resp.Body)
				resp.Body.Close()
				if resp.StatusCode != 200 {
					bad <- fmt.Sprintf("%s: %d %s", v.name, resp.StatusCode, b)
				}
			}
		}()
	}
	for range 4 {
		for _, id := range []string{"kiosk-a", "lamp-v1"} {
			before := p.member(id, "follows", follows)
			at := sent.Load()
			eventually(t, "requests", func() bool { return sent.Load() > at+20 })
			if err := syscall.Kill(before.PID, syscall.SIGHUP); err != nil {
				t.Fatal(err)
			}
			p.member(id, "was taken over", func(m model.Proxy) bool { return m.PID != before.PID && follows(m) })
			eventually(t, "the end of the one before", func() bool {
				b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", before.PID))
				return err != nil || strings.Contains(string(b), ") Z ")
			})
		}
	}
	close(quit)
	for _, done := range loads {
		<-done
	}
	close(bad)
	for b := range bad {
		t.Error(b)
	}
	if sent.Load() < 100 {
		t.Errorf("only %d requests", sent.Load())
	}
}

// TestAProgramThatFailsToTakeOver leaves the one before as it was.
func TestAProgramThatFailsToTakeOver(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	dir := t.TempDir()
	link := filepath.Join(dir, "nightjar")
	if err := os.Symlink(watched, link); err != nil {
		t.Fatal(err)
	}
	kiosk := launch(t, "proxy ready", exec.Command(link, "proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a"))
	os.Remove(link)
	if err := os.Symlink("/bin/false", link); err != nil {
		t.Fatal(err)
	}
	stop := load(t, p.outbound("kiosk"), "lamp", "/")
	kiosk.cmd.Process.Signal(syscall.SIGHUP)
	eventually(t, "a word about the failure", func() bool { return strings.Contains(kiosk.said(), "not handed over; this process continues") })
	if sent, bad := stop(); len(bad) > 0 || kiosk.ended() {
		t.Errorf("%d of %d requests failed: %v", len(bad), sent, bad)
	}
}

// TestTheServiceIsAway: a proxy starts from its saved state, serves, says
// since when that is stale, and follows again when the service is back. A
// damaged file is not followed.
func TestTheServiceIsAway(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	if _, err := p.api.Publish(t.Context(), model.PublishRequest{Files: []model.File{{Name: "l.yaml", Text: "services: {lamp: {versions: [v1, v2], routes: [{name: all, send: v2}]}, kiosk: {versions: [v1], calls: [lamp]}}"}}}, nil); err != nil {
		t.Fatal(err)
	}
	state := t.TempDir()
	run := []string{"proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--state", state}
	kiosk := start(t, "proxy ready", run...)
	p.member("kiosk-a", "follows", follows)
	file := filepath.Join(state, "kiosk-a.json")
	eventually(t, "the file", func() bool { _, err := os.Stat(file); return err == nil })
	p.service.cmd.Process.Kill()
	kiosk.cmd.Process.Kill()
	eventually(t, "their end", func() bool { return p.service.ended() && kiosk.ended() })

	kiosk = start(t, "proxy ready", run...)
	if said := kiosk.said(); !strings.Contains(said, "revision 1") || !strings.Contains(said, "stale since 20") {
		t.Errorf("it said:\n%s", said)
	}
	said := kiosk.said()
	out := strings.Fields(said[strings.Index(said, "outbound ")+len("outbound "):])[0]
	address := strings.TrimRight(out, ",")
	if got := answerOf(t, address, "lamp"); got != "v2" {
		t.Errorf("without the service: %q", got)
	}
	p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
	p.member("kiosk-a", "is back", follows)
	if got := answerOf(t, address, "lamp"); got != "v2" {
		t.Errorf("with the service back: %q", got)
	}

	kiosk.cmd.Process.Signal(interrupt)
	eventually(t, "its end", kiosk.ended)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, text[:len(text)-20], 0o600); err != nil { // as a disk may leave it
		t.Fatal(err)
	}
	p.service.cmd.Process.Kill()
	eventually(t, "the service's end", p.service.ended)
	kiosk = start(t, "is damaged", run...)
	p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
	p.member("kiosk-a", "follows", follows)
}

func answerOf(t *testing.T, address, host string) string {
	t.Helper()
	req, _ := http.NewRequest("GET", "http://"+address+"/", nil)
	req.Host = host
	resp, err := (&http.Client{Timeout: patience}).Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return strings.TrimSpace(string(b))
}

// TestProxiesOfOtherMachines join with a token, once, and come back by their certificate;
// nothing but their endpoints is at their address.
func TestProxiesOfOtherMachines(t *testing.T) {
	t.Parallel()
	addr, door, data, state := freeBase(t), freeBase(t), t.TempDir(), t.TempDir()
	if _, errs, code := runIn(t, "", "serve", "--listen", addr, "--data", t.TempDir(), "--proxies", door); code != 2 || !strings.Contains(errs, "--mesh-addr") {
		t.Errorf("the flag of earlier versions: exit %d: %s", code, errs)
	}
	serve := []string{"serve", "--listen", addr, "--data", data, "--mesh-addr", door}
	first := start(t, "Console and API", serve...)
	p := newMesh(t, first, addr)
	text, errs, code := runIn(t, "", "join-token", "create", "--server", addr, "--service", "lamp")
	if code != 0 {
		t.Fatal(errs)
	}
	token := write(t, t.TempDir(), "token", text)
	bad := write(t, t.TempDir(), "token", strings.TrimSpace(text)[:60])
	if _, errs, code := runIn(t, "", "proxy", "--join", bad, "--service", "lamp", "--version", "v1"); code != 2 || !strings.Contains(errs, "incomplete") {
		t.Errorf("half a token: exit %d: %s", code, errs)
	}
	lamp := func(name string, more ...string) []string {
		return append([]string{"proxy", "--join", token, "--service", "lamp", "--version", "v1", "--name", name, "--state", state}, more...)
	}
	start(t, "is for lamp, not for kiosk", "proxy", "--join", token, "--service", "kiosk", "--version", "v1", "--name", "stranger", "--state", "")
	friend := start(t, "proxy ready", lamp("friend")...)
	p.member("friend", "follows", follows)
	start(t, "is used up", lamp("thief")...)
	for _, path := range []string{"/api/v1/mesh", "/", "/mesh/v1/proxies/x/snapshots"} {
		resp, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}).Get("https://" + door + path)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusUnauthorized && resp.StatusCode != http.StatusNotFound {
			t.Errorf("%s: %s", path, resp.Status)
		}
	}
	f, err := p.api.Fleet(t.Context())
	if err != nil || len(f.Proxies) != 2 {
		t.Errorf("%+v, %v", f, err)
	}
	for _, one := range []*process{friend, first} {
		one.cmd.Process.Kill()
		<-one.done
	}
	start(t, "Console and API", serve...)
	start(t, "proxy ready", lamp("friend")...)
	p.member("friend", "follows", follows)
	if err := os.Remove(filepath.Join(state, "friend.identity")); err != nil {
		t.Errorf("key and certificate are kept: %v", err)
	}
}

// TestDescriptorsRunOut: those who say nothing make room for those who do, with a
// clear line in the log and in the fleet. A disk on which nothing can be written is told
// of too, and stops nothing.
func TestDescriptorsRunOut(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	kiosk := limited(t, "-n 60; ulimit -f 0", "proxy ready", "proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a", "--state", t.TempDir())
	eventually(t, "a warning about the disk", func() bool { return strings.Contains(kiosk.said(), "cannot save the state") })
	address := p.member("kiosk-a", "follows", follows).Outbound
	var held []net.Conn
	defer func() {
		for _, c := range held {
			c.Close()
		}
	}()
	for range 100 {
		c, err := net.Dial("tcp", address)
		if err != nil {
			break
		}
		held = append(held, c)
	}
	if got := answerOf(t, address, "lamp"); got != "v1" && got != "v2" {
		t.Errorf("beside connections that say nothing: %q", got)
	}
	eventually(t, "a word about connections", func() bool { return strings.Contains(kiosk.said(), "no room for more than 16 connections of callers") })
	p.member("kiosk-a", "has a problem", func(m model.Proxy) bool {
		return len(m.Problems) == 1 && m.Problems[0].Kind == wire.ProblemConnections
	})
}

// TestManyIdleConnections: ten thousand connections that say nothing hinder
// nobody.
func TestManyIdleConnections(t *testing.T) {
	t.Parallel()
	var limit syscall.Rlimit
	syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit)
	many := int(min(10_000, limit.Cur-500))
	p := startPair(t)
	start(t, "proxy ready", "proxy", "--server", p.addr, "--service", "kiosk", "--version", "v1", "--name", "kiosk-a")
	address := p.member("kiosk-a", "follows", follows).Outbound
	held := make([]net.Conn, 0, many)
	defer func() {
		for _, c := range held {
			c.Close()
		}
	}()
	for range many {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatalf("after %d connections: %v", len(held), err)
		}
		held = append(held, c)
	}
	p.member("kiosk-a", "has them all", func(m model.Proxy) bool { return m.Connections >= many })
	stop := load(t, address, "lamp", "/")
	for _, c := range held[:100] { // they are not asleep
		c.SetDeadline(time.Now().Add(patience))
		fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: lamp\r\nConnection: close\r\n\r\n")
		if line, err := bufio.NewReader(c).ReadString('\n'); !strings.HasPrefix(line, "HTTP/1.1 200") {
			t.Fatalf("%q, %v", line, err)
		}
	}
	if sent, bad := stop(); len(bad) > 0 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
}

// TestAHundredProxiesComeBack: the service is killed and started again; all its
// proxies return, no instance is forgotten meanwhile, and no request fails.
func TestAHundredProxiesComeBack(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	ctx, end := context.WithCancel(t.Context())
	var ended []chan error
	defer func() {
		end()
		for _, e := range ended {
			<-e
		}
	}()
	lamp := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "v1") }))
	defer lamp.Close()
	app := strings.TrimPrefix(lamp.URL, "http://")
	for i := range 100 {
		x, err := proxy.New(proxy.Config{ID: fmt.Sprintf("lamp-%03d", i), Server: "https://" + p.addr, Join: service.ReadJoinFile(p.addr), Service: "lamp", Version: "v1", App: app, Drain: 100 * time.Millisecond})
		if err != nil {
			t.Fatal(err)
		}
		e := make(chan error, 1)
		ended = append(ended, e)
		go func() { e <- x.Run(ctx) }()
	}
	everybody := func() bool {
		f, err := p.api.Fleet(t.Context())
		n := 0
		if err == nil {
			for _, m := range f.Proxies {
				if follows(m) {
					n++
				}
			}
		}
		return n == 103
	}
	eventually(t, "everybody", everybody)
	stop := load(t, p.outbound("lamp"), "lamp", "/")
	for range 2 {
		p.service.cmd.Process.Kill()
		eventually(t, "its end", p.service.ended)
		p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
		eventually(t, "everybody again", everybody)
	}
	if sent, bad := stop(); len(bad) > 0 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
}
