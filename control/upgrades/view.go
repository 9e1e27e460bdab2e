package upgrades

import (
	"context"
	"slices"

	"nightjar/api/model"
	"nightjar/store"
)

// List lists upgrades, newest first.
func (u *Upgrades) List(ctx context.Context) (model.UpgradeList, error) {
	list, err := u.Records.Upgrades(ctx, shown)
	out := model.UpgradeList{Upgrades: make([]model.Upgrade, 0, len(list))}
	for i := range list {
		out.Upgrades = append(out.Upgrades, view(&list[i]))
	}
	return out, err
}

// Newest is the newest upgrade; nil: there was none.
func (u *Upgrades) Newest() *model.Upgrade {
	now := u.newest()
	if now == nil {
		return nil
	}
	v := view(now)
	return &v
}

// Compare adds the newest upgrade to the fleet, and the proxies that are out of step with it.
func Compare(f *model.Fleet, newest *model.Upgrade) {
	f.Upgrade = newest
	if newest == nil || newest.State != model.UpgradeCompleted {
		return
	}
	for i := range f.Proxies {
		p := &f.Proxies[i]
		isMeant := newest.Site == "" || p.Site == newest.Site
		if isMeant && p.Build != "" && p.Build != newest.Hash { // the service's own proxy has none
			f.OutOfStep = append(f.OutOfStep, p.ID)
		}
	}
}

func view(one *store.Upgrade) model.Upgrade {
	out := model.Upgrade{
		Number:  one.Number,
		By:      one.By,
		Began:   one.Began,
		Program: one.Name,
		Hash:    one.Hash,
		Size:    one.Size,
		Site:    one.Site,
		Each:    one.Each.String(),
		State:   one.State,
		Why:     one.Why,
		Waves:   []model.UpgradeWave{},
	}
	if !one.Ended.IsZero() {
		out.Ended = &one.Ended
	}
	for i, ids := range one.Waves {
		w := model.UpgradeWave{Proxies: slices.Sorted(slices.Values(ids)), HasBegun: i <= one.Wave}
		for _, id := range ids {
			if one.Members[id].Nonce != "" {
				w.Took++
			}
			if f := one.Members[id].Failed; f != "" {
				w.Failed = append(w.Failed, id+": "+f)
			}
		}
		out.Waves = append(out.Waves, w)
	}
	return out
}
