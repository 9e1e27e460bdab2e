package follows

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/git"
	"nightjar/identity"
	"nightjar/store"
)

// byConfiguration is who added what stands in the configuration. Nobody has such a name.
const byConfiguration = "the configuration"

func (f *Follows) isConfigured(bundle string) bool {
	return slices.ContainsFunc(f.Configured, func(q model.FollowRequest) bool { return q.Bundle == bundle })
}

// forget deletes what is stored of a bundle that follows a branch no more.
func (f *Follows) forget(ctx context.Context, bundle string, more ...store.Change) error {
	if err := f.apply(ctx, append([]store.Change{store.DeleteFollow{Bundle: bundle}}, more...)...); err != nil {
		return err
	}
	if err := f.writeKey(bundle, nil); err != nil {
		return err
	}
	return os.RemoveAll(f.copyOf(bundle))
}

// continued is a new record with what the old one knows, if it follows the same.
func continued(r, old store.Follow, isKept bool) store.Follow {
	if !isKept {
		return r
	}
	r.Hook = old.Hook
	if old.URL != r.URL || old.Branch != r.Branch || old.Path != r.Path {
		return r
	}
	settings := r
	r = old
	r.HostKey = cmp.Or(settings.HostKey, old.HostKey)
	r.Every, r.Drift, r.Notify = settings.Every, settings.Drift, settings.Notify
	r.By = settings.By
	return r
}

// record is what somebody asks for, with its key.
func (f *Follows) record(q model.FollowRequest, by string) (store.Follow, []byte, error) {
	if err := revisions.CheckBundleName(q.Bundle); err != nil {
		return store.Follow{}, nil, err
	}
	s, err := git.Source{URL: q.URL, Branch: q.Branch, Path: q.Path, Key: []byte(q.Key), HostKey: q.HostKey}.Clean()
	if err != nil {
		return store.Follow{}, nil, problem.InvalidRequest{Why: err.Error()}
	}
	every := time.Duration(cmp.Or(q.EverySeconds, usualEvery.Seconds()) * float64(time.Second))
	if !(q.EverySeconds >= 0 && q.EverySeconds <= maxEvery.Seconds()) || every < minEvery {
		return store.Follow{}, nil, problem.Invalid("every %v s: write 5 to 86400 seconds", q.EverySeconds)
	}
	drift := cmp.Or(q.Drift, model.DriftRevert)
	if drift != model.DriftRevert && drift != model.DriftReport {
		return store.Follow{}, nil, problem.Invalid("drift %q: write revert, or report", q.Drift)
	}
	if len(q.Notify) > maxNotify {
		return store.Follow{}, nil, problem.Invalid("%d addresses to notify: name at most %d", len(q.Notify), maxNotify)
	}
	for _, to := range q.Notify {
		if !rules.IsReceiver(to) {
			return store.Follow{}, nil, problem.Invalid(
				"notify: %q is not where an event can be sent: write http://HOST/PATH or https://HOST/PATH", to)
		}
	}
	now := f.Now().UTC()
	return store.Follow{
		Bundle: q.Bundle, URL: s.URL, Branch: s.Branch, Path: s.Path, HostKey: s.HostKey, Every: every, Drift: drift,
		Notify: q.Notify, Hook: newHook(), By: by, State: model.Behind, Since: now, Why: notLooked,
	}, s.Key, nil
}

const notLooked = "nobody has looked at the repository yet"

// KeysDir is the directory of the keys of repositories, in the data directory.
const KeysDir = "follow-keys"

func (f *Follows) keyFile(bundle string) string { return filepath.Join(f.Dir, KeysDir, bundle) }

// copyOf is the directory of the local copy of what a bundle follows.
func (f *Follows) copyOf(bundle string) string { return filepath.Join(f.Dir, "git", bundle) }

// writeKey keeps the key of a bundle, or deletes the one that is there.
func (f *Follows) writeKey(bundle string, key []byte) error {
	at := f.keyFile(bundle)
	if len(key) == 0 {
		if err := os.Remove(at); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return identity.WriteFile(at, key)
}

// Add lets a bundle follow a branch, in place of what it follows now, and looks at it.
func (f *Follows) Add(ctx context.Context, q model.FollowRequest) (model.Follow, error) {
	x, err := f.add(ctx, q)
	if err != nil {
		return model.Follow{}, err
	}
	if x.repo != nil {
		f.look(ctx, x, Options{})
	}
	return f.Get(ctx, q.Bundle)
}

func (f *Follows) add(ctx context.Context, q model.FollowRequest) (*follow, error) {
	r, key, err := f.record(q, actor.Name(ctx))
	if err != nil {
		return nil, err
	}
	f.adding.Lock()
	defer f.adding.Unlock()
	old, err := f.taken(ctx, q.Bundle)
	if err != nil && !errors.As(err, new(problem.NotFound)) {
		return nil, err
	}
	f.mu.Lock()
	count := len(f.list)
	if old != nil {
		defer func() { old.turn <- struct{}{} }() // who waits for it sees that it is gone
		r = continued(r, old.record, true)
	}
	f.mu.Unlock()
	switch {
	case old == nil && count >= maxFollows:
		return nil, problem.Invalid("%d bundles follow a branch, which is the limit: stop one first", maxFollows)
	case old != nil && old.isConfigured:
		return nil, configured(q.Bundle)
	}
	if err := f.writeKey(r.Bundle, key); err != nil {
		return nil, err
	}
	entry := store.Activity{At: f.Now().UTC(), Kind: "follow-added", Detail: what(&r)}
	if err := f.apply(ctx, store.SaveFollow{Follow: r}, journal.Entries(ctx, entry)); err != nil {
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if old != nil {
		old.isGone = true
		delete(f.hooks, hashOf(old.record.Hook))
	}
	return f.open(r)
}

func what(r *store.Follow) string {
	return fmt.Sprintf("bundle %s follows branch %s of %s at %s", r.Bundle, r.Branch, r.URL, r.Path)
}

func configured(bundle string) error {
	return problem.Invalid("bundle %s stands in the configuration of the service: change it there, and start the "+
		"service anew", bundle)
}

// Stop lets a bundle follow its branch no more. What is in force stays.
func (f *Follows) Stop(ctx context.Context, bundle string) error {
	f.adding.Lock()
	defer f.adding.Unlock()
	x, err := f.taken(ctx, bundle)
	if err != nil {
		return err
	}
	defer func() { x.turn <- struct{}{} }()
	if x.isConfigured {
		return configured(bundle)
	}
	entry := store.Activity{At: f.Now().UTC(), Kind: "follow-stopped", Detail: "no more: " + what(&x.record)}
	if err := f.forget(ctx, bundle, journal.Entries(ctx, entry)); err != nil {
		return err
	}
	f.mu.Lock()
	x.isGone = true
	delete(f.list, bundle)
	delete(f.hooks, hashOf(x.record.Hook))
	f.proposals = slices.DeleteFunc(f.proposals, func(p store.Proposal) bool { return p.Bundle == bundle })
	f.mu.Unlock()
	return nil
}
