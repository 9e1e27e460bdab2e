package follows

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/git"
	"nightjar/store"
)

// lookOnce looks at a repository, and does what follows from it. The caller has the turn.
func (f *Follows) lookOnce(ctx context.Context, x *follow, o Options) {
	ctx = actor.With(ctx, actor.Actor{Name: "follow/" + x.record.Bundle})
	f.see(ctx, x)
	known := x.record.Tip
	if x.decidedAt != f.Revisions.Current().Revision.Number || x.record.Stuck != "" || o.RefuseUsedLinks {
		known = "" // what was refused may be right by now
	}
	open := f.openProposals(x.record.Bundle)
	commits := make([]string, len(open))
	for i, p := range open {
		commits[i] = p.Commit
	}
	began := f.Now()
	state, err := x.repo.Look(ctx, known, commits)
	if ctx.Err() != nil { // the service ends, which says nothing of the repository
		return
	}
	f.mu.Lock()
	x.looked, x.failed, x.due = f.Now().UTC(), "", f.Now().Add(x.record.Every)
	if x.hooked.After(began) { // something was pushed meanwhile
		x.due = x.hooked
	}
	x.record.HostKey = x.repo.HostKey()
	if err != nil {
		x.failed = err.Error()
	}
	f.mu.Unlock()
	if err == nil {
		f.skip(x.record.Bundle, state.Branches)
		f.judge(ctx, x, open, &state)
		f.see(ctx, x) // without what is not wanted any more
		if state.Commit != nil {
			f.take(ctx, x, state.Commit, o)
		}
		f.putForward(ctx, x)
	}
	f.see(ctx, x)
	f.settle(ctx, x)
}

// take decides about what the branch says, and puts it in force.
func (f *Follows) take(ctx context.Context, x *follow, c *git.Commit, o Options) {
	now := f.Revisions.Current()
	all, r := now.Revision.Bundles, x.record
	head := store.FollowCommit{ID: c.ID, Author: c.Author, Subject: c.Subject}
	r.Tip, r.Newest, r.Findings, r.Stuck = c.Tip, head, nil, ""
	decidedAt := now.Revision.Number
	if c.Fault != "" {
		r.Findings = []rules.Finding{fault(r.Path, c.Fault)}
	} else {
		isNew := !slices.Equal(r.Files, c.Files)
		edits := left(all, r.Bundle, c.Files, r.Edits)
		files := wanted(all, r.Bundle, c.Files, edits)
		q := revisions.Publication{
			Bundle: r.Bundle, Files: files, Author: c.Author, Message: c.Subject, Commit: c.ID,
			RefuseUsedLinks: o.RefuseUsedLinks,
		}
		p := model.Published{Revision: now.Revision.Number}
		switch {
		case slices.Equal(all[r.Bundle], files): // nothing is to be done
		case !isNew && r.Drift == model.DriftReport: // what differs stays
		case o.isUnasked && f.Ahead() > now.Revision.Number:
			r.Stuck = fmt.Sprintf("proxies follow revision %d, newer than revision %d of these records, which are "+
				"those of a backup. To put the branch in force: nightjar follow now %s",
				f.Ahead(), now.Revision.Number, r.Bundle)
		case !isNew:
			p, r.Stuck, r.Findings = f.putBack(ctx, &r, files)
		default:
			p, r.Stuck, r.Findings = f.publish(ctx, q)
		}
		if len(r.Findings) == 0 && r.Stuck == "" {
			if isNew || r.Revision == 0 {
				r.Revision = p.Revision
			}
			r.Commit, r.Files, r.Edits, decidedAt = head, c.Files, edits, p.Revision
		}
	}
	if len(r.Findings) > 0 && x.drift.isThere && r.Drift == model.DriftRevert && r.Files != nil {
		f.putBack(ctx, &r, wanted(all, r.Bundle, r.Files, r.Edits)) // the last good commit
	}
	isSame := reflect.DeepEqual(r, x.record)
	f.mu.Lock()
	x.record, x.decidedAt, x.seenAt = r, decidedAt, unseen
	f.mu.Unlock()
	if !isSame {
		f.save(ctx, x)
	}
}

