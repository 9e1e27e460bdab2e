package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/control/retention"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	backupBytes   = 1 << 30 // of the database that is backed up
	publishEvery  = 20 * time.Millisecond
	quietTime     = 10 * time.Second
	yearDays      = 450 // until nothing grows any more: longer than anything is kept
	publishesADay = 20
	releasesADay  = 3
	trialsADay    = 10
	stepsARelease = 6
	judgesARun    = 200
	entriesADay   = 200
)

// records measures what a backup costs those who publish meanwhile, and what records come
// to when each kind has been kept for as long as it is.
func records(b *bench) error {
	if err := backupBesidePublishes(b); err != nil {
		return err
	}
	return yearOfRecords(b)
}

// publisher stores revisions, one after the other.
type publisher struct {
	st     *store.Store
	number uint
}

func (p *publisher) add(ctx context.Context, text string) error {
	p.number++
	return p.st.Apply(ctx, store.AddRevision{Revision: store.Revision{
		Number: p.number, Kind: "publish", Author: "bench", At: time.Now(),
		Bundles: store.Bundles{model.MainBundle: {{Name: "rules.yaml", Text: text}}},
	}})
}

// fill stores so many bytes of text that cannot be compressed.
func (p *publisher) fill(ctx context.Context, bytes int) error {
	noise := make([]byte, 2<<20)
	for written := 0; written < bytes; written += 2 * len(noise) { // hexadecimal text
		rand.Read(noise)
		if err := p.add(ctx, fmt.Sprintf("%x", noise)); err != nil {
			return err
		}
	}
	return nil
}

// publish stores small revisions at a steady pace until done says so, or for quietTime
// without it, and returns how long each took, in milliseconds.
func (p *publisher) publish(ctx context.Context, done <-chan error) (took []float64, err error) {
	t := time.NewTicker(publishEvery)
	defer t.Stop()
	end := time.After(quietTime)
	if done != nil {
		end = nil
	}
	for {
		select {
		case <-end:
			return took, nil
		case err := <-done:
			return took, err
		case <-t.C:
			begun := time.Now()
			if err := p.add(ctx, "services: {s: {versions: [v1]}}"); err != nil {
				return took, err
			}
			took = append(took, float64(time.Since(begun).Microseconds())/1000)
		}
	}
}

// backupBesidePublishes publishes at a steady pace, first alone and then beside a backup of
// a gigabyte by another process.
func backupBesidePublishes(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	st, err := store.Open(data, "bench")
	if err != nil {
		return err
	}
	defer st.Close()
	p := &publisher{st: st}
	if err := p.fill(b.ctx, backupBytes); err != nil {
		return err
	}
	alone, err := p.publish(b.ctx, nil)
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	begun := time.Now()
	go func() {
		out, err := exec.CommandContext(b.ctx, "bin/nightjar", "backup", filepath.Join(dir, "backup.tar"), "--data", data).
			CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
		done <- err
	}()
	beside, err := p.publish(b.ctx, done)
	if err != nil {
		return err
	}
	took := time.Since(begun)
	info, err := os.Stat(filepath.Join(dir, "backup.tar"))
	if err != nil {
		return err
	}
	quantiles := func(ms []float64) string {
		slices.Sort(ms)
		at := func(q float64) float64 { return ms[min(int(q*float64(len(ms))), len(ms)-1)] }
		return fmt.Sprintf("median %.1f, p99 %.1f, slowest %.1f ms of %d", at(0.5), at(0.99), ms[len(ms)-1], len(ms))
	}
	fmt.Printf(
		"\nrecords: a backup of %d MiB took %s\nstoring a revision alone:         %s\nstoring one beside the backup:    %s\n",
		info.Size()>>20,
		took.Round(100*time.Millisecond),
		quantiles(alone),
		quantiles(beside),
	)
	return nil
}

// samples are records as the sample mesh makes them.
type samples struct {
	text          []rules.File
	effect, trial any
}

func sampleRecords(b *bench) (s samples, err error) {
	addr := freeAddr()
	if _, err := b.spawn("bin/nightjar", "demo", "--quiet", "--listen", addr); err != nil {
		return s, err
	}
	defer b.end()
	c, err := client.New(addr)
	if err != nil {
		return s, err
	}
	ctx, stop := context.WithTimeout(b.ctx, 2*time.Minute)
	defer stop()
	for {
		if m, err := c.Mesh(ctx, 0); err == nil && m.Revision.Acknowledged >= 12 {
			break
		}
		if ctx.Err() != nil {
			return s, ctx.Err()
		}
		time.Sleep(100 * time.Millisecond)
	}
	rev, err := c.Revision(ctx, 0)
	if err != nil {
		return s, err
	}
	for _, f := range rev.Bundles[model.MainBundle] {
		s.text = append(s.text, rules.File(f))
	}
	t, err := c.StartTrial(ctx, model.TrialRequest{Name: "morning-rush", For: "5s"})
	if err != nil {
		return s, err
	}
	for t.State == model.TrialRunning && ctx.Err() == nil {
		time.Sleep(200 * time.Millisecond)
		if t, err = c.Trial(ctx, t.Number); err != nil {
			return s, err
		}
	}
	s.trial = t
	e, err := c.Effect(ctx, model.EffectQuery{At: time.Now().Add(-10 * time.Second).Unix(), Window: 10, Settle: 0})
	s.effect = e
	return s, err
}

