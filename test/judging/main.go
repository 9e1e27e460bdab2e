// Command judging runs a thousand simulated releases of each kind and prints how
// often the judge was right, as the table of docs/releases.md.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"nightjar/core/release"
	"nightjar/core/release/simulate"
	"nightjar/core/rules"
)

const declared = `
services: {s: {versions: [v1, v2], routes: [{name: all, send: v1}]}}
releases: {r: {service: s, from: v1, to: v2, stages: [2%, 15%, 50%, 100%]}}
`

func main() {
	n := flag.Int("n", 1000, "releases of each kind")
	flag.Parse()
	rs, found := rules.Check([]rules.File{{Name: "r", Text: declared}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		fmt.Fprintln(os.Stderr, found)
		os.Exit(1)
	}
	p := rs.Releases[0]
	fmt.Printf("%d releases each; stages %v of %s, %s; judged every %s.\n\n", *n, p.Stages, p.Each, p.Judge.Expect[0].Text, p.Judge.Every)
	fmt.Println("| requests/s | old version | new version | withdrawn | completed | held for a time | had half of the requests and was not good | failed more, median | 95th percentile | time to the end, median |")
	fmt.Println("|---|---|---|---|---|---|---|---|---|---|")
	for _, w := range []struct{ rate, old, less float64 }{
		{20, 0.99, 0}, {100, 0.995, 0}, {100, 0.9, 0}, {400, 1, 0},
		{20, 0.99, 0.05}, {100, 0.995, 0.05}, {100, 0.9, 0.05}, {400, 1, 0.05},
		{100, 0.995, 0.02}, {100, 0.995, 0.3},
	} {
		world := simulate.World{Rate: w.rate, From: simulate.Version{Success: w.old}, To: simulate.Version{Success: w.old - w.less}}
		out := make([]simulate.Outcome, *n)
		var all sync.WaitGroup
		for worker := range runtime.GOMAXPROCS(0) {
			all.Go(func() {
				for i := worker; i < *n; i += runtime.GOMAXPROCS(0) {
					out[i] = simulate.Run(p, world, uint64(i))
				}
			})
		}
		all.Wait()
		ends, late, held := map[release.State]int{}, 0, 0
		var more []float64
		var took []time.Duration
		for _, o := range out {
			ends[o.State]++
			if o.Held {
				held++
			}
			if w.less > 0 && o.Stage >= 50_000 {
				late++
			}
			more, took = append(more, o.More), append(took, o.Took)
		}
		slices.Sort(more)
		slices.Sort(took)
		share := func(k int) string { return fmt.Sprintf("%.1f%%", 100*float64(k)/float64(*n)) }
		word := fmt.Sprintf("%g points worse", 100*w.less)
		lateText := share(late)
		if w.less == 0 {
			word, lateText = "the same", "–"
		}
		fmt.Printf("| %g | %g%% | %s | %s | %s | %s | %s | %.0f | %.0f | %s |\n", w.rate, 100*w.old, word, share(ends[release.Withdrawn]), share(ends[release.Completed]), share(held),
			lateText, more[*n/2], more[*n*95/100], took[*n/2].Round(time.Second))
	}
}
