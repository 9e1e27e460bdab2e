package main

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/test/browser"
	"nightjar/wire"
)

// feed compares the proxy while somebody watches requests by a narrow filter,
// and by none at all, to the same while nobody does.
func feed(b *bench) error {
	t := &target{name: "nightjar", addr: freeAddr()}
	if err := startNightjar(b.ctx, b.spawn, t, b.backend, nil); err != nil {
		return err
	}
	if err := ready(t.addr); err != nil {
		return err
	}
	watch := func(f model.RequestFilter) (end func() uint64) {
		ctx, stop := context.WithCancel(b.ctx)
		var got, lost atomic.Uint64
		done := make(chan struct{})
		began := make(chan struct{})
		var once sync.Once
		go func() {
			defer close(done)
			t.client.Requests(ctx, f, func(l model.FeedLine) bool {
				once.Do(func() { close(began) })
				if l.Request != nil {
					got.Add(1)
				}
				lost.Add(l.Dropped)
				return true
			})
		}()
		<-began
		time.Sleep(200 * time.Millisecond) // until the proxy knows
		return func() uint64 { stop(); <-done; return got.Load() + lost.Load() }
	}
	kinds := []struct {
		name   string
		filter *model.RequestFilter
		rps    []float64
		seen   uint64
	}{{name: "nobody"}, {name: "narrow", filter: &model.RequestFilter{To: host, Header: "x-crew=yes", Outcome: model.OutcomeNotOK}}, {name: "header", filter: &model.RequestFilter{To: host, Header: "x-crew=yes"}}, {name: "everything", filter: &model.RequestFilter{}}}
	fmt.Printf("\nfeed: %d rounds of %d s for each, in turn; %d connections\n", *rounds, *seconds, *conns)
	for round := range *rounds + 1 { // the first is not counted
		for i := range kinds {
			k := &kinds[(i+round)%len(kinds)]
			end := func() uint64 { return 0 }
			if k.filter != nil {
				end = watch(*k.filter)
			}
			rps, _, _, err := wrk(b.ctx, t.addr, *conns)
			k.seen += end()
			if err != nil {
				return fmt.Errorf("%s: %w", k.name, err)
			}
			if round > 0 {
				k.rps = append(k.rps, rps)
			}
		}
	}
	for _, k := range kinds {
		r := ratios(k.rps, kinds[0].rps)
		fmt.Printf("%-10s watched: %6.0f requests/s, %.3f × (%.2f–%.2f) of nobody; %d requests told or counted as left out\n", k.name, median(k.rps), median(r), slices.Min(r), slices.Max(r), k.seen)
	}
	return nil
}

// reported is what one proxy of many tells in a second: fifty series.
func reported(proxy, proxies int, sequence uint64) wire.Delta {
	const services, called = 100, 5
	mine := proxy * services / proxies
	d := wire.Delta{Nonce: fmt.Sprint("bench-", proxy), Sequence: sequence, Holds: max(sequence, 10) - 9, Caller: fmt.Sprint("service-", mine), CallerVersion: "v1"}
	for i := range 50 {
		to := (mine + 1 + i%called) % services
		s := wire.Series{Revision: 1, Service: fmt.Sprint("service-", to), Version: "v1", Instance: fmt.Sprintf("service-%d-%d", to, i/called), Route: "all", RouteOf: fmt.Sprint("service-", to)}
		s.Counts = stats.Counts{OK: 9, Failed: 1, Tries: 10, FirstOK: 9, Sent: 100, Received: 10_240, Status: [6]uint64{2: 9, 5: 1}}
		for k := range 8 {
			s.Counts.Add(&stats.Counts{Latency: []stats.Bin{{Bucket: uint16(700 + (i*7+k*13+int(sequence))%120), N: 1 + uint64(k)/6}}})
		}
		d.Series = append(d.Series, s)
	}
	return d
}

