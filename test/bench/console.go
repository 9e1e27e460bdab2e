package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/core/stats"
	"nightjar/test/browser"
	"nightjar/wire"
)

// maxReporting bounds the services of a mesh whose proxies report requests.
const maxReporting = 200

// consolePart measures the console with 40, 200 and 5,000 services.
func consolePart(b *bench) error {
	for _, services := range []int{40, 200, 5000} {
		if err := consoleOf(b, services); err != nil {
			return err
		}
	}
	return nil
}

// consoleOf measures the console with a number of services.
func consoleOf(b *bench, services int) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	addr := freeAddr()
	server := exec.CommandContext(b.ctx, "bin/nightjar", "serve", "--listen", addr, "--data", filepath.Join(dir, "data"))
	if err := server.Start(); err != nil {
		return err
	}
	b.children = append(b.children, server)
	defer func() { server.Process.Kill(); server.Wait() }()
	if err := publishServices(b.ctx, addr, services); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(b.ctx)
	var reporting sync.WaitGroup
	defer func() { stop(); reporting.Wait() }()
	busy := min(services, maxReporting)
	reporting.Go(func() { reportServices(ctx, addr, busy) })
	tab, end, err := browser.Open(ctx, filepath.Join(dir, "profile"))
	if err != nil {
		return err
	}
	defer end()
	if err := signIn(b.ctx, tab, addr); err != nil {
		return err
	}
	time.Sleep(5 * time.Second)
	fmt.Printf("\nconsole: %d services, of which %d call each other\n", services, busy)
	for _, p := range consolePages {
		if p.most > 0 && services > p.most {
			continue
		}
		if err := measureOpening(tab, addr, p, busy); err != nil {
			return err
		}
	}
	for _, path := range []string{"/?by=owner", "/?by=service", "/services"} {
		if err := measureFrames(tab, addr, path); err != nil {
			return err
		}
	}
	return measureDelay(tab)
}

// signIn signs the browser in.
func signIn(ctx, tab context.Context, addr string) error {
	c, err := client.New(addr)
	if err != nil {
		return err
	}
	link, _, err := c.Console(ctx, 0)
	if err != nil {
		return err
	}
	return browser.SignIn(tab, link)
}

