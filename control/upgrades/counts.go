package upgrades

import (
	"strings"
	"time"

	"nightjar/control/fleet"
	"nightjar/core/upgrade"
	"nightjar/wire"
)

// counts are requests by proxy.
type counts map[string]*counted

type counted struct {
	all     upgrade.Count
	samples []sample      // of the last minute, the oldest first
	before  upgrade.Count // in the minute before it took the program
	from    upgrade.Count // all when it took the program
	hasIt   bool
}

type sample struct {
	at  time.Time
	all upgrade.Count
}

const (
	sampleEvery = 2 * time.Second
	sampleFor   = time.Minute
	maxCounted  = 20_000 // proxies and instances
)

// Count counts the requests of a proxy: those that it sent, and those that others sent to
// the instance beside it.
func (u *Upgrades) Count(id string, d *wire.Delta) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i := range d.Series {
		s := &d.Series[i]
		if s.App || s.Copy {
			continue
		}
		one := upgrade.Count{Requests: s.Counts.Requests(), OK: s.Counts.OK}
		u.counts.add(id, one)
		if s.Instance != "" && s.Instance != id {
			u.counts.add(s.Instance, one)
		}
	}
}

func (c counts) add(id string, n upgrade.Count) {
	one := c[id]
	if one == nil {
		if len(c) >= maxCounted {
			return
		}
		one = &counted{}
		c[strings.Clone(id)] = one
	}
	one.all.Add(n)
}

// sample remembers where the counts stand, and forgets those of proxies that are gone.
func (c counts) sample(running map[string]fleet.Running, now time.Time) {
	for id, one := range c {
		if _, is := running[id]; !is && !one.hasIt {
			delete(c, id)
			continue
		}
		if n := len(one.samples); n > 0 && now.Sub(one.samples[n-1].at) < sampleEvery {
			continue
		}
		one.samples = append(one.samples, sample{now, one.all})
		for now.Sub(one.samples[0].at) > sampleFor {
			one.samples = one.samples[1:]
		}
	}
}

// begin notes that a proxy has the program.
func (c counts) begin(id string, now time.Time) {
	c.add(id, upgrade.Count{})
	one := c[id]
	if one == nil {
		return
	}
	one.hasIt, one.from = true, one.all
	if len(one.samples) > 0 {
		one.before = one.all.Minus(one.samples[0].all)
	}
}

// of is the requests of a proxy in the minute before it took the program, and since.
func (c counts) of(id string) (before, now upgrade.Count) {
	one := c[id]
	if one == nil {
		return before, now
	}
	if !one.hasIt { // the service was started meanwhile
		one.hasIt, one.from = true, one.all
	}
	return one.before, one.all.Minus(one.from)
}