// ingest sends what a thousand proxies tell, each once a second, and measures
// the service.
func ingest(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	server := freeAddr()
	pid, err := b.spawn("bin/nightjar", "serve", "--addr", server, "--data", dir)
	if err != nil {
		return err
	}
	c, err := client.New(server)
	if err != nil {
		return err
	}
	for range 100 {
		if _, err = c.Mesh(b.ctx, 0); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	const proxies, length = 1000, 60
	fmt.Printf("\ningest: %d proxies tell of 50 series each, every second for %d s\n", proxies, length)
	ctx, stop := context.WithTimeout(b.ctx, length*time.Second)
	defer stop()
	transport := &http.Transport{MaxIdleConnsPerHost: proxies}
	defer transport.CloseIdleConnections()
	post := http.Client{Transport: transport, Timeout: 10 * time.Second}
	var all sync.WaitGroup
	var sent, bad atomic.Int64
	for i := range proxies {
		all.Go(func() {
			time.Sleep(time.Duration(i) * time.Second / proxies)
			t := time.NewTicker(time.Second)
			defer t.Stop()
			for seq := uint64(1); ; seq++ {
				body, _ := json.Marshal(reported(i, proxies, seq))
				resp, err := post.Post("http://"+server+wire.Prefix+fmt.Sprint("bench-", i)+"/telemetry", "application/json", bytes.NewReader(body))
				if sent.Add(1); err != nil {
					bad.Add(1)
				} else {
					if resp.StatusCode != http.StatusOK {
						bad.Add(1)
					}
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
				select {
				case <-ctx.Done():
					return
				case <-t.C:
				}
			}
		})
	}
	time.Sleep(10 * time.Second) // until it runs evenly
	begun, before := time.Now(), processorTime(pid)
	time.Sleep(30 * time.Second)
	cpu := (processorTime(pid) - before).Seconds() / time.Since(begun).Seconds()
	var views []float64
	for range 15 {
		time.Sleep(time.Second)
		at := time.Now()
		if _, err := c.Mesh(b.ctx, 10); err != nil {
			return err
		}
		views = append(views, float64(time.Since(at).Microseconds())/1000)
	}
	stop()
	all.Wait()
	fmt.Printf("the service used %.2f of a processor and %.0f MiB; %d of %d were not taken; the whole mesh by its API: %s\n", cpu, memory(pid), bad.Load(), sent.Load(), spread(views))

	// An hour of it, as fast as the memory takes it.
	s, now := telemetry.New(), time.Now()
	for second := range 3600 {
		for i := range 100 { // each stands for ten proxies of one service
			d := reported(i, 100, uint64(second+1))
			s.Count(&d, now.Add(time.Duration(second)*time.Second))
		}
		s.Tidy(now.Add(time.Duration(second) * time.Second))
		if second%10 == 0 {
			s.Written(s.Take())
		}
		if second%900 == 899 {
			fmt.Printf("5,000 series after %2d minutes: %4.0f MiB\n", second/60+1, memory(os.Getpid()))
		}
	}
	active, over := s.State()
	fmt.Printf("%d series, %d requests without names\n", active, over)
	return nil
}

// rollups runs the sample mesh for some minutes and works out what fourteen
// days of it take on disk.
func rollups(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	addr := freeAddr()
	if _, err := b.spawn("bin/nightjar", "demo", "--quiet", "--addr", addr, "--data", dir); err != nil {
		return err
	}
	const length = 4 * time.Minute
	fmt.Printf("\nroll-ups: the sample mesh for %s\n", length)
	select {
	case <-time.After(length):
	case <-b.ctx.Done():
		return b.ctx.Err()
	}
	b.end()
	st, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer st.Close()
	minutes := map[int64][][]byte{}
	var fine, slots int
	size := func(p []byte) int {
		var out bytes.Buffer
		w, _ := flate.NewWriter(&out, flate.DefaultCompression)
		w.Write(p)
		w.Close()
		return out.Len()
	}
	err = st.Telemetry(b.ctx, 0, time.Now().Unix(), func(s telemetry.Slot) error {
		slots++
		fine += size(s.Sealed)
		minutes[s.At/60] = append(minutes[s.At/60], s.Sealed)
		return nil
	})
	if err != nil {
		return err
	}
	var coarse []float64
	for _, parts := range minutes {
		sum, err := telemetry.Merge(parts)
		if err != nil {
			return err
		}
		coarse = append(coarse, float64(size(sum)))
	}
	slices.Sort(coarse)
	most := coarse[len(coarse)-1] // a whole one
	perFine := float64(fine) / float64(slots)
	days := (most*(store.CoarseTime-store.FineTime)/60 + perFine*store.FineTime/10*1.2) * 1.1 / (1 << 20) // pages and index
	fmt.Printf("ten seconds take %.0f bytes, a minute %.0f: fourteen days take %.0f MiB\n", perFine, most, days)
	return nil
}

// consolePart measures the mesh page with 200 services.
func consolePart(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	addr := freeAddr()
	server := exec.CommandContext(b.ctx, "bin/nightjar", "serve", "--addr", addr, "--data", filepath.Join(dir, "data"))
	if err := server.Start(); err != nil {
		return err
	}
	b.children = append(b.children, server)
	c, err := client.New(addr)
	if err != nil {
		return err
	}
	const services = 200
	var text bytes.Buffer
	text.WriteString("services:\n")
	for i := range services {
		fmt.Fprintf(&text, "  service-%d: {versions: [v1, v2], owner: team-%d, routes: [{name: all, send: {v1: 90, v2: 10}}]}\n", i, i%12)
	}
	for range 100 {
		if _, err = c.Publish(b.ctx, model.PublishRequest{Files: []model.File{{Name: "many.yaml", Text: text.String()}}}, nil); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(b.ctx)
	var telling sync.WaitGroup
	defer func() { stop(); telling.Wait() }()
	send := func(method, path string, v any) {
		body, _ := json.Marshal(v)
		req, _ := http.NewRequestWithContext(ctx, method, "http://"+addr+wire.Prefix+path, bytes.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		if resp, err := http.DefaultClient.Do(req); err == nil {
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}
	telling.Go(func() {
		for seq := uint64(1); ctx.Err() == nil; seq++ {
			begun := time.Now()
			for i := range services {
				id := fmt.Sprint("bench-", i)
				if seq%4 == 1 {
					send(http.MethodPut, id, wire.Registration{ID: id, Nonce: id, Service: fmt.Sprint("service-", i), Version: "v1", Site: []string{"north", "south"}[i%2], Inbound: fmt.Sprintf("127.0.0.1:%d", 20_000+i)})
				}
				d := wire.Delta{Nonce: id, Sequence: seq, Holds: 1, Caller: fmt.Sprint("service-", i)}
				for k := range 4 {
					if to := i*3 + k + 1; to < services {
						d.Series = append(d.Series, wire.Series{Revision: 1, Service: fmt.Sprint("service-", to), Version: "v1", Instance: fmt.Sprint("bench-", to), RouteOf: fmt.Sprint("service-", to), Route: "all",
							Counts: stats.Counts{OK: 20 + seq%7, Failed: uint64(k) * (seq % 2), Tries: 20, Latency: []stats.Bin{{Bucket: uint16(800 + k), N: 20 + seq%7}}}})
					}
				}
				send(http.MethodPost, id+"/telemetry", d)
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Until(begun.Add(time.Second))):
			}
		}
	})
	tab, end, err := browser.Open(ctx, filepath.Join(dir, "profile"))
	if err != nil {
		return err
	}
	defer end()
	time.Sleep(5 * time.Second)
	fmt.Printf("\nconsole: %d services that call each other\n", services)
	for _, page := range []struct{ path, what, there string }{{"/?by=owner", "cards", "document.querySelectorAll('.card').length >= 12"}, {"/?by=service", "200 cards", "document.querySelectorAll('.card').length >= 200"},
		{"/services/service-3", "ladder", "document.querySelector('[data-test=route-all]')"}, {"/requests", "filters", "document.querySelector('[data-test=pause]')"}, {"/requests", "table", "document.querySelector('.MuiDataGrid-root')"},
		{"/traces", "filters", "document.querySelector('[data-test=grid-traces]')"}, {"/traces", "table", "document.querySelector('.MuiDataGrid-root')"}} {
		var opened []float64
		for range 5 {
			if err := chromedp.Do(tab, chromedp.Navigate("about:blank")); err != nil {
				return err
			}
			begun := time.Now()
			if err := chromedp.Do(tab, chromedp.Navigate("http://"+addr+page.path)); err != nil {
				return err
			}
			for {
				ok, err := chromedp.Run(tab, chromedp.Evaluate[bool]("!!("+page.there+")"))
				if err != nil {
					return err
				}
				if ok {
					break
				}
				time.Sleep(5 * time.Millisecond)
			}
			opened = append(opened, float64(time.Since(begun).Milliseconds()))
		}
		fmt.Printf("%-22s %-9s are there after %.0f ms (median of 5, %.0f to %.0f)\n", page.path, page.what, median(opened), slices.Min(opened), slices.Max(opened))
	}
	for _, path := range []string{"/?by=owner", "/?by=service"} {
		if err := chromedp.Do(tab, chromedp.Navigate("http://"+addr+path)); err != nil {
			return err
		}
		time.Sleep(4 * time.Second)
		const frames = `window.frames_ = []; window.last_ = performance.now(); (function next(now) { frames_.push(now - last_); last_ = now; requestAnimationFrame(next); })(last_); true`
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](frames)); err != nil {
			return err
		}
		time.Sleep(10 * time.Second)
		got, err := chromedp.Run(tab, chromedp.Evaluate[[]float64]("frames_"))
		if err != nil {
			return err
		}
		slices.Sort(got)
		fmt.Printf("%-22s frames over 10 s: %d, median %.1f ms, 95%% within %.1f ms, longest %.0f ms\n", path, len(got), median(got), got[len(got)*95/100], got[len(got)-1])
	}
	behind, err := chromedp.Run(tab, chromedp.Evaluate[float64](`new Promise((done) => { const all = []; const s = new EventSource("/api/v1/live"); s.addEventListener("mesh", (e) => { all.push(Date.now() - 1000 * JSON.parse(e.data).end); if (all.length === 10) { s.close(); done(Math.max(...all)); } }); })`, chromedp.EvalAwaitPromise))
	if err != nil {
		return err
	}
	fmt.Printf("the newest second on the page is over for %.0f ms at most (10 events)\n", behind)
	return nil
}
