package revisions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/store"
)

// Publication asks for a new revision.
type Publication struct {
	Bundle  string // that the files replace
	Files   []rules.File
	Others  store.Bundles // that are replaced at once
	Author  string
	Message string
	Expect  *uint         // publish only on top of this revision; nil: on top of any
	Wait    time.Duration // how long to wait for acknowledgements
	// RefuseUsedLinks publishes access rules even if they refuse links that are in use.
	RefuseUsedLinks bool
	// Commit is the id of the commit of a repository that the files are of; empty: none.
	Commit string
}

// Publish replaces a bundle by a new revision. The revision is stored before any
// proxy gets it. Text that is in force already makes no new revision.
func (r *Revisions) Publish(ctx context.Context, q Publication) (model.Published, error) {
	if len(q.Files) == 0 {
		return model.Published{}, problem.Invalid(
			"files: a revision needs at least one file. To remove a bundle, delete it: nightjar rules remove %s",
			q.Bundle,
		)
	}
	all := With(q.Others, q.Bundle, q.Files)
	for name, files := range all {
		if len(files) == 0 {
			return model.Published{}, problem.Invalid("others: bundle %s has no files", name)
		}
	}
	rev := store.Revision{Kind: "publish", Bundle: q.Bundle, Author: q.Author, Message: q.Message, Commit: q.Commit}
	if q.Commit != "" {
		rev.Kind = "commit"
	}
	if len(all) > 1 {
		rev.Bundle = ""
	}
	return r.publish(ctx, rev, &q, func(now *Current) (proposal, store.Bundles, error) {
		bundles, err := replaced(now, all)
		if err != nil {
			return proposal{}, nil, err
		}
		return r.proposeAll(now, bundles), bundles, nil
	})
}

// Remove publishes a revision without a bundle. Of the publication, Bundle names it, and
// Files are not used.
func (r *Revisions) Remove(ctx context.Context, q Publication) (model.Published, error) {
	rev := store.Revision{Kind: "publish", Bundle: q.Bundle, Author: q.Author, Message: q.Message}
	rev.Message = cmp.Or(rev.Message, "remove bundle "+q.Bundle)
	return r.publish(ctx, rev, &q, func(now *Current) (proposal, store.Bundles, error) {
		if now.Revision.Bundles[q.Bundle] == nil {
			return proposal{}, nil, problem.Missing("the rules in force have no bundle %s: name %s",
				q.Bundle, rules.OneOf(q.Bundle, slices.Sorted(maps.Keys(now.Revision.Bundles))))
		}
		bundles := With(now.Revision.Bundles, q.Bundle, nil)
		return r.proposeAll(now, bundles), bundles, nil
	})
}

// Split changes the weights of one route in the text of its file, and publishes
// that. route may be empty when only one can be meant. Of the publication, Bundle
// and Files are not used.
func (r *Revisions) Split(
	ctx context.Context,
	service, route string,
	weights []model.Weight,
	q Publication,
) (model.Published, error) {
	now := r.Current()
	change, err := Split(&now, service, route, weights)
	if err != nil {
		return model.Published{}, err
	}
	if q.Expect == nil {
		q.Expect = &now.Revision.Number // what was edited is what is replaced
	}
	rev := store.Revision{
		Kind:    "split",
		Bundle:  change.Bundle,
		Author:  q.Author,
		Message: cmp.Or(q.Message, change.Message),
	}
	return r.publish(ctx, rev, &q, func(now *Current) (proposal, store.Bundles, error) {
		p, err := r.propose(now, change.Bundle, change.Files)
		return p, With(now.Revision.Bundles, change.Bundle, change.Files), err
	})
}

// Restore publishes all bundles of an earlier revision again. Of the publication, Bundle
// and Files are not used.
func (r *Revisions) Restore(ctx context.Context, number uint, q Publication) (model.Published, error) {
	old, err := r.Records.Revision(ctx, number)
	if number == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return model.Published{}, noRevision(number, err)
	}
	message := cmp.Or(q.Message, fmt.Sprintf("restore revision %d", number))
	rev := store.Revision{Kind: "restore", Author: q.Author, Message: message}
	return r.publish(ctx, rev, &q, func(now *Current) (proposal, store.Bundles, error) {
		return r.proposeAll(now, old.Bundles), old.Bundles, nil
	})
}

