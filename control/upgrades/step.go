package upgrades

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/core/upgrade"
	"nightjar/store"
)

// Step takes the upgrade further.
func (u *Upgrades) Step(ctx context.Context) error {
	running := map[string]fleet.Running{}
	for _, p := range u.Fleet.Running() {
		running[p.ID] = p
	}
	u.mu.Lock()
	u.counts.sample(running, u.Now())
	if one := u.now; one != nil {
		for id := range u.atIt { // those that are through make room
			if (running[id].Build == one.Hash) == (one.State == model.UpgradeRunning) {
				delete(u.atIt, id)
			}
		}
	}
	u.mu.Unlock()
	u.changing.Lock()
	defer u.changing.Unlock()
	now := u.newest()
	if now == nil || !now.Ended.IsZero() {
		return nil
	}
	one := copied(now)
	if one.State == model.UpgradeTakingBack {
		return u.stepBack(ctx, one, running)
	}
	return u.stepOn(ctx, one, running)
}

// stepOn looks at the waves that have begun.
func (u *Upgrades) stepOn(ctx context.Context, one *store.Upgrade, running map[string]fleet.Running) error {
	now := u.Now().UTC()
	var judged []upgrade.Proxy
	late, hasNews, isAway := "", false, false
	for w, wave := range one.Waves[:one.Wave+1] {
		for _, id := range wave {
			m, p := one.Members[id], running[id]
			if r := p.Upgrade; r != nil && r.Upgrade == one.Number && r.Failed != "" {
				m.Failed = r.Failed
				one.Members[id] = m
				return u.takeBack(ctx, one, fmt.Sprintf("start: %s: %s", id, r.Failed))
			}
			if m.Nonce == "" && p.Build == one.Hash && p.IsConnected {
				m.Nonce, m.Since = p.Nonce, now
				one.Members[id], hasNews = m, true
				u.mu.Lock()
				u.counts.begin(id, now)
				u.mu.Unlock()
			}
			isAway = isAway || !p.IsConnected
			switch {
			case m.Nonce != "":
				judged = append(judged, u.proxy(id, m, p, now))
			case w == one.Wave:
				late = id
			}
		}
	}
	if why := upgrade.Judge(judged); why != "" {
		return u.takeBack(ctx, one, fmt.Sprintf("wave %d: %s", one.Wave+1, why))
	}
	if late != "" {
		if now.Sub(one.Since) > comeTime {
			why := fmt.Sprintf("wave %d: %s does not have the program after %s", one.Wave+1, late, comeTime)
			return u.takeBack(ctx, one, why)
		}
		if hasNews {
			return u.put(ctx, one)
		}
		return nil
	}
	newest := one.Since
	for _, id := range one.Waves[one.Wave] {
		if at := one.Members[id].Since; at.After(newest) {
			newest = at
		}
	}
	switch {
	case now.Sub(newest) < one.Each, isAway: // one that is away may be gone
		if hasNews {
			return u.put(ctx, one)
		}
		return nil
	case one.Wave+1 < len(one.Waves):
		one.Wave, one.Since = one.Wave+1, now
		wave := fmt.Sprintf("wave %d of %d: %d proxies", one.Wave+1, len(one.Waves), len(one.Waves[one.Wave]))
		u.log(ctx, one, "upgrade-wave", wave)
		return u.put(ctx, one)
	}
	one.State, one.Ended = model.UpgradeCompleted, now
	u.log(ctx, one, "upgrade-completed", fmt.Sprintf("program %s in %d proxies", called(one), len(one.Members)))
	return u.put(ctx, one)
}

// proxy is what is known of a proxy that has the program.
func (u *Upgrades) proxy(id string, m store.UpgradeMember, p fleet.Running, now time.Time) upgrade.Proxy {
	out := upgrade.Proxy{
		ID:           id,
		MemoryBefore: m.Memory,
		Memory:       p.Memory,
		IsGone:       !p.IsConnected && now.Sub(p.LastSeen) > goneTime,
		HasRestarted: p.Nonce != "" && p.Nonce != m.Nonce,
	}
	for _, one := range p.Problems {
		if !slices.Contains(m.Problems, one.Kind) {
			out.NewProblems = append(out.NewProblems, one.Kind+": "+one.Detail)
		}
	}
	u.mu.Lock()
	out.Before, out.Now = u.counts.of(id)
	u.mu.Unlock()
	return out
}

// stepBack waits until all have the program before again.
func (u *Upgrades) stepBack(ctx context.Context, one *store.Upgrade, running map[string]fleet.Running) error {
	var still []string
	for id := range one.Members {
		if p := running[id]; p.IsConnected && p.Build == one.Hash {
			still = append(still, id)
		}
	}
	slices.Sort(still)
	now := u.Now().UTC()
	if len(still) > 0 && now.Sub(one.Since) < comeTime {
		return nil
	}
	one.State, one.Ended = model.UpgradeTakenBack, now
	if len(still) > 0 {
		one.Why += fmt.Sprintf("; %d still have it after %s, such as %s: start them again", len(still), comeTime, still[0])
	}
	return u.put(ctx, one)
}
