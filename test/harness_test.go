// Package test starts the real binary on loopback and drives it through its
// client, its API and its console. Meshes run with the race detector, except where a
// test is about pages or simulates much. Clients and the tests themselves run
// without it: what drives the browser has races of its own, which would be told of
// every test that happens to run at the same time.
package test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/standin"
	"nightjar/store"
	"nightjar/test/contract"
)

// interrupt asks a process to end.
var interrupt = syscall.SIGTERM

// binary is the program; watched is the same with the race detector, several times
// slower; faulty is one with a fault: see test/bad.
var binary, watched, faulty string

// document is the OpenAPI document of the API.
var document *contract.Contract

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "nightjar-test-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		binary, watched, faulty = filepath.Join(dir, "nightjar"), filepath.Join(dir, "watched", "nightjar"), filepath.Join(dir, "faulty")
		race := []string{"-race", "-gcflags=modernc.org/sqlite/lib=-race=false", "-gcflags=modernc.org/libc=-race=false"}
		if _, err := exec.LookPath("cc"); err != nil { // as the race detector needs; see the Makefile
			race = nil
		}
		of := map[string]string{faulty: "nightjar/test/bad"}
		for out, args := range map[string][]string{binary: nil, watched: race, faulty: nil} {
			args = append([]string{"build", "-trimpath", "-o", out}, args...)
			if said, err := exec.Command("go", append(args, cmp.Or(of[out], "nightjar/cmd/nightjar"))...).CombinedOutput(); err != nil {
				fmt.Fprintf(os.Stderr, "building nightjar: %v\n%s", err, said)
				return 1
			}
		}
		os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
		os.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache")) // not earlier: it is where go build looks too
		text, err := os.ReadFile("../api/openapi.json")
		if err == nil {
			document, err = contract.New(text)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		code := m.Run()
		all := flag.Lookup("test.run").Value.String() == ""
		if unseen := document.Unseen(); all && code == 0 && len(unseen) > 0 {
			fmt.Fprintf(os.Stderr, "no test called these operations with success: %s\n", strings.Join(unseen, ", "))
			return 1
		}
		return code
	}())
}

// patience bounds every wait. It is long because it is only spent on failure.
const patience = 30 * time.Second

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); !ok(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("timed out waiting: %s", what)
		}
	}
}

// bases are the ports that freeBase has given away: tests run side by side.
var bases struct {
	sync.Mutex
	given map[int]bool
}

// freeBase finds a port whose neighbours 80 and 90 ports further are free too,
// below those that the system gives to listeners without a port of their own.
func freeBase(t *testing.T) string {
	t.Helper()
	bases.Lock()
	defer bases.Unlock()
	for range 100 {
		base := 15_000 + 100*rand.IntN(170)
		free := !bases.given[base]
		for _, more := range []int{0, 80, 90} {
			l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(base+more))
			if err != nil {
				free = false
				break
			}
			l.Close()
		}
		if free {
			if bases.given == nil {
				bases.given = map[int]bool{}
			}
			bases.given[base] = true
			return "127.0.0.1:" + strconv.Itoa(base)
		}
	}
	t.Fatal("no free ports")
	return ""
}

// process is a running nightjar.
type process struct {
	t    *testing.T
	cmd  *exec.Cmd
	done chan struct{} // closed when the process is gone
	mu   sync.Mutex
	out  bytes.Buffer
}

func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *process) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

// start runs nightjar and waits until it says ready. It is ended with the test.
func start(t *testing.T, ready string, args ...string) *process {
	t.Helper()
	return launch(t, ready, exec.Command(watched, args...))
}