// putBack puts in force what the branch says, in place of what was changed otherwise.
func (f *Follows) putBack(
	ctx context.Context, r *store.Follow, files []rules.File,
) (model.Published, string, []rules.Finding) {
	return f.publish(ctx, revisions.Publication{
		Bundle: r.Bundle, Files: files, Author: "follow/" + r.Bundle, Commit: r.Commit.ID,
		Message: fmt.Sprintf("put back what branch %s says: %s", r.Branch, r.Commit.Subject),
	})
}

// publish publishes what a branch says. The findings are of what is refused; why is what
// else stands in the way.
func (f *Follows) publish(
	ctx context.Context, q revisions.Publication,
) (p model.Published, why string, found []rules.Finding) {
	p, err := f.Revisions.Publish(ctx, q)
	rejected, links := problem.RulesRejected{}, problem.RefusesUsedLinks{}
	switch {
	case errors.As(err, &rejected):
		found = slices.DeleteFunc(rejected.Findings, func(g rules.Finding) bool { return g.Severity != rules.Mistake })
	case errors.As(err, &links):
		found = links.Findings
	case err != nil:
		why = err.Error()
	}
	return p, why, found
}

// fault is what is wrong with the path of a branch, as a finding.
func fault(path, why string) rules.Finding {
	message, expected, _ := strings.Cut(why, ": ")
	return rules.Finding{
		Severity: rules.Mistake, Code: "not-readable", At: rules.Origin{File: path},
		Message: message, Expected: expected,
	}
}

// still is the edits whose proposals are not gone: who deletes the branch of one does not
// want it.
func (f *Follows) still(edits []store.FollowEdit) []store.FollowEdit {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.DeleteFunc(edits, func(e store.FollowEdit) bool {
		return slices.ContainsFunc(f.proposals, func(p store.Proposal) bool {
			return p.Number == e.Proposal && p.State == model.ProposalGone
		})
	})
}

// see finds what revisions did to a bundle since the last time: the edits of releases, and
// drift.
func (f *Follows) see(ctx context.Context, x *follow) {
	now := f.Revisions.Current()
	f.mu.Lock()
	r, seenAt := x.record, x.seenAt
	f.mu.Unlock()
	if r.Files == nil || seenAt == now.Revision.Number {
		f.mu.Lock()
		x.seenAt, x.record.Seen = now.Revision.Number, now.Revision.Number
		f.mu.Unlock()
		return
	}
	edits, err := f.editsSince(ctx, r.Bundle, r.Seen, now.Revision.Number)
	if err != nil {
		f.Log.Error("what releases changed cannot be read", "bundle", r.Bundle, "error", err)
	}
	all := now.Revision.Bundles
	more := f.still(merge(r.Edits, edits))
	d := differs(all, r.Bundle, wanted(all, r.Bundle, r.Files, more))
	f.mu.Lock()
	x.record.Edits, x.record.Seen = more, now.Revision.Number
	x.seenAt, x.drift = now.Revision.Number, d
	f.mu.Unlock()
	if len(edits) > 0 {
		f.save(ctx, x)
	}
}

// maxBack is how many revisions are looked through for edits of releases.
const maxBack = 1000

// editsSince is what releases wrote into a bundle after a revision, up to another.
func (f *Follows) editsSince(ctx context.Context, bundle string, after, to uint) ([]store.FollowEdit, error) {
	if after == 0 || after >= to {
		return nil, nil
	}
	list, err := f.Records.Revisions(ctx, to+1, int(min(to-after, maxBack)))
	if err != nil {
		return nil, err
	}
	var out []store.FollowEdit
	for _, rev := range slices.Backward(list) {
		if rev.Number <= after || rev.Kind != "release" || rev.Base != 0 {
			continue
		}
		before, now, err := f.Revisions.Pair(ctx, rev.Number)
		if err != nil {
			return out, err
		}
		if slices.Equal(before.Bundles[bundle], now.Bundles[bundle]) {
			continue
		}
		e := store.FollowEdit{Release: strings.TrimPrefix(rev.Author, "release/"), Revision: rev.Number}
		out = merge(out, editsOf(e, bundle, revisions.WrittenOf(&before), revisions.WrittenOf(&now)))
	}
	return out, nil
}
