//go:build race

package guard

// The race detector makes a step many times as slow and has little to find
// where one goroutine steps; the run without it takes the million.
const steps = 40_000
