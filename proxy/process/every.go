package process

import (
	"context"
	"time"
)

// Every calls do at each tick until ctx is done.
func Every(ctx context.Context, tick time.Duration, do func()) { EveryOr(ctx, tick, nil, do) }

// EveryOr calls do at each tick, and whenever now says so, until ctx is done.
func EveryOr(ctx context.Context, tick time.Duration, now <-chan struct{}, do func()) {
	t := time.NewTicker(tick)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-now:
		case <-t.C:
		}
		do()
	}
}
