package follows

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/outbox"
	"nightjar/core/rules"
	"nightjar/store"
)

// settle finds the state of a bundle; a new one, or another commit that is refused, is
// stored, logged, and told to receivers.
func (f *Follows) settle(ctx context.Context, x *follow) {
	f.mu.Lock()
	r := x.record
	state, why := stateOf(x)
	isOther := state == model.Refused && r.Newest.ID != x.told // another commit is refused
	isNew := state != r.State || isOther
	if !isNew && why == r.Why {
		f.mu.Unlock()
		return
	}
	if state != r.State {
		x.record.State, x.record.Since = state, f.Now().UTC()
	}
	x.record.Why, x.told = why, r.Newest.ID
	shown := f.view(x)
	f.mu.Unlock()
	if !isNew {
		f.save(ctx, x)
		return
	}
	ctx = actor.With(ctx, actor.Actor{Name: "follow/" + r.Bundle})
	f.Journal.Add(ctx, store.Activity{
		At: f.Now().UTC(), Kind: "follow-state", Detail: strings.TrimSuffix(r.Bundle+" is "+state+": "+why, ": "),
		Before: r.State, After: state,
	})
	notices, err := f.notices(ctx, shown)
	if err != nil {
		f.Log.Error("receivers cannot be told of a state", "bundle", r.Bundle, "error", err)
	}
	f.save(ctx, x, notices)
}

// stateOf is the state of a bundle and why.
func stateOf(x *follow) (state, why string) {
	r := &x.record
	short := func(c store.FollowCommit) string {
		return fmt.Sprintf("%.10s by %s, “%s”", c.ID, c.Author, c.Subject)
	}
	switch {
	case x.failed != "":
		return model.Unreachable, x.failed
	case len(r.Findings) > 0:
		why := fmt.Sprintf("Commit %s: %s", short(r.Newest), r.Findings[0].Message)
		if n := len(r.Findings) - 1; n > 0 {
			why += fmt.Sprintf(" (and %d more)", n)
		}
		return model.Refused, why
	case r.Stuck != "", r.Files == nil:
		return model.Behind, cmp.Or(r.Stuck, notLooked)
	case x.drift.isThere:
		why := fmt.Sprintf("%d differences from commit %.10s", len(x.drift.changes), r.Commit.ID)
		switch len(x.drift.changes) {
		case 0:
			why = fmt.Sprintf("The text differs from commit %.10s, and says the same", r.Commit.ID)
		case 1:
			why = fmt.Sprintf("1 difference from commit %.10s", r.Commit.ID)
		}
		if r.Drift == model.DriftRevert {
			why += "; the next look puts the branch's text back"
		}
		return model.Drifted, why
	case len(r.Edits) > 0:
		why := fmt.Sprintf("With what release %s wrote, which the branch has not got yet", r.Edits[0].Release)
		if x.unproposed != "" {
			why += "; it is not proposed: " + x.unproposed
		}
		return model.InStep, why
	}
	return model.InStep, ""
}

// notices tell the receivers of a bundle of its state.
func (f *Follows) notices(ctx context.Context, shown model.Follow) (store.AddNotices, error) {
	if len(shown.Notify) == 0 || !f.Outbox.HasRoom(ctx) {
		return nil, nil
	}
	shown.Hook = ""
	at := f.Now().UTC()
	id := fmt.Sprintf("follow-%s-%d", shown.Bundle, at.UnixNano())
	kind := "nightjar.follow." + strings.ReplaceAll(shown.State, " ", "-")
	text, err := outbox.Event(id, kind, "/api/v1/follows/"+shown.Bundle, shown.Bundle, at, shown)
	if err != nil {
		return nil, err
	}
	var out store.AddNotices
	for _, to := range shown.Notify {
		out = append(out, store.Notice{URL: to, Event: text, Due: at, State: store.NoticeWaiting})
	}
	return out, nil
}

