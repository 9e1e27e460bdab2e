package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"nightjar/load"
)

// delayed answers after a known time, and says how long it really was: from its
// reading of the request to the writing of the answer.
func delayed(w http.ResponseWriter, r *http.Request) {
	begun := time.Now()
	ms, _ := strconv.Atoi(r.URL.Query().Get("ms"))
	if ms > 0 {
		nap := unix.NsecToTimespec(int64(time.Duration(ms) * time.Millisecond))
		unix.Nanosleep(&nap, nil)
	}
	w.Header().Set("X-Took", strconv.FormatInt(int64(time.Since(begun)), 10))
}

// trialPart measures the generator of trials: what it can send, and how much its
// own latencies are off.
func trialPart(b *bench) error {
	at := freeAddr()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if _, err := b.spawn(self, "delayed", at, "-"); err != nil {
		return err
	}
	time.Sleep(300 * time.Millisecond)
	fmt.Printf("\ntrial: the generator against a server of known delay, in another process; %d s each\n", *seconds)
	for _, c := range []struct{ rate, ms int }{{100, 20}, {1000, 20}, {100, 50}, {10_000, 0}} {
		var mu sync.Mutex
		var off, took []float64
		failed := 0
		i := -1
		gap := time.Second / time.Duration(c.rate)
		s := load.Source{Address: at, Messages: [][]byte{load.Message("GET", "/?ms="+strconv.Itoa(c.ms), "delayed", http.Header{}, "")}, Safe: true, Pick: func() int { return 0 },
			Next: func() (time.Duration, bool) { i++; return time.Duration(i) * gap, i < c.rate**seconds },
			Answered: func(_ int, a *load.Answered) {
				if a.Err != nil {
					mu.Lock()
					failed++
					mu.Unlock()
					return
				}
				truth, _ := strconv.ParseInt(a.Fields.Get("X-Took"), 10, 64)
				mu.Lock()
				off = append(off, float64(a.Took)/float64(max(truth, 1))-1)
				took = append(took, a.Took.Seconds()*1e3)
				mu.Unlock()
			}}
		done := make(chan struct{})
		ctx, stop := context.WithTimeout(b.ctx, time.Minute)
		run := load.Start(ctx, []load.Source{s}, load.Options{Begin: time.Now().Add(50 * time.Millisecond)}, func() { close(done) })
		<-done
		stop()
		pace := run.Pace()
		slices.Sort(off)
		slices.Sort(took)
		if len(off) == 0 {
			return fmt.Errorf("no answer at %d/s", c.rate)
		}
		fmt.Printf("%6d/s, delay %2d ms: %d answers, %d failed; p50 %.3f ms", c.rate, c.ms, len(took), failed, took[len(took)/2])
		if c.ms > 0 {
			fmt.Printf(", off by %.2f%% in the middle, 95%% within %.2f%%", 100*off[len(off)/2], 100*off[len(off)*95/100])
		}
		fmt.Printf("; sent late by %s (p50), %s (p99)\n", pace.Late50.Round(time.Microsecond), pace.Late99.Round(time.Microsecond))
	}
	return nil
}
