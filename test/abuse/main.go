// Command abuse does to a mesh what outsiders and crashes do, and measures what
// becomes of everybody else. Service, gateway, proxies and workloads are processes
// of their own on this machine; it needs bin/nightjar. It ends by itself, and with
// exit code 1 when a figure misses its goal.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nightjar/api/model"
	"nightjar/client"
)

var (
	only  = flag.String("only", "requests stalls crashes floods http2 stores", "what to do")
	count = flag.Int("count", 10_000, "malformed requests of each kind")
)

func main() {
	flag.Parse()
	if flag.Arg(0) == "workload" {
		fmt.Fprintln(os.Stderr, "abuse:", workload(flag.Arg(1)))
		os.Exit(1)
	}
	ok, err := run()
	if err != nil {
		fmt.Fprintln(os.Stderr, "abuse:", err)
	}
	if err != nil || !ok {
		os.Exit(1)
	}
}

// longest bounds a whole run.
const longest = 15 * time.Minute

func run() (ok bool, err error) {
	ctx, stop := context.WithTimeout(context.Background(), longest)
	defer stop()
	t := &table{}
	for _, part := range []struct {
		name string
		do   func(*world, *table) error
	}{{"requests", requests}, {"stalls", stalls}, {"crashes", crashes}, {"floods", floods}, {"http2", http2Floods}, {"stores", stores}} {
		if !strings.Contains(*only, part.name) {
			continue
		}
		w, err := newWorld(ctx)
		if err == nil {
			err = part.do(w, t)
		}
		w.end()
		if err != nil {
			return false, fmt.Errorf("%s: %w", part.name, err)
		}
	}
	fmt.Println()
	t.print()
	return !t.missed, nil
}

// table is what was measured.
type table struct {
	rows   [][4]string
	missed bool
}

// row adds a figure; goal is empty where there is none.
func (t *table) row(what, figure, goal string, isMet bool) {
	verdict := ""
	if goal != "" {
		if verdict = "met"; !isMet {
			verdict, t.missed = "MISSED", true
		}
	}
	t.rows = append(t.rows, [4]string{what, figure, goal, verdict})
	fmt.Printf("%s: %s  %s %s\n", what, figure, goal, verdict)
}

func (t *table) print() {
	rows := append([][4]string{{"WHAT", "FIGURE", "GOAL", ""}}, t.rows...)
	var width [3]int
	for _, r := range rows {
		for i := range width {
			width[i] = max(width[i], len([]rune(r[i])))
		}
	}
	for _, r := range rows {
		for i := range width {
			fmt.Print(r[i], strings.Repeat(" ", width[i]-len([]rune(r[i]))+2))
		}
		fmt.Println(r[3])
	}
}

// workload answers in HTTP/1.1 when it has read the request, after 5 ms.
func workload(listen string) error {
	large := make([]byte, 1<<20)
	return http.ListenAndServe(listen, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		time.Sleep(5 * time.Millisecond)
		if r.URL.Path == "/large" {
			w.Write(large)
		}
		io.WriteString(w, "fine\n")
	}))
}

// world is a mesh of processes.
type world struct {
	ctx    context.Context
	dir    string
	server string // address of the service
	serve  *exec.Cmd
	client *client.Client
	edge   string // address of the gateway
	door   *exec.Cmd
	all    []*exec.Cmd
	tidy   []func() // at the end
}

func newWorld(ctx context.Context) (*world, error) {
	w := &world{ctx: ctx, server: freeAddr(), edge: freeAddr()}
	var err error
	if w.dir, err = os.MkdirTemp("", "nightjar-abuse-"); err != nil {
		return w, err
	}
	if w.client, err = client.New(w.server); err != nil {
		return w, err
	}
	return w, w.startService("data")
}

// startService starts the service on a data directory, and waits for it.
func (w *world) startService(data string, more ...string) (err error) {
	args := append([]string{"serve", "--listen", w.server, "--data", filepath.Join(w.dir, data)}, more...)
	if w.serve, err = w.start("bin/nightjar", args...); err != nil {
		return err
	}
	return w.await("the service", func() bool {
		_, err := w.client.Fleet(w.ctx)
		return err == nil
	})
}

