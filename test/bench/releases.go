package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"nightjar/api/model"
	"nightjar/control"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/wire"
)

const (
	manyReleases = 1000
	stageTime    = 15 * time.Second
)

// releasesPart runs a thousand releases at once, and measures how late their
// steps are: from one stage being in force to the next one being so, above the
// time that a stage takes.
func releasesPart(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	st, err := store.Open(dir, "test")
	if err != nil {
		return err
	}
	defer st.Close()
	c, err := control.New(b.ctx, control.Config{Store: st, Program: "bench"})
	if err != nil {
		return err
	}
	_, err = c.Revisions.Publish(b.ctx, revisions.Publication{
		Bundle: model.MainBundle,
		Files:  []rules.File{{Name: "many.yaml", Text: releasesText()}},
		Author: "bench",
	})
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(b.ctx)
	var background sync.WaitGroup
	defer background.Wait()
	defer stop()
	background.Go(func() { c.Run(ctx) })
	background.Go(func() { reportReleases(ctx, c) })
	begun := time.Now()
	for i := range manyReleases {
		q := model.StartReleaseRequest{Name: fmt.Sprint("r", i)}
		if _, err := c.Releases.Start(ctx, q); err != nil {
			return err
		}
	}
	fmt.Printf("\nreleases: %d at once, started within %s; three stages of %s, judged every 5 s\n",
		manyReleases, time.Since(begun).Round(100*time.Millisecond), stageTime)
	cpu := usedCPU()
	if err := awaitReleases(ctx, c); err != nil {
		return err
	}
	took := time.Since(begun)
	late, revisions, err := lateSteps(ctx, c)
	if err != nil {
		return err
	}
	fmt.Printf("%d steps late by %.0f ms (p50), %.0f (p99), %.0f (worst); %d revisions in %s, %.2f of a processor\n",
		len(late), late[len(late)/2], late[len(late)*99/100], late[len(late)-1],
		revisions, took.Round(time.Second), (usedCPU()-cpu)/took.Seconds())
	return nil
}

// releasesText is rules with a thousand services, and a release of each.
func releasesText() string {
	var text strings.Builder
	text.WriteString("services:\n")
	for i := range manyReleases {
		fmt.Fprintf(&text, "  s%d: {versions: [v1, v2], routes: [{name: all, send: v1}], instances: ["+
			"{at: \"http://127.0.0.1:1\", version: v1}, {at: \"http://127.0.0.1:2\", version: v2}]}\n", i)
	}
	text.WriteString("releases:\n")
	for i := range manyReleases {
		fmt.Fprintf(&text, "  r%d: {service: s%d, from: v1, to: v2, stages: [10%%, 50%%, 90%%], each: %s, "+
			"judge: {every: 5s, least: 20}}\n", i, i, stageTime)
	}
	return text.String()
}

// reportReleases reports as ten proxies do, each of a hundred services every second.
func reportReleases(ctx context.Context, c *control.Control) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for n := uint64(0); ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		d := wire.Delta{Nonce: fmt.Sprint("p", n%10), Sequence: n/10 + 1, Holds: 1, Caller: "kiosk"}
		revision := c.Revisions.Current().Revision.Number
		for i := n % 10; i < manyReleases; i += 10 {
			for v, count := range map[string]uint64{"v1": 40, "v2": 20} {
				s := fmt.Sprint("s", i)
				latency := []stats.Bin{{Bucket: 300, N: count}}
				d.Series = append(d.Series, wire.Series{
					Revision: revision,
					Service:  s,
					Version:  v,
					RouteOf:  s,
					Route:    "all",
					Counts:   stats.Counts{OK: count, Tries: count, FirstOK: count, Latency: latency},
				})
			}
		}
		c.Count(d.Nonce, d)
	}
}

// awaitReleases waits until no release is running.
func awaitReleases(ctx context.Context, c *control.Control) error {
	for end := time.Now().Add(3*stageTime + time.Minute); ; time.Sleep(time.Second) {
		list, err := c.Releases.List(ctx, 0, manyReleases)
		if err != nil {
			return err
		}
		running := 0
		for _, r := range list.Releases {
			if !r.IsOver() {
				running++
			}
		}
		if running == 0 {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("%d releases are still running", running)
		}
	}
}

// lateSteps is by how many milliseconds each step came late, in order, and the
// newest revision of a release.
func lateSteps(ctx context.Context, c *control.Control) (late []float64, newest uint, err error) {
	for i := range manyReleases {
		r, err := c.Releases.Get(ctx, fmt.Sprint("r", i))
		if err != nil {
			return nil, 0, err
		}
		if r.State != model.ReleaseCompleted {
			return nil, 0, fmt.Errorf("release %s is %s: %s", r.Name, r.State, r.Why)
		}
		var last time.Time
		for _, e := range r.Events {
			if e.Kind == "in-force" {
				if !last.IsZero() {
					late = append(late, (e.At.Sub(last)-stageTime).Seconds()*1e3)
				}
				last = e.At
			}
		}
		newest = max(newest, r.Revision)
	}
	slices.Sort(late)
	return late, newest, nil
}

// usedCPU is how many seconds of a processor this process has used.
func usedCPU() float64 {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9
}
