package engine

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// SetHealth takes over news of instances whose health alone changed: Down and
// Doubted. The cost is that of their versions, whatever the size of the table.
// False: at least one of them is new or has moved, so that another table has to
// be compiled; then nothing changed.
func (t *Table) SetHealth(news []Instance, now time.Duration) bool {
	peers := make([]*peer, len(news))
	for i := range news {
		v := t.version(news[i].Service, news[i].Version)
		if v == nil {
			return false
		}
		at, found := slices.BinarySearchFunc(
			v.peers,
			news[i].ID,
			func(c *peer, id string) int { return cmp.Compare(c.ID, id) },
		)
		if !found || !news[i].isSame(v.peers[at].Instance) {
			return false
		}
		peers[i] = v.peers[at]
	}
	for i, c := range peers {
		c.hear(&news[i])
	}
	for i, c := range peers {
		if i == 0 || peers[i-1].of != c.of {
			c.of.judge(now)
		}
	}
	return true
}

// LetBack lets an instance take requests again that is sidelined, before its time. It
// does nothing with one that is not, or is not known.
func (t *Table) LetBack(service, id string, now time.Duration) {
	if t == nil || t.services[service] == nil {
		return
	}
	for _, p := range t.services[service].versions {
		for _, c := range p.version.peers {
			if c.ID == id {
				p.version.note(p.version.side.LetBack(c.Peer, now), c.Instance, now)
			}
		}
	}
}

// Checked tells what the health checks of an instance outside the mesh say, for
// which every caller checks by itself.
func (t *Table) Checked(in *Instance, down bool, now time.Duration) {
	v := t.version(in.Service, in.Version)
	if v == nil {
		return
	}
	for _, c := range v.peers {
		if c.ID == in.ID {
			c.Sick.Store(down)
		}
	}
	v.judge(now)
}

// judge decides whether the health checks of the instances are believed: when
// more than half are unhealthy at once, it is more likely that the checks are.
func (v *version) judge(now time.Duration) {
	v.memory.judging.Lock()
	defer v.memory.judging.Unlock()
	unhealthy, checked := 0, false
	for _, c := range v.peers {
		checked = checked || c.Sick.Load()
		if c.Sick.Load() || c.Peer.Doubted.Load() {
			unhealthy++
		}
	}
	mistrusts := checked && !v.trusts && 2*unhealthy > len(v.peers)
	if v.mistrusts.Swap(mistrusts) != mistrusts && !v.unused(now) {
		kind, detail := "health-used", "health checks count again"
		if mistrusts {
			kind, detail = "health-ignored", fmt.Sprintf(
				"%d of %d instances are unhealthy at once: health checks are ignored, and all get requests",
				unhealthy,
				len(v.peers),
			)
		}
		v.tell(now, kind, "", detail)
	}
	for _, c := range v.peers {
		down := c.Sick.Load() && !mistrusts
		if down == c.IsDown() {
			continue
		}
		c.SetDown(down, now)
		if c.Outside { // of the others their own proxies tell
			kind, detail := "up", "its health checks go well again"
			if down {
				kind, detail = "down", "its health checks fail"
			}
			v.tell(now, kind, c.ID, detail)
		}
	}
}

// unusedAfter is after what time without a request nothing is told of a version
// any more, unless something is the matter with it here.
const unusedAfter = time.Minute

// unused tells whether no request went to the version for a while.
func (v *version) unused(now time.Duration) bool {
	u := v.used.Load()
	return u == 0 || now-time.Duration(u) > unusedAfter
}