// launch is start for any command.
func launch(t *testing.T, ready string, cmd *exec.Cmd) *process {
	t.Helper()
	p, args := &process{t: t, cmd: cmd}, cmd.Args
	p.cmd.Stdout, p.cmd.Stderr = p, p
	p.cmd.Dir = ".."
	p.cmd.Env = append(os.Environ(), "NIGHTJAR_STATE="+t.TempDir())
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p.done = make(chan struct{})
	go func() { p.cmd.Wait(); close(p.done) }()
	t.Cleanup(func() {
		p.cmd.Process.Signal(interrupt)
		select {
		case <-p.done:
		case <-time.After(patience):
			p.cmd.Process.Kill()
			t.Errorf("%v did not end when asked", args)
		}
		if strings.Contains(p.said(), "DATA RACE") || strings.Contains(p.said(), "panic:") || t.Failed() {
			t.Errorf("%v said:\n%s", args, p.said())
		}
	})
	eventually(t, fmt.Sprintf("%v says %q", args, ready), func() bool {
		if p.ended() && !strings.Contains(p.said(), ready) {
			t.Fatalf("%v ended:\n%s", args, p.said())
		}
		return strings.Contains(p.said(), ready)
	})
	return p
}

// ended tells whether the process is gone; then its ProcessState may be read.
func (p *process) ended() bool {
	select {
	case <-p.done:
		return true
	default:
		return false
	}
}

// mesh is a running sample mesh or service, with its client.
type mesh struct {
	*process
	t     *testing.T
	addr  string
	web   string // address by which people reach it: every call is held against the document
	api   *client.Client
	door  *contract.Forwarder // at web
	token string              // of an admin named console, by whom tests act
	data  string              // directory of its records; empty: not known
}

// tokens are the access tokens of tests, by the address of the service.
var tokens sync.Map

// tokenFor is an admin's token for a service, which is made by the socket of this machine.
// A service that was started anew on the same records has it already.
func tokenFor(t *testing.T, addr string) string {
	t.Helper()
	ctx, local := context.WithoutCancel(t.Context()), clientOf(t, addr)
	if token, isKnown := tokens.Load(addr); isKnown {
		if c := clientOf(t, addr, client.Token(token.(string))); c != nil {
			if _, err := c.Who(ctx); err == nil {
				return token.(string)
			}
		}
	}
	local.RevokeAccessToken(ctx, "console")
	made, err := local.CreateAccessToken(ctx, model.AccessTokenRequest{Name: "console", Role: "admin"})
	if err != nil {
		t.Fatal(err)
	}
	tokens.Store(addr, made.Token)
	return made.Token
}