func (w *world) start(name string, args ...string) (*exec.Cmd, error) {
	c := exec.CommandContext(w.ctx, name, args...)
	if err := c.Start(); err != nil {
		return nil, err
	}
	w.all = append(w.all, c)
	return c, nil
}

func (w *world) end() {
	for _, c := range w.all {
		kill(c)
	}
	for _, do := range w.tidy {
		do()
	}
	os.RemoveAll(w.dir)
}

// kill ends a process at once.
func kill(c *exec.Cmd) {
	c.Process.Signal(syscall.SIGKILL)
	c.Wait()
}

func (w *world) await(what string, is func() bool) error {
	for end := time.Now().Add(30 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
		if w.ctx.Err() != nil || time.Now().After(end) {
			return errors.New("timed out waiting for: " + what)
		}
	}
	return nil
}

// startGateway starts the gateway with a limit of file descriptors; 0: no limit of
// its own.
func (w *world) startGateway(descriptors int) (err error) {
	args := []string{"bin/nightjar", "proxy", "--server", w.server, "--gateway", "edge", "--name", "edge-a", "--state", w.dir}
	if descriptors > 0 {
		args = append([]string{"sh", "-c", fmt.Sprintf(`ulimit -n %d; exec "$@"`, descriptors), "sh"}, args...)
	}
	w.door, err = w.start(args[0], args[1:]...)
	return err
}

// instance is a workload with its proxy.
type instance struct{ app, proxy *exec.Cmd }

func (in instance) kill() { kill(in.proxy); kill(in.app) }

// instance starts a workload and its proxy. With a prefix both run by that command,
// and the proxy at that host by other ways to the service.
func (w *world) instance(service, version, site, name string) (in instance, err error) {
	at := freeAddr()
	self, err := os.Executable()
	if err != nil {
		return in, err
	}
	if in.app, err = w.start(self, "workload", at); err != nil {
		return in, err
	}
	in.proxy, err = w.start("bin/nightjar", "proxy", "--server", w.server, "--service", service, "--version", version,
		"--site", site, "--name", name, "--app", at, "--state", w.dir)
	return in, err
}

// publish puts rules in force and waits until this many proxies acknowledge them.
func (w *world) publish(proxies int, text string) error {
	text += fmt.Sprintf("gateways:\n  edge:\n    listen: %q\n    hosts: [\"*\"]\n    routes:\n", w.edge)
	for _, s := range []string{"page", "two", "other", "sites", "alone", "program", "frozen", "far"} {
		if strings.Contains(text, "  "+s+":\n") {
			text += fmt.Sprintf("      - {name: %[1]s, when: {path: /%[1]s/**}, rewrite: {path: /**}, send: %[1]s}\n", s)
		}
	}
	var reached int
	err := w.await("the mesh", func() bool {
		out, err := w.client.Publish(w.ctx, model.PublishRequest{Files: []model.File{{Name: "abuse.yaml", Text: text}}}, nil)
		if err != nil {
			fmt.Fprintln(os.Stderr, "abuse:", err)
		}
		reached = out.Rollout.Acknowledged
		return err == nil && reached >= proxies
	})
	if err != nil {
		return fmt.Errorf("%w: %d proxies follow", err, reached)
	}
	return w.await("the gateway", func() bool {
		c, err := net.DialTimeout("tcp", w.edge, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// guardEvents is how many times a guard acted since the mesh began.
func (w *world) guardEvents() (events []string, err error) {
	a, err := w.client.Activity(w.ctx, model.ActivityFilter{Limit: 200})
	for _, e := range a.Activity {
		if slices.Contains([]string{"breaker-open", "sidelined", "still-sidelined", "unreachable", "down", "spills"}, e.Kind) {
			events = append(events, e.Kind+" "+e.Instance+" "+e.Detail)
		}
	}
	return events, err
}

// explain shows some of the requests that failed.
func (w *world) explain() {
	time.Sleep(time.Second)
	for _, outcome := range []string{"failed", "refused"} {
		list, _ := w.client.Failures(w.ctx, model.RequestFilter{Outcome: outcome}, 5)
		for _, r := range list.Requests {
			fmt.Println("   ", r.Proxy, r.Method, r.Path, r.Status, r.Outcome, r.Reason, r.Detail)
		}
	}
}

func freeAddr() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "127.0.0.1:0"
	}
	defer l.Close()
	return l.Addr().String()
}
