package main

import (
	"fmt"
	"slices"
)

// allGuards is everything that can guard a service, none of which acts.
const allGuards = `    retry: {times: 2, each: 1s}
    guard:
      in-flight: 1000
      waiting: 100
      breaker: {errors: 50%, slow: 80% over 1s}
      sideline: {after: 3}
    health: {path: /healthz, every: 1s}
    balance: least-busy
    failover: {order: [same, north-quay]}
`

// guards compares the proxy with all guards on to the same with none.
func guards(b *bench) error {
	off, on := &target{name: "no guards", addr: freeAddr()}, &target{name: "all guards", addr: freeAddr(), settings: allGuards, route: `, limit: {rate: 1000000/s, per: "header:x-terminal"}`}
	for _, t := range []*target{off, on} {
		if err := startNightjar(b.ctx, b.spawn, t, b.backend, func() string { return "sites: [north-quay]\n" }); err != nil {
			return err
		}
		if err := ready(t.addr); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
	}
	fmt.Printf("\nguards: %d rounds of %d s for each, in turn; %d connections\n", *rounds, *seconds, *conns)
	both := []*target{off, on}
	for round := range *rounds + 1 { // the first is not counted
		slices.Reverse(both)
		for _, t := range both {
			before := processorTime(t.pid)
			rps, total, _, err := wrk(b.ctx, t.addr, *conns)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if round > 0 {
				t.rps, t.cpu = append(t.rps, rps), append(t.cpu, (processorTime(t.pid)-before).Seconds()*1e6/total)
			}
		}
	}
	r, c := ratios(on.rps, off.rps), ratios(on.cpu, off.cpu)
	fmt.Printf("no guards %.0f requests/s, %.1f µs of processor time each; all guards %.0f and %.1f: %.3f × (%.2f–%.2f) the requests, %.2f × the time\n",
		median(off.rps), median(off.cpu), median(on.rps), median(on.cpu), median(r), slices.Min(r), slices.Max(r), median(c))
	return nil
}
