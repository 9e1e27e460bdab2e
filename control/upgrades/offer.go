package upgrades

import (
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/identity"
	"nightjar/wire"
)

// Offer is the program that a proxy is to run; nil: what it runs.
func (u *Upgrades) Offer(id, build string) *wire.ProgramOffer {
	u.mu.Lock()
	defer u.mu.Unlock()
	one := u.now
	if one == nil || !one.Ended.IsZero() {
		return nil
	}
	isIn := false
	for _, wave := range one.Waves[:min(one.Wave+1, len(one.Waves))] {
		isIn = isIn || slices.Contains(wave, id)
	}
	isBack := one.State == model.UpgradeTakingBack
	if !isIn || (build == one.Hash) != isBack || !u.mayBeAtIt(id) {
		return nil
	}
	if u.offer == nil {
		o := &wire.ProgramOffer{Upgrade: one.Number, Hash: one.Hash, Size: one.Size, Back: isBack}
		var err error
		o.Signature, o.Chain, err = identity.SignProgram(identity.Program{Hash: o.Hash, Size: o.Size}, u.Node.Own())
		if err != nil {
			return nil // it has no certificate for the moment
		}
		u.offer = o
	}
	return u.offer
}

// mayBeAtIt tells whether it is the turn of a proxy to take the program. The caller holds mu.
func (u *Upgrades) mayBeAtIt(id string) bool {
	if _, is := u.atIt[id]; is {
		return true
	}
	now, n := u.Now(), 0
	for _, since := range u.atIt {
		if now.Sub(since) < atItTime {
			n++
		}
	}
	if n >= maxAtOnce {
		return false
	}
	if u.atIt == nil {
		u.atIt = map[string]time.Time{}
	}
	u.atIt[id] = now
	return true
}