// save stores the record of a bundle, with other changes.
func (f *Follows) save(ctx context.Context, x *follow, more ...store.Change) {
	f.mu.Lock()
	r, isGone := x.record, x.isGone
	f.mu.Unlock()
	if isGone {
		return
	}
	if err := f.apply(ctx, append([]store.Change{store.SaveFollow{Follow: r}}, more...)...); err != nil {
		f.Log.Error("what a bundle follows cannot be stored; the next look tries again",
			"bundle", r.Bundle, "error", err)
	}
}

// Get is what one bundle follows.
func (f *Follows) Get(ctx context.Context, bundle string) (model.Follow, error) {
	x, err := f.find(bundle)
	if err != nil {
		return model.Follow{}, err
	}
	f.catchUp(ctx)
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.view(x), nil
}

// List is what bundles follow, by their names.
func (f *Follows) List(ctx context.Context) []model.Follow {
	f.catchUp(ctx)
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]model.Follow, 0, len(f.list))
	for _, x := range f.list {
		out = append(out, f.view(x))
	}
	slices.SortFunc(out, func(a, b model.Follow) int { return strings.Compare(a.Bundle, b.Bundle) })
	return out
}

const maxChanges = 200 // that are shown

// view is a bundle as people see it. The caller holds mu.
func (f *Follows) view(x *follow) model.Follow {
	r := &x.record
	commit := func(c store.FollowCommit) *model.FollowCommit {
		return &model.FollowCommit{ID: c.ID, Author: c.Author, Subject: c.Subject}
	}
	changes := rules.Condense(x.drift.changes)
	out := model.Follow{
		Bundle: r.Bundle, URL: r.URL, Branch: r.Branch, Path: r.Path, EverySeconds: r.Every.Seconds(),
		HasKey: x.hasKey, HostKey: r.HostKey, Drift: r.Drift, Notify: append([]string{}, r.Notify...),
		IsConfigured: x.isConfigured, By: r.By, State: r.State, Since: r.Since, Why: r.Why, Tip: r.Tip,
		Revision: r.Revision, Findings: from.Findings(r.Findings), Hook: "/hooks/" + r.Hook,
		Differences: from.Changes(changes[:min(len(changes), maxChanges)]), Edits: []model.FollowEdit{},
		Proposals: []model.Proposal{},
	}
	if r.Commit.ID != "" {
		out.Commit = commit(r.Commit)
	}
	if r.Newest.ID != r.Commit.ID {
		out.Newest = commit(r.Newest)
	}
	if !x.looked.IsZero() {
		out.Looked = new(x.looked)
	}
	for _, e := range r.Edits {
		out.Edits = append(out.Edits, model.FollowEdit{
			Release: e.Release, Route: e.Ladder + "/" + e.Route,
			Targets: rules.SendText(e.Is, e.Ladder), Proposal: e.Proposal,
		})
	}
	for _, p := range f.proposals {
		if p.Bundle == r.Bundle {
			out.Proposals = append(out.Proposals, viewOf(p))
		}
	}
	return out
}

// Notes are what somebody should know who made a revision: which of the bundles that it
// changed, and that are of somebody, will be as their branches say before long.
func (f *Follows) Notes(revision uint, of func(bundle string) bool) []string {
	all := f.Revisions.Current().Revision.Bundles
	f.mu.Lock()
	records := map[string]store.Follow{}
	for name, x := range f.list {
		records[name] = x.record
	}
	f.mu.Unlock()
	var out []string
	for _, name := range slices.Sorted(maps.Keys(records)) {
		r := records[name]
		if !of(name) || r.Files == nil || slices.Equal(all[name], wanted(all, name, r.Files, r.Edits)) {
			continue
		}
		then := fmt.Sprintf("the next look, within %s, takes this back", r.Every)
		if r.Drift == model.DriftReport {
			then = "its next commit takes this back"
		}
		out = append(out, fmt.Sprintf("Bundle %s follows branch %s: %s. To keep it: nightjar rules propose --bundle %s "+
			"--revision %d --message MESSAGE", name, r.Branch, then, name, revision))
	}
	return out
}
