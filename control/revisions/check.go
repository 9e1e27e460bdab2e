package revisions

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/problem"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	warnEvery       = 15 * time.Second // warnings that depend on traffic are computed anew
	maxReleases     = 50               // whose changes a report lists, running and ended ones each
	revisionsAtOnce = 500              // that are read while searching for what releases wrote
	maxDifferences  = 5                // that a note of remembered files lists
)

// proposal is rules that could be published.
type proposal struct {
	rules   *rules.Rules
	found   []rules.Finding
	changes []rules.Change // against what is written now; none when there are mistakes
}

// propose checks files as the new content of a bundle, beside the other bundles in
// force.
func (r *Revisions) propose(now *Current, bundle string, files []rules.File) (proposal, error) {
	if err := checkFiles(bundle, files); err != nil {
		return proposal{}, err
	}
	return r.proposeAll(now, With(now.Revision.Bundles, bundle, files)), nil
}

// replaced is the bundles in force with others in their place.
func replaced(now *Current, bundles store.Bundles) (store.Bundles, error) {
	out := now.Revision.Bundles
	for name, files := range bundles {
		if err := checkFiles(name, files); err != nil {
			return nil, err
		}
		out = With(out, name, files)
	}
	return out, nil
}

// checkFiles checks the name of a bundle and those of its files.
func checkFiles(bundle string, files []rules.File) error {
	if err := CheckBundleName(bundle); err != nil {
		return err
	}
	names := map[string]bool{}
	for _, f := range files {
		if f.Name == "" || names[f.Name] {
			return problem.Invalid("file name %q is empty or is there twice: give each file once", f.Name)
		}
		if strings.Contains(f.Name, ":") { // which parts the names of bundles and files
			return problem.Invalid("file name %q has a colon: rename the file", f.Name)
		}
		names[f.Name] = true
	}
	return nil
}

// proposeAll checks all bundles.
func (r *Revisions) proposeAll(now *Current, bundles store.Bundles) proposal {
	rs, found := rules.Check(Joined(bundles), r.Live())
	p := proposal{rules: rs, found: found}
	if rules.Mistakes(found) == 0 {
		p.changes = rules.Diff(now.Written, rs)
	}
	return p
}

// rejection is the error of rules with mistakes; nil: there are none.
func (p *proposal) rejection() error {
	if rules.Mistakes(p.found) > 0 {
		return problem.RulesRejected{Findings: p.found}
	}
	return nil
}

// Rules checks files as the new content of a bundle, and returns the rules that
// publishing them would put in force, with what would change. It returns
// problem.RulesRejected when they have mistakes.
func (r *Revisions) Rules(bundle string, files []rules.File) (*rules.Rules, []rules.Change, error) {
	now := r.Current()
	p, err := r.propose(&now, bundle, files)
	if err == nil && rules.Mistakes(p.found) > 0 {
		err = problem.RulesRejected{Findings: p.found, IsTry: true}
	}
	return p.rules, p.changes, err
}

func (r *Revisions) report(now *Current, p proposal) model.CheckReport {
	rep := model.CheckReport{
		Findings: from.Findings(p.found),
		Mistakes: rules.Mistakes(p.found),
		Changes:  from.Changes(p.changes),
		Revision: now.Revision.Number,
		Releases: runningChanges(now),
	}
	rep.Warnings = len(p.found) - rep.Mistakes
	return rep
}

// Check checks files, keeps nothing, and tells too what releases wrote since somebody
// published.
func (r *Revisions) Check(ctx context.Context, bundle string, files []rules.File) (model.CheckReport, error) {
	return r.CheckAll(ctx, bundle, store.Bundles{bundle: files})
}

// CheckAll is Check for several bundles, of which bundle is one.
func (r *Revisions) CheckAll(ctx context.Context, bundle string, list store.Bundles) (model.CheckReport, error) {
	now := r.Current()
	bundles, err := replaced(&now, list)
	if err != nil {
		return model.CheckReport{}, err
	}
	rep := r.report(&now, r.proposeAll(&now, bundles))
	if len(rep.Changes) > 0 {
		written, err := r.writtenSince(ctx, bundle)
		if err != nil {
			return rep, err
		}
		rep.Releases = append(rep.Releases, written...)
	}
	return rep, nil
}