// yearOfRecords adds days of a busy sample mesh, and lets old records go each week.
func yearOfRecords(b *bench) error {
	one, err := sampleRecords(b)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	st, err := store.Open(dir, "bench")
	if err != nil {
		return err
	}
	defer st.Close()
	judgement, _ := json.Marshal(map[string]string{"filler": fmt.Sprintf("%x", make([]byte, 600))})
	now := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	keep := retention.Retention{
		Records: st,
		Archive: filepath.Join(dir, "archive"),
		Now:     func() time.Time { return now },
	}
	n := struct{ revision, release, trial uint }{}
	for day := range yearDays {
		now = now.AddDate(0, 0, 1)
		var changes []store.Change
		revise := func(r store.Revision) {
			n.revision++
			r.Number, r.Author, r.At = n.revision, "mate", now
			changes = append(
				changes,
				store.AddRevision{Revision: r},
				store.SaveEffect{
					Revision: n.revision,
					Summary: map[string]any{
						"revision": n.revision,
						"verdict":  "worse",
						"worst":    "version sailings/v2",
					},
					Effect: one.effect,
				},
			)
		}
		for range publishesADay {
			revise(store.Revision{Kind: "publish", Bundles: store.Bundles{model.MainBundle: one.text}})
		}
		base := n.revision
		for range releasesADay {
			n.release++
			changes = append(
				changes,
				store.SaveRelease{
					Release: store.Release{Number: n.release, Name: "r", IsOver: true, Began: now},
					Run:     string(judgement),
				},
			)
			for range stepsARelease {
				revise(store.Revision{Kind: "release", Base: base})
				changes = append(
					changes,
					store.AddOverlay{
						Overlay: store.Overlay{Release: n.release, Revision: n.revision, Text: string(judgement)},
					},
					store.AddNotices{
						{
							Release: n.release,
							URL:     "http://127.0.0.1:9",
							Event:   string(judgement),
							Due:     now,
							State:   store.NoticeDelivered,
						},
					},
				)
			}
			list := make([]any, judgesARun)
			for i := range list {
				list[i] = json.RawMessage(judgement)
			}
			changes = append(
				changes,
				store.AddJudgements{Release: n.release, Judgements: list},
				store.AddReleaseEvents{Release: n.release, Events: list[:2*stepsARelease]},
			)
		}
		for range trialsADay {
			n.trial++
			changes = append(
				changes,
				store.AddTrial{Trial: store.Trial{Number: n.trial, Name: "morning-rush", State: "met", Began: now}},
				store.EndTrial{
					Trial:   store.Trial{Number: n.trial, Name: "morning-rush", State: "met", Began: now, Ended: now},
					Summary: map[string]int{"n": 1},
					Result:  one.trial,
				},
			)
		}
		entries := make(store.AddActivity, entriesADay)
		for i := range entries {
			entries[i] = store.Activity{
				At:       now,
				Who:      "sailings-v1-a",
				Kind:     "sidelined",
				Service:  "sailings",
				Version:  "v1",
				Instance: "sailings-v1-a",
				Detail:   "last failure 503; no requests for 10s",
			}
		}
		if err := st.Apply(b.ctx, append(changes, entries)...); err != nil {
			return err
		}
		if day%7 == 6 {
			if err := keep.Step(b.ctx); err != nil {
				return err
			}
		}
	}
	size := func(name string) int64 {
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil {
			return 0
		}
		return info.Size() >> 20
	}
	archived := int64(0)
	files, _ := os.ReadDir(filepath.Join(dir, "archive"))
	for _, f := range files {
		archived += size(filepath.Join("archive", f.Name()))
	}
	fmt.Printf(
		"%d days of %d publishes, %d releases of %d judgements and %d trials each: database %d MiB without telemetry, archive %d MiB\n",
		yearDays,
		publishesADay,
		releasesADay,
		judgesARun,
		trialsADay,
		size(store.DatabaseFile),
		archived,
	)
	return nil
}
