package control

import (
	"context"
	"slices"
	"sync"
	"time"

	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/wire"
)

// maxPending bounds what waits to be written; past it the oldest are lost.
const maxPending = 4096

// journal is what happened and is not written yet.
type journal struct {
	mu      sync.Mutex
	pending []store.Activity
}

// happened notes something for the log. It never waits for the disk.
func (c *Control) happened(list ...store.Activity) {
	c.journal.mu.Lock()
	defer c.journal.mu.Unlock()
	c.journal.pending = append(c.journal.pending, list...)
	if n := len(c.journal.pending) - maxPending; n > 0 {
		c.journal.pending = slices.Delete(c.journal.pending, 0, n)
	}
}

// writeJournal writes down what happened. What cannot be written waits for the next time.
func (c *Control) writeJournal(ctx context.Context) {
	c.journal.mu.Lock()
	list := c.journal.pending
	c.journal.pending = nil
	c.journal.mu.Unlock()
	if len(list) == 0 {
		return
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	if err := c.store.AddActivity(ctx, list); err != nil {
		for i := range list {
			list[i].Number = 0 // it was given for nothing
		}
		c.journal.mu.Lock()
		c.journal.pending = append(list, c.journal.pending...)
		c.journal.mu.Unlock()
	}
}

// Activity lists what happened, newest first; see store.Store.Activity.
func (c *Control) Activity(ctx context.Context, service string, before uint, limit int) ([]store.Activity, error) {
	c.writeJournal(context.WithoutCancel(ctx)) // who asks wants the newest
	return c.store.Activity(ctx, service, before, limit)
}

// saw notes what a proxy tells of its guards.
func (c *Control) saw(id string, d wire.Delta, now time.Time) {
	ago := func(ms int64) time.Duration {
		return time.Duration(min(max(ms, 0), telemetry.Kept*1000)) * time.Millisecond
	}
	sent := now.Add(-ago(d.AgoMS))
	list := make([]store.Activity, 0, len(d.Events))
	for _, e := range d.Events {
		list = append(list, store.Activity{At: sent.Add(-ago(e.AgoMS)).UTC(), Who: id, Kind: e.Kind,
			Service: e.Service, Version: e.Version, Instance: e.Instance, Detail: e.Detail})
	}
	c.happened(list...)
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.members[id]
	if m == nil || m.Nonce != d.Nonce {
		return
	}
	m.open = d.Open
	if d.Status != nil {
		m.status, m.statusAt = d.Status, now
	}
}
