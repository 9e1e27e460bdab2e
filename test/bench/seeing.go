package main

import (
	"bytes"
	"compress/flate"
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
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
	pid, err := b.spawn("bin/nightjar", "serve", "--listen", server, "--data", dir)
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
	ctx, stop := context.WithCancel(b.ctx)
	defer stop()
	var r reporters
	if err := r.start(ctx, server, proxies); err != nil {
		return err
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
	r.all.Wait()
	fmt.Printf("the service used %.2f of a processor and %.0f MiB; %d of %d were not taken; the whole mesh by its API: %s\n",
		cpu, memory(pid), r.bad.Load(), r.sent.Load(), spread(views))
	memoryOfAnHour()
	return nil
}

// reporters are proxies that report, and count what was not taken.
type reporters struct {
	all       sync.WaitGroup
	sent, bad atomic.Int64
}

// start lets proxies join and report once a second, spread over the second, until ctx is
// done. It returns when all have joined.
func (r *reporters) start(ctx context.Context, server string, proxies int) error {
	members := make([]*member, proxies)
	var joining sync.WaitGroup
	turns := make(chan struct{}, 8)
	var failed atomic.Pointer[error]
	for i := range members {
		joining.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			d := reported(i, proxies, 1)
			m, err := joinAs(ctx, server, fmt.Sprint("bench-", i), d.Caller, d.Nonce)
			if err != nil {
				failed.Store(&err)
			}
			members[i] = m
		})
	}
	joining.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	for i, m := range members {
		r.all.Go(func() {
			time.Sleep(time.Duration(i) * time.Second / time.Duration(proxies))
			t := time.NewTicker(time.Second)
			defer t.Stop()
			for seq := uint64(1); ; seq++ {
				r.sent.Add(1)
				if m.call(ctx, http.MethodPost, m.base+"/telemetry", reported(i, proxies, seq), nil) != nil && ctx.Err() == nil {
					r.bad.Add(1)
				}
				select {
				case <-ctx.Done():
					return
				case <-t.C:
				}
			}
		})
	}
	return nil
}

// memoryOfAnHour prints what an hour of the same reports takes in memory, counted as
// fast as possible.
func memoryOfAnHour() {
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
	if _, err := b.spawn("bin/nightjar", "demo", "--quiet", "--listen", addr, "--data", dir); err != nil {
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
	st, err := store.Open(dir, "test")
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
