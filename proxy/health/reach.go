package health

import (
	"context"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/process"
)

// Limits of trying connections.
const (
	reachTick = 100 * time.Millisecond
	reachWait = time.Second // for a connection to come about, as requests do
	reachMost = 64          // under way at once; the others come with a later tick
)

// Reach opens connections to instances that could not be reached, so that no
// request has to find out that they are back.
type Reach struct {
	Table func() *engine.Table // what requests follow; nil: no rules have come
	Now   func() time.Duration // since the epoch of the table's times
	// Try opens a connection to an instance, and closes it.
	Try func(ctx context.Context, to *engine.Instance) error
}

// Run tries what is due until ctx is done.
func (r *Reach) Run(ctx context.Context) {
	var trying sync.WaitGroup
	defer trying.Wait()
	slots := make(chan struct{}, reachMost)
	process.Every(ctx, reachTick, func() {
		table := r.Table()
		if table == nil {
			return
		}
		for _, in := range table.Unreached(r.Now(), reachMost-len(slots)) {
			slots <- struct{}{}
			trying.Go(func() {
				r.try(ctx, in)
				<-slots
			})
		}
	})
}

func (r *Reach) try(ctx context.Context, in *engine.Instance) {
	limited, stop := context.WithTimeout(ctx, reachWait)
	defer stop()
	err := r.Try(limited, in)
	if ctx.Err() == nil {
		r.Table().Reached(in, err, r.Now())
	}
}
