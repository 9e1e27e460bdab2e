//go:build !race

package guard

// Every state machine is played a million random steps against a slow model
// that says plainly what it should do.
const steps = 1_000_000