// Remember checks files and keeps them, so that Unpublished compares them with what is in
// force until something is published. They must be files of the bundle.
func (r *Revisions) Remember(
	ctx context.Context,
	bundle string,
	files []rules.File,
) (model.CheckReport, error) {
	rep, err := r.Check(ctx, bundle, files)
	if err != nil {
		return rep, err
	}
	if published := r.Current().Revision.Bundles[bundle]; len(published) > 0 && !haveCommonName(published, files) {
		return rep, problem.Invalid(
			"nothing was remembered: none of these files is in bundle %s, which has %s. Name the bundle that they belong to",
			bundle,
			published[0].Name,
		)
	}
	r.checking.Lock()
	defer r.checking.Unlock()
	checked := store.Checked{
		Bundle:   bundle,
		Files:    files,
		By:       actor.Name(ctx),
		At:       r.Now().UTC(),
		Mistakes: rep.Mistakes,
	}
	if err := r.Records.Apply(ctx, store.SaveChecked{Checked: checked}); err != nil {
		return rep, err
	}
	r.checked = nil
	return rep, nil
}

// haveCommonName tells whether a file of a list is in the other one too, in whatever
// directory.
func haveCommonName(a, b []rules.File) bool {
	return slices.ContainsFunc(a, func(one rules.File) bool {
		return slices.ContainsFunc(
			b,
			func(other rules.File) bool { return path.Base(one.Name) == path.Base(other.Name) },
		)
	})
}

// unpublishedFiles is a result of Unpublished, and the revision that it is of.
type unpublishedFiles struct {
	list     []model.Unpublished
	revision uint
}

// Unpublished lists the bundles whose remembered files differ from what is in force. It
// is computed anew only when files are remembered, and after a new revision.
func (r *Revisions) Unpublished(ctx context.Context) ([]model.Unpublished, error) {
	r.checking.Lock()
	defer r.checking.Unlock()
	now := r.Current()
	if r.checked != nil && r.checked.revision == now.Revision.Number {
		return r.checked.list, nil
	}
	checked, err := r.Records.CheckedFiles(ctx)
	if err != nil {
		return nil, err
	}
	out := []model.Unpublished{}
	for _, k := range checked {
		p, err := r.propose(&now, k.Bundle, k.Files)
		if err != nil {
			continue
		}
		if mistakes := rules.Mistakes(p.found); mistakes > 0 || len(p.changes) > 0 {
			differences := rules.Condense(p.changes)
			out = append(out, model.Unpublished{
				Bundle:      k.Bundle,
				By:          k.By,
				At:          k.At,
				Files:       differing(now.Revision.Bundles[k.Bundle], k.Files),
				Mistakes:    mistakes,
				Changes:     len(differences),
				Differences: from.Changes(differences[:min(len(differences), maxDifferences)]),
			})
		}
	}
	r.checked = &unpublishedFiles{out, now.Revision.Number}
	return out, nil
}

// differing names the files of b that are not in a with the same text, and those of a
// that are not in b, in whatever directories.
func differing(a, b []rules.File) []string {
	out := []string{}
	left := slices.Clone(a)
	for _, f := range b {
		i := slices.IndexFunc(left, func(o rules.File) bool { return path.Base(o.Name) == path.Base(f.Name) })
		if i < 0 || left[i].Text != f.Text {
			out = append(out, f.Name)
		}
		if i >= 0 {
			left = slices.Delete(left, i, i+1)
		}
	}
	for _, f := range left {
		out = append(out, f.Name)
	}
	return out
}

// warnings is what the checker says of the rules in force, and of what it is.
type warnings struct {
	list             []model.Finding
	at               time.Time
	rules, instances uint64
}

// Warnings checks the rules in force against the mesh as it is now. The result is
// kept for a while, or until rules or instances change.
func (r *Revisions) Warnings() []model.Finding {
	r.warning.Lock()
	defer r.warning.Unlock()
	rulesAt, instancesAt := r.Fleet.Versions()
	w := &r.warnings
	if w.list == nil || w.rules != rulesAt || w.instances != instancesAt || r.Now().Sub(w.at) >= warnEvery {
		_, found := rules.Check(Joined(r.Current().Revision.Bundles), r.Live())
		*w = warnings{from.Findings(found), r.Now(), rulesAt, instancesAt}
	}
	return w.list
}