// publish puts a revision by a person in force: what propose decides, on top of
// what is in force then, which must be what the person expects.
func (r *Revisions) publish(
	ctx context.Context, rev store.Revision, q *Publication,
	propose func(*Current) (proposal, store.Bundles, error),
) (model.Published, error) {
	var out model.Published
	var since time.Time
	err := r.Change(ctx, func(now Current) (Decision, error) {
		if n := now.Revision.Number; q.Expect != nil && *q.Expect != n {
			return Decision{}, problem.RevisionConflict{Expected: *q.Expect, Current: n}
		}
		p, bundles, err := propose(&now)
		if err == nil {
			err = p.rejection()
		}
		if err == nil && !q.RefuseUsedLinks {
			err = r.refusesLinks(&now, p)
		}
		if err != nil {
			return Decision{}, err
		}
		if now.Newest == now.Revision.Number && maps.EqualFunc(bundles, now.Revision.Bundles, slices.Equal) {
			out = model.Published{
				Revision: now.Revision.Number, IsUnchanged: true,
				Changes: []model.Change{}, Warnings: from.Findings(p.found),
			}
			since = now.Since
			return Decision{Changes: []store.Change{store.DeleteChecked{Bundle: rev.Bundle}}, Apply: r.unremember}, nil
		}
		rev.Number, rev.At = now.Newest+1, r.Now().UTC()
		rev.Author, rev.Bundles = cmp.Or(rev.Author, "unknown"), bundles
		c, err := r.consequence(rev, p)
		if err != nil {
			return Decision{}, err
		}
		out = model.Published{
			Revision:  rev.Number,
			Changes:   from.Changes(p.changes),
			Warnings:  from.Findings(p.found),
			Withdrawn: c.Withdrawn,
		}
		d := Decision{Revisions: []store.Revision{rev}, Written: p.rules}
		d.Changes = append(c.Changes, store.DeleteChecked{Bundle: rev.Bundle})
		d.Overlays = slices.DeleteFunc(
			slices.Clone(now.Overlays),
			func(o Overlay) bool { return slices.Contains(c.Ended, o.Number) },
		)
		d.Apply = func() {
			since = r.Current().Since
			r.unremember()
			if c.Apply != nil {
				c.Apply()
			}
		}
		return d, nil
	})
	if err != nil {
		return model.Published{}, err
	}
	out.Rollout = r.Fleet.Await(ctx, out.Revision, since, min(q.Wait, maxWait))
	return out, nil
}

// unremember makes Unpublished read anew what is remembered.
func (r *Revisions) unremember() {
	r.checking.Lock()
	defer r.checking.Unlock()
	r.checked = nil
}

// refusesLinks is the error of access rules that would refuse links that are in use, and
// that the rules in force let through; nil: there are none.
func (r *Revisions) refusesLinks(now *Current, p proposal) error {
	if p.rules.Access == nil {
		return nil
	}
	links := r.Live().Links
	before := now.Rules.RefusedLinks(links)
	var out problem.RefusesUsedLinks
	for _, l := range p.rules.RefusedLinks(links) {
		isSame := func(b rules.RefusedLink) bool { return b.From == l.From && b.To == l.To }
		if !slices.ContainsFunc(before, isSame) {
			out.Findings = append(out.Findings, p.rules.RefusalOf(l))
		}
	}
	if len(out.Findings) > 0 {
		return out
	}
	return nil
}

func (r *Revisions) consequence(rev store.Revision, p proposal) (Consequence, error) {
	if r.dependent == nil {
		return Consequence{}, nil
	}
	return r.dependent.Published(rev, p.rules, p.changes)
}

// Revision reads one revision with its files; 0 is the one in force.
func (r *Revisions) Revision(ctx context.Context, number uint) (store.Revision, error) {
	if number == 0 {
		return r.Current().Revision, nil
	}
	rev, err := r.Records.Revision(ctx, number)
	return rev, noRevision(number, err)
}

// noRevision says which revision does not exist.
func noRevision(number uint, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return problem.Missing("there is no revision %d: \"nightjar rules log\" lists the revisions", number)
	}
	return err
}

// List lists revisions below the number before (0: from the newest), newest first.
func (r *Revisions) List(ctx context.Context, before uint, limit int) ([]model.Revision, error) {
	list, err := r.Records.Revisions(ctx, before, limit)
	return from.Revisions(list), err
}
