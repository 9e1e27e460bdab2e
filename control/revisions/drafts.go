package revisions

import (
	"cmp"
	"context"
	"errors"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	maxDrafts = 1000
)

// Draft is what somebody is editing, without a name what who acts is editing.
func (r *Revisions) Draft(ctx context.Context, bundle, by string) (model.Draft, error) {
	by = cmp.Or(by, actor.Name(ctx))
	d, err := r.Records.Draft(ctx, bundle, by)
	if errors.Is(err, store.ErrNotFound) {
		err = problem.Missing("%q has no draft of bundle %s: save one first", by, bundle)
	}
	return from.Draft(d), err
}

// Drafts lists who is editing what.
func (r *Revisions) Drafts(ctx context.Context) ([]model.Draft, error) {
	list, err := r.Records.Drafts(ctx)
	return from.Drafts(list), err
}

// SaveDraft saves what somebody is editing, in place of the version expect; 0:
// there is none yet. It may have mistakes. It returns store.ErrDraftChanged when
// another version is there.
func (r *Revisions) SaveDraft(
	ctx context.Context,
	bundle string,
	q model.DraftRequest,
	expect uint,
) (model.Draft, error) {
	d := store.Draft{
		Bundle:  bundle,
		By:      actor.Name(ctx),
		Files:   from.ToFiles(q.Files),
		Base:    q.Base,
		Version: expect + 1,
		At:      r.Now().UTC(),
	}
	if err := CheckBundleName(bundle); err != nil {
		return model.Draft{}, err
	}
	total := 0
	for _, f := range d.Files {
		total += len(f.Text)
	}
	if total > rules.MaxBytes {
		return model.Draft{}, problem.Invalid(
			"the draft has %d bytes: at most %d can be published",
			total,
			rules.MaxBytes,
		)
	}
	if expect == 0 {
		list, err := r.Records.Drafts(ctx)
		if err != nil {
			return model.Draft{}, err
		}
		if len(list) >= maxDrafts {
			return model.Draft{}, problem.Invalid(
				"there are %d drafts already, of %s and others: discard some",
				len(list),
				list[0].By,
			)
		}
	}
	err := r.Records.Apply(ctx, store.SaveDraft{Draft: d})
	return from.Draft(d), err
}

// DeleteDraft deletes what who acts was editing, if it has the version expect (0:
// whichever it has); a draft that is not there is no error.
func (r *Revisions) DeleteDraft(ctx context.Context, bundle string, expect uint) error {
	return r.Records.Apply(ctx, store.DeleteDraft{Bundle: bundle, By: actor.Name(ctx), Version: expect})
}