// runningChanges is what running releases change besides the text.
func runningChanges(now *Current) []model.ReleaseChanges {
	out := []model.ReleaseChanges{}
	for _, o := range now.Overlays[:min(len(now.Overlays), maxReleases)] {
		own := partOf(now.Written, o.Places)
		changes := rules.Diff(own, release.Apply(own, []release.Overlay{o.Overlay}))
		out = append(
			out,
			model.ReleaseChanges{
				Release:  o.Release,
				Number:   o.Number,
				Revision: o.Revision,
				Changes:  from.Changes(changes),
			},
		)
	}
	return out
}

// partOf is the services and gateways of some routes.
func partOf(rs *rules.Rules, places []release.Place) *rules.Rules {
	out := &rules.Rules{}
	for i, at := range places {
		if i > 0 && at.Ladder == places[i-1].Ladder {
			continue
		}
		if s := rs.Service(at.Ladder); s != nil {
			out.Services = append(out.Services, s)
		}
		if g := rs.Gateway(at.Ladder); g != nil {
			out.Gateways = append(out.Gateways, g)
		}
	}
	return out
}

// writtenSince lists what releases wrote into the text of a bundle since a person
// published it last, newest first.
func (r *Revisions) writtenSince(ctx context.Context, bundle string) ([]model.ReleaseChanges, error) {
	var out []model.ReleaseChanges
	r.ending.Lock() // so that nobody computes it twice
	defer r.ending.Unlock()
	known := r.written
	r.written = map[uint][]rules.Change{}
	for before := uint(0); ; {
		list, err := r.Records.Revisions(ctx, before, revisionsAtOnce)
		if err != nil {
			return nil, err
		}
		for _, rev := range list {
			before = rev.Number
			name, isRelease := strings.CutPrefix(rev.Author, "release/")
			isRelease = isRelease && rev.Kind == "release"
			switch {
			case !isRelease && (rev.Bundle == bundle || rev.Bundle == ""), len(out) >= maxReleases:
				return out, nil
			case !isRelease || rev.Bundle != bundle:
				continue
			}
			changes, ok := known[rev.Number]
			if !ok {
				if changes, _, err = r.textChanges(ctx, rev.Number); err != nil {
					return out, err
				}
			}
			r.written[rev.Number] = changes
			out = append(
				out,
				model.ReleaseChanges{
					Release:  name,
					Written:  true,
					Revision: rev.Number,
					Changes:  from.Changes(changes),
				},
			)
		}
		if len(list) < revisionsAtOnce {
			return out, nil
		}
	}
}

// maxChanges is how many changes of a revision are listed.
const maxChanges = 200

// Changes is what a revision changed in the text of the rules, compared with the newest
// one below it that is kept.
func (r *Revisions) Changes(ctx context.Context, number uint) (model.RevisionChanges, error) {
	if number == 0 {
		number = r.Current().Revision.Number
	}
	changes, before, err := r.textChanges(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return model.RevisionChanges{}, problem.Missing(
			"revision %d, or the one before it, is not there: older ones are not kept for ever",
			number,
		)
	}
	return model.RevisionChanges{
		Revision: number,
		Before:   before,
		Changes:  from.Changes(changes[:min(len(changes), maxChanges)]),
		Total:    len(changes),
	}, err
}

// textChanges is what a revision changed in the text of the rules, and the number of the
// one before it; 0: it is the first one.
func (r *Revisions) textChanges(ctx context.Context, number uint) (changes []rules.Change, before uint, err error) {
	last, rev, err := r.Pair(ctx, number)
	if err != nil {
		return nil, 0, err
	}
	return rules.Diff(WrittenOf(&last), WrittenOf(&rev)), last.Number, nil
}

// Pair is the revision before another, which has the number 0 when there was none, and that
// other one. It returns store.ErrNotFound when either is not kept any more.
func (r *Revisions) Pair(ctx context.Context, number uint) (before, rev store.Revision, err error) {
	if rev, err = r.Records.Revision(ctx, number); err != nil {
		return before, rev, err
	}
	// Numbers can be left out: those of a restored backup go on above what proxies follow.
	list, err := r.Records.Revisions(ctx, number, 1)
	switch {
	case err != nil || len(list) == 0 && number == 1:
		return before, rev, err
	case len(list) == 0:
		return before, rev, store.ErrNotFound
	}
	before, err = r.Records.Revision(ctx, list[0].Number)
	return before, rev, err
}