func clientOf(t *testing.T, addr string, options ...client.Option) *client.Client {
	t.Helper()
	c, err := client.New(addr, options...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// signedIn has a command call with the token of the test.
func (m *mesh) signedIn(cmd *exec.Cmd) *exec.Cmd {
	cmd.Env = append(os.Environ(), "NIGHTJAR_TOKEN="+m.token)
	return cmd
}

func newMesh(t *testing.T, p *process, addr string) *mesh {
	t.Helper()
	f, err := document.Forward(addr, func(err error) { t.Errorf("contract: %v", err) })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	token := tokenFor(t, addr)
	return &mesh{p, t, addr, f.Address, clientOf(t, f.Address, client.Token(token)), f, token, ""}
}

// startDemo runs the sample mesh. Its rules lie in the records already, with
// longer timeouts, so that a slow machine is not taken for a slow workload.
func startDemo(t *testing.T, args ...string) *mesh {
	t.Helper()
	return demo(t, watched, args...)
}

// startQuickDemo is startDemo without the race detector.
func startQuickDemo(t *testing.T, args ...string) *mesh {
	t.Helper()
	return demo(t, binary, args...)
}

func demo(t *testing.T, program string, args ...string) *mesh {
	t.Helper()
	addr, data := freeBase(t), t.TempDir()
	gateway, outside, err := standin.Ports(addr)
	if err != nil {
		t.Fatal(err)
	}
	files := standin.Mesh{Gateway: gateway, Outside: outside}.Rules()
	text := strings.Replace(files[0].Text, "timeout: 3s", "timeout: 26s", 1) // of sailings
	files[0].Text = regexp.MustCompile(`timeout: \d(s|00ms)`).ReplaceAllString(text, "timeout: 25s")
	st, err := store.Open(data, "test")
	if err != nil {
		t.Fatal(err)
	}
	err = st.Apply(t.Context(), store.AddRevision{Revision: store.Revision{Number: 1, Kind: "publish", Bundle: model.MainBundle, Author: "demo", At: time.Now(), Bundles: store.Bundles{model.MainBundle: files}}})
	if err := errors.Join(err, st.Close()); err != nil {
		t.Fatal(err)
	}
	m := newMesh(t, launch(t, "Five things to try", exec.Command(program, append([]string{"demo", "--listen", addr, "--data", data}, args...)...)), addr)
	m.data = data
	return m
}

// run runs a command of the client.
func (m *mesh) run(args ...string) (stdout, stderr string, code int) {
	m.t.Helper()
	return m.answering("", args...)
}

// answering is run with what somebody types.
func (m *mesh) answering(stdin string, args ...string) (stdout, stderr string, code int) {
	m.t.Helper()
	return runAs(m.t, m.token, stdin, append(args, "--server", m.web)...)
}

func runIn(t *testing.T, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return runAs(t, "", stdin, args...)
}

// runAs runs a command with an access token; empty: without one.
func runAs(t *testing.T, token, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	cmd := exec.CommandContext(ctx, binary, args...)
	if token != "" {
		cmd.Env = append(os.Environ(), "NIGHTJAR_TOKEN="+token)
	}
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Dir = strings.NewReader(stdin), &out, &errs, ".."
	var exit *exec.ExitError
	if err := cmd.Run(); err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", args, err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// must runs a command that is to exit with code, and returns what it printed.
func (m *mesh) must(code int, args ...string) string {
	m.t.Helper()
	out, errs, got := m.run(args...)
	if got != code {
		m.t.Fatalf("nightjar %s: exit %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
	}
	return out + errs
}

// call sends n requests and returns the tally.
func (m *mesh) call(n int, args ...string) model.CallResult {
	m.t.Helper()
	out, errs, code := m.run(append([]string{"call", "-n", strconv.Itoa(n), "-o", "json"}, args...)...)
	var t model.CallResult
	if err := json.Unmarshal([]byte(out), &t); err != nil || code > 1 {
		m.t.Fatalf("call %v: exit %d, %v\n%s%s", args, code, err, out, errs)
	}
	return t
}

// answers writes a tally's versions as v1=170 v2=30.
func answers(t model.CallResult) string {
	var parts []string
	for _, v := range t.Versions {
		if v.Count > 0 {
			parts = append(parts, fmt.Sprintf("%s=%d", v.Version, v.Count))
		}
	}
	return strings.Join(parts, " ")
}

// revision is the number of the revision in force.
func (m *mesh) revision() int {
	m.t.Helper()
	f, err := m.api.Fleet(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	return int(f.Revision)
}

// outbound is where a service's workload would send its calls; empty service:
// the service's own proxy.
func (m *mesh) outbound(service string) string {
	m.t.Helper()
	f, err := m.api.Fleet(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	for _, p := range f.Proxies {
		if p.Service == service && p.Gateway == "" && p.Outbound != "" {
			return p.Outbound
		}
	}
	m.t.Fatalf("no proxy beside %q", service)
	return ""
}

// load sends requests without a pause until stop is called, which returns how
// many were sent and the answers that were not 200.
func load(t *testing.T, proxy, host, path string) (stop func() (sent int, bad []string)) {
	quit, done := make(chan struct{}), make(chan struct{})
	var sent int
	var bad []string
	tr := &http.Transport{}
	go func() {
		defer close(done)
		defer tr.CloseIdleConnections()
		for {
			select {
			case <-quit:
				return
			default:
			}
			req, _ := http.NewRequest("GET", "http://"+proxy+path, nil)
			req.Host = host
			resp, err := (&http.Client{Transport: tr, Timeout: patience}).Do(req)
			sent++
			if err != nil {
				bad = append(bad, err.Error())
				continue
			}
			b, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if resp.StatusCode != 200 {
				bad = append(bad, fmt.Sprintf("%d %s", resp.StatusCode, b))
			}
		}
	}()
	return func() (int, []string) {
		close(quit)
		<-done
		return sent, bad
	}
}