// publishServices publishes the services, as soon as the service answers.
func publishServices(ctx context.Context, addr string, services int) error {
	c, err := client.New(addr)
	if err != nil {
		return err
	}
	var text bytes.Buffer
	text.WriteString("services:\n")
	for i := range services {
		fmt.Fprintf(&text, "  service-%d: {versions: [v1, v2], owner: team-%d, "+
			"routes: [{name: all, send: {v1: 90, v2: 10}}]}\n", i, i%12)
	}
	q := model.PublishRequest{Files: []model.File{{Name: "many.yaml", Text: text.String()}}}
	for range 100 {
		if _, err = c.Publish(ctx, q, nil); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

// reportServices registers a proxy for each service, and reports its requests every
// second until ctx is done.
func reportServices(ctx context.Context, addr string, services int) {
	send := func(method, path string, v any) {
		body, _ := json.Marshal(v)
		req, _ := http.NewRequestWithContext(ctx, method, "http://"+addr+wire.Prefix+path, bytes.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		if resp, err := http.DefaultClient.Do(req); err == nil {
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}
	for seq := uint64(1); ctx.Err() == nil; seq++ {
		begun := time.Now()
		for i := range services {
			id := fmt.Sprint("bench-", i)
			if seq%4 == 1 {
				send(http.MethodPut, id, wire.Registration{
					ID:      id,
					Nonce:   id,
					Service: fmt.Sprint("service-", i),
					Version: "v1",
					Site:    []string{"north", "south"}[i%2],
					Inbound: fmt.Sprintf("127.0.0.1:%d", 20_000+i),
				})
			}
			send(http.MethodPost, id+"/telemetry", callsOf(i, services, seq))
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Until(begun.Add(time.Second))):
		}
	}
}

// callsOf is a report of the calls of one service to up to four others.
func callsOf(i, services int, seq uint64) wire.Delta {
	d := wire.Delta{Nonce: fmt.Sprint("bench-", i), Sequence: seq, Holds: 1, Caller: fmt.Sprint("service-", i)}
	for k := range 4 {
		to := i*3 + k + 1
		if to >= services {
			break
		}
		name := fmt.Sprint("service-", to)
		counts := stats.Counts{OK: 20 + seq%7, Failed: uint64(k) * (seq % 2), Tries: 20}
		counts.Latency = []stats.Bin{{Bucket: uint16(800 + k), N: 20 + seq%7}}
		d.Series = append(d.Series, wire.Series{
			Revision: 1,
			Service:  name,
			Version:  "v1",
			Instance: fmt.Sprint("bench-", to),
			RouteOf:  name,
			Route:    "all",
			Counts:   counts,
		})
	}
	return d
}

// consolePage is a page with a condition that holds when it is there.
type consolePage struct {
	path, what, there string
	most              int // services with which it is measured; 0: any number
}

var consolePages = []consolePage{
	{"/?by=owner", "cards", "document.querySelectorAll('.card').length >= 12", 0},
	{"/?by=service", "a card for each service", "document.querySelectorAll('.card').length >= %d", maxReporting},
	{"/services", "rows", "document.querySelector('[data-test=table-services] [role=row][data-id]')", 0},
	{"/services/service-3?tab=routes", "ladder", "document.querySelector('[data-test=route-all]')", 0},
	{"/services/service-3?tab=settings", "settings", "document.querySelector('[data-test=set-retry]')", 0},
	{"/requests", "table", "document.querySelector('[data-test=table-requests] .MuiDataGrid-root')", 0},
	{"/traces", "table", "document.querySelector('[data-test=table-traces] .MuiDataGrid-root')", 0},
	{"/rules", "editor", "document.querySelector('.cm-line')", 0},
	{"/effects", "table", "document.querySelector('main .MuiDataGrid-root')", 0},
	{"/forecast", "form", "document.querySelector('[data-test=forecast]')", 0},
	{"/access", "matrix", "document.querySelector('main [role=grid], main table')", 0},
	{"/fleet", "rows", "document.querySelector('main [role=row][data-id]')", 0},
	{"/activity", "rows", "document.querySelector('main [role=row][data-id]')", 0},
}

// measureOpening prints how long a page takes to be there.
func measureOpening(tab context.Context, addr string, p consolePage, services int) error {
	there := p.there
	if strings.Contains(there, "%d") {
		there = fmt.Sprintf(there, services)
	}
	const patience = 20 * time.Second
	var painted, opened []float64
	for range 5 {
		if err := chromedp.Do(tab, chromedp.Navigate("about:blank")); err != nil {
			return err
		}
		begun := time.Now()
		if err := chromedp.Do(tab, chromedp.Navigate("http://"+addr+p.path)); err != nil {
			return err
		}
		for {
			ok, err := chromedp.Run(tab, chromedp.Evaluate[bool]("!!("+there+")"))
			if err != nil {
				return err
			}
			if ok {
				break
			}
			if time.Since(begun) > patience {
				fmt.Printf("%-34s %s are not there after %v\n", p.path, p.what, patience)
				return nil
			}
			time.Sleep(5 * time.Millisecond)
		}
		opened = append(opened, float64(time.Since(begun).Milliseconds()))
		const paint = "performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0"
		first, err := chromedp.Run(tab, chromedp.Evaluate[float64](paint))
		if err != nil {
			return err
		}
		painted = append(painted, first)
	}
	fmt.Printf("%-34s first paint after %3.0f ms, %s after %.0f ms (median of 5, %.0f to %.0f)\n",
		p.path, median(painted), p.what, median(opened), slices.Min(opened), slices.Max(opened))
	return nil
}

// busyTime is the processor time of the page's main thread since it was opened, in seconds.
func busyTime(tab context.Context) (float64, error) {
	if _, err := chromedp.Call(tab, performance.Enable, performance.EnableParams{TimeDomain: performance.EnableTimeDomainThreadTicks}); err != nil {
		return 0, err
	}
	got, err := chromedp.Call(tab, performance.GetMetrics, cdp.Empty{})
	if err != nil {
		return 0, err
	}
	for _, m := range got.Metrics {
		if m.Name == "TaskDuration" {
			return m.Value, nil
		}
	}
	return 0, errors.New("the browser does not measure TaskDuration")
}

// measureFrames prints how smoothly a page is drawn while its figures change, and how
// long the page is busy with each second of figures.
func measureFrames(tab context.Context, addr, path string) error {
	for _, url := range []string{"about:blank", "http://" + addr + path} {
		if err := chromedp.Do(tab, chromedp.Navigate(url)); err != nil {
			return err
		}
	}
	time.Sleep(4 * time.Second)
	const seconds = 10
	before, err := busyTime(tab)
	if err != nil {
		return err
	}
	time.Sleep(seconds * time.Second)
	after, err := busyTime(tab)
	if err != nil {
		return err
	}
	const record = `window.frames_ = []; window.last_ = performance.now();
(function next(now) { frames_.push(now - last_); last_ = now; requestAnimationFrame(next); })(last_); true`
	if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](record)); err != nil {
		return err
	}
	time.Sleep(seconds * time.Second)
	got, err := chromedp.Run(tab, chromedp.Evaluate[[]float64]("frames_"))
	if err != nil {
		return err
	}
	slices.Sort(got)
	fmt.Printf("%-34s busy for %.1f ms of a second; frames over 10 s: %d, median %.1f ms, 95%% within %.1f ms, longest %.0f ms\n",
		path, 1000*(after-before)/seconds, len(got), median(got), got[len(got)*95/100], got[len(got)-1])
	return nil
}

// measureDelay prints how old the newest second on the page is.
func measureDelay(tab context.Context) error {
	const listen = `new Promise((done) => {
  const all = [], s = new EventSource("/api/v1/live");
  s.addEventListener("mesh", (e) => {
    all.push(Date.now() - 1000 * JSON.parse(e.data).end);
    if (all.length === 10) { s.close(); done(Math.max(...all)); }
  });
})`
	delay, err := chromedp.Run(tab, chromedp.Evaluate[float64](listen, chromedp.EvalAwaitPromise))
	if err != nil {
		return err
	}
	fmt.Printf("the newest second on the page is over for %.0f ms at most (10 events)\n", delay)
	return nil
}
