package follows

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/git"
	"nightjar/store"
)

const (
	maxOpen        = 50   // proposals of a bundle
	maxMessage     = 4000 // bytes
	forecastTime   = 20 * time.Second
	forecastSize   = 20_000 // requests
	maxForecastRow = 12
)

// openProposals is those of a bundle that are open.
func (f *Follows) openProposals(bundle string) (out []store.Proposal) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.proposals {
		if p.Bundle == bundle && p.State == model.ProposalOpen {
			out = append(out, p)
		}
	}
	return out
}

// branchOf is the name of the branch of a proposal, without its number.
func branchOf(bundle string) string { return "nightjar/" + bundle + "-" }

// skip leaves out the numbers of branches that are there already, such as those of an
// earlier service.
func (f *Follows) skip(bundle string, branches map[string]string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for name := range branches {
		number, isOurs := strings.CutPrefix(name, branchOf(bundle))
		if n, err := strconv.ParseUint(number, 10, 31); isOurs && err == nil {
			f.last = max(f.last, uint(n))
		}
	}
}

// judge finds what became of open proposals.
func (f *Follows) judge(ctx context.Context, x *follow, open []store.Proposal, s *git.State) {
	for _, p := range open {
		_, isThere := s.Branches[p.Branch]
		switch {
		case slices.Contains(s.Merged, p.Commit), s.Commit != nil && has(s.Commit.Files, p):
			p.State = model.ProposalMerged
		case !isThere:
			p.State = model.ProposalGone
		default:
			continue
		}
		p.Since = f.Now().UTC()
		f.keep(ctx, p)
		if p.State == model.ProposalGone { // its edit, if it is a release's, is not wanted any more
			f.mu.Lock()
			x.decidedAt, x.seenAt = 0, unseen
			f.mu.Unlock()
		}
	}
}

// has tells whether a branch says what a proposal does, however it came there.
func has(files []rules.File, p store.Proposal) bool {
	for _, want := range p.Texts {
		at := slices.IndexFunc(files, func(o rules.File) bool { return o.Name == want.Name })
		if at < 0 || files[at].Text != want.Text {
			return false
		}
	}
	return len(p.Texts) > 0
}

// keep stores a proposal, and lists it.
func (f *Follows) keep(ctx context.Context, p store.Proposal, more ...store.Change) error {
	if err := f.apply(ctx, append([]store.Change{store.SaveProposal{Proposal: p}}, more...)...); err != nil {
		f.Log.Error("a proposal cannot be stored", "bundle", p.Bundle, "number", p.Number, "error", err)
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	at := slices.IndexFunc(f.proposals, func(o store.Proposal) bool { return o.Number == p.Number })
	if at >= 0 {
		f.proposals[at] = p
		return nil
	}
	f.proposals = slices.Insert(f.proposals, 0, p)
	kept := 0
	f.proposals = slices.DeleteFunc(f.proposals, func(o store.Proposal) bool {
		if o.Bundle == p.Bundle {
			kept++
		}
		return o.Bundle == p.Bundle && kept > store.KeptProposals
	})
	return nil
}

// putForward proposes what releases wrote.
func (f *Follows) putForward(ctx context.Context, x *follow) {
	f.mu.Lock()
	r := x.record
	x.unproposed = ""
	f.mu.Unlock()
	var release string
	var rest []store.FollowEdit
	for _, e := range r.Edits {
		if e.Proposal == 0 {
			release = e.Release
			rest = append(rest, e)
		}
	}
	if len(rest) == 0 || r.Tip == "" || r.Files == nil {
		return
	}
	all := f.Revisions.Current().Revision.Bundles
	number, err := f.propose(ctx, x, wanted(all, r.Bundle, r.Files, rest), proposal{
		message: fmt.Sprintf("Release %s: %s", release, describe(rest)),
		of:      "the end of release " + release,
		by:      "release/" + release,
	})
	if err != nil {
		f.mu.Lock()
		x.unproposed = err.Error() // the next look tries again
		f.mu.Unlock()
		return
	}
	f.mu.Lock()
	x.record.Edits = slices.Clone(x.record.Edits)
	for i := range x.record.Edits {
		if e := &x.record.Edits[i]; e.Proposal == 0 {
			e.Proposal = number
		}
	}
	f.mu.Unlock()
	f.save(ctx, x)
}

func describe(edits []store.FollowEdit) string {
	out := make([]string, len(edits))
	for i, e := range edits {
		to := rules.SendText(e.Is, e.Ladder)
		out[i] = fmt.Sprintf("%s/%s to %s", e.Ladder, e.Route, to)
	}
	return strings.Join(out, ", ")
}

// proposal is what is proposed, in words.
type proposal struct{ message, of, by string }

// propose pushes files as a branch. The caller has the turn.
func (f *Follows) propose(ctx context.Context, x *follow, files []rules.File, p proposal) (uint, error) {
	f.mu.Lock()
	r := x.record
	f.mu.Unlock()
	if len(f.openProposals(r.Bundle)) >= maxOpen {
		return 0, problem.Invalid("%d proposals of bundle %s are open, which is the limit: merge or delete some",
			maxOpen, r.Bundle)
	}
	rs, _, err := f.Revisions.Rules(r.Bundle, files)
	if err != nil {
		return 0, err
	}
	edited := changed(r.Files, files)
	if len(edited) == 0 {
		return 0, problem.Invalid("branch %s of bundle %s says this already: there is nothing to propose",
			r.Branch, r.Bundle)
	}
	f.mu.Lock()
	f.last++ // also of a proposal that fails: a number is used once
	number := f.last
	f.mu.Unlock()
	now := f.Now().UTC()
	out := store.Proposal{
		Number: number, Bundle: r.Bundle, Branch: branchOf(r.Bundle) + fmt.Sprint(number),
		Message: p.message, By: p.by, At: now, State: model.ProposalOpen, Since: now, Of: p.of,
		Files: names(edited),
	}
	for name, text := range edited {
		if text != nil {
			out.Texts = append(out.Texts, rules.File{Name: name, Text: *text})
		}
	}
	edit := git.Edit{Base: r.Tip, Branch: out.Branch, Author: out.By, Message: out.Message, At: out.At, Files: edited}
	ctx = context.WithoutCancel(ctx) // what is pushed is recorded, also for a caller who has left
	if out.Commit, err = x.repo.Propose(ctx, edit); err != nil {
		return 0, problem.Later("nothing was proposed: %s", err)
	}
	all := f.Revisions.Current().Revision.Bundles
	shown := rules.Condense(rules.Diff(written(revisions.With(all, r.Bundle, r.Files)), rs))
	out.Changes, _ = json.Marshal(from.Changes(shown[:min(len(shown), maxChanges)]))
	out.Forecast, _ = json.Marshal(f.forecast(ctx, r.Bundle, files, rs))
	entry := store.Activity{At: out.At, Who: p.by, Kind: "proposed",
		Detail: fmt.Sprintf("proposal %d: %s, as branch %s of bundle %s", number, p.of, out.Branch, r.Bundle)}
	if err := f.keep(ctx, out, journal.Entries(ctx, entry)); err != nil {
		return 0, err
	}
	return number, nil
}

// forecast is what is expected of a proposal: of the mesh, and of what it changes.
func (f *Follows) forecast(
	ctx context.Context, bundle string, files []rules.File, rs *rules.Rules,
) model.ProposalForecast {
	ctx, stop := context.WithTimeout(ctx, forecastTime)
	defer stop()
	out := model.ProposalForecast{Rows: []model.EffectRow{}}
	c, err := f.Forecast(ctx, model.ForecastRequest{Rules: from.Files(files), Bundle: bundle, Requests: forecastSize})
	if err != nil {
		out.Failed = err.Error()
		return out
	}
	touched := rules.Touched(f.Revisions.Current().Rules, rs)
	for _, row := range c.Rows {
		isTouched := row.Kind == "service" && slices.Contains(touched, row.Name)
		if len(out.Rows) < maxForecastRow && (row.Kind == "mesh" || isTouched) {
			out.Rows = append(out.Rows, row)
		}
	}
	out.Worse = c.Worse
	return out
}

// viewOf is a proposal as people see it.
func viewOf(p store.Proposal) model.Proposal {
	out := model.Proposal{
		Number: p.Number, Bundle: p.Bundle, Branch: p.Branch, Commit: p.Commit, Message: p.Message, Of: p.Of, By: p.By,
		At: p.At, State: p.State, Since: p.Since, Files: p.Files, Changes: []model.Change{},
	}
	json.Unmarshal(p.Changes, &out.Changes) // they were written by this program
	forecast := &model.ProposalForecast{}
	if json.Unmarshal(p.Forecast, forecast) == nil && len(p.Forecast) > 0 {
		out.Forecast = forecast
	}
	return out
}

// Propose pushes a change of a bundle as a branch of its own, to be reviewed.
func (f *Follows) Propose(ctx context.Context, bundle string, q model.ProposalRequest) (model.Proposal, error) {
	if strings.TrimSpace(q.Message) == "" || len(q.Message) > maxMessage {
		return model.Proposal{}, problem.Invalid(
			"a proposal needs a message, of at most %d bytes: say what it does and why", maxMessage)
	}
	x, err := f.taken(ctx, bundle)
	if err != nil {
		return model.Proposal{}, err
	}
	defer func() { x.turn <- struct{}{} }()
	if x.repo == nil {
		return model.Proposal{}, problem.Later("bundle %s: %s", bundle, x.failed)
	}
	known := x.record.Files
	files, base, of, err := f.proposed(ctx, bundle, known, q)
	if err != nil {
		return model.Proposal{}, err
	}
	f.lookOnce(context.WithoutCancel(ctx), x, Options{}) // a proposal is on top of what the branch says now
	branch, at := x.record.Files, x.record.Path
	switch {
	case x.failed != "":
		return model.Proposal{}, problem.Later("nothing was proposed: %s", x.failed)
	case branch == nil:
		return model.Proposal{}, problem.Later("nothing was proposed: no commit of the branch is in force yet (%s)",
			x.record.Why)
	}
	if files, err = named(branch, files, at); err != nil {
		return model.Proposal{}, err
	}
	base, _ = named(branch, base, at) // what it began from, if it was called so
	files, both := rebased(base, files, branch)
	if both != "" {
		return model.Proposal{}, problem.Running("%s was changed on branch %s meanwhile: look at what is in force "+
			"now, and propose again", both, x.record.Branch)
	}
	number, err := f.propose(ctx, x, files, proposal{message: q.Message, of: of, by: actor.Name(ctx)})
	if err != nil {
		return model.Proposal{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.proposals {
		if p.Number == number {
			return viewOf(p), nil
		}
	}
	return model.Proposal{}, problem.Missing("proposal %d is there no more", number)
}

// proposed is the files that somebody proposes, those that they began from, and what it is,
// in words. known is what the branch said last. Without a base the files are the whole
// bundle, whatever the branch says.
func (f *Follows) proposed(
	ctx context.Context, bundle string, known []rules.File, q model.ProposalRequest,
) (files, base []rules.File, of string, err error) {
	count := 0
	for _, is := range []bool{len(q.Files) > 0, q.Draft, q.Split != nil, q.Revision > 0} {
		if is {
			count++
		}
	}
	now := f.Revisions.Current()
	switch {
	case count > 1:
		err = problem.Invalid("files, draft, split and revision cannot be combined: propose one of them")
	case len(q.Files) > 0:
		return from.ToFiles(q.Files), nil, "rule files", nil
	case q.Draft:
		d, err := f.Revisions.Draft(ctx, bundle, "")
		if err != nil {
			return nil, nil, "", err
		}
		if began, err := f.Revisions.Revision(ctx, d.Base); err == nil { // it may not be kept any more
			base = began.Bundles[bundle]
		}
		return from.ToFiles(d.Files), base, "a draft", nil
	case q.Split != nil:
		c, err := revisions.Split(&now, q.Split.Service, q.Split.Route, q.Split.Weights)
		if err == nil && c.Bundle != bundle {
			err = problem.Invalid("the route is in bundle %s: propose it there", c.Bundle)
		}
		return c.Files, known, c.Message, err
	case q.Revision > 0:
		rev, err := f.Revisions.Revision(ctx, q.Revision)
		if err == nil && len(rev.Bundles[bundle]) == 0 {
			err = problem.Missing("revision %d has no bundle %s", q.Revision, bundle)
		}
		return rev.Bundles[bundle], known, fmt.Sprintf("revision %d", q.Revision), err
	}
	return now.Revision.Bundles[bundle], known, fmt.Sprintf("what is in force at revision %d", now.Revision.Number), err
}

// named is files as they are called in the repository: each like the one with its name
// there, or else below the path.
func named(branch, files []rules.File, at string) ([]rules.File, error) {
	isFile := git.IsRuleFile(at) && len(branch) == 1 && branch[0].Name == at
	if isFile && len(files) > 1 {
		return nil, problem.Invalid("the bundle follows the file %s alone: propose one file", at)
	}
	out := make([]rules.File, len(files))
	for i, g := range files {
		name := nameIn(branch, g.Name, at)
		if isFile {
			name = at
		}
		isHidden := strings.Contains("/"+name, "/.")
		if isHidden || !git.IsRuleFile(name) {
			return nil, problem.Invalid("%q cannot be a rule file of the repository: call it like one, such as %s",
				g.Name, path.Join(at, "rules.yaml"))
		}
		out[i] = rules.File{Name: name, Text: g.Text}
	}
	slices.SortFunc(out, func(a, b rules.File) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func nameIn(branch []rules.File, name, at string) string {
	name = strings.TrimPrefix(path.Clean("/"+name), "/") // it leads nowhere else
	var like, end []string                               // by their last element, and by all that one of them has
	for _, b := range branch {
		if path.Base(b.Name) == path.Base(name) {
			like = append(like, b.Name)
		}
		if strings.HasSuffix("/"+name, "/"+b.Name) || strings.HasSuffix("/"+b.Name, "/"+name) {
			end = append(end, b.Name)
		}
	}
	switch {
	case len(end) == 1:
		return end[0]
	case len(like) == 1:
		return like[0]
	case at != "." && name != at && !strings.HasPrefix(name, at+"/"):
		return path.Join(at, path.Base(name))
	}
	return name
}

// Withdraw deletes the branch of an open proposal.
func (f *Follows) Withdraw(ctx context.Context, bundle string, number uint) (model.Follow, error) {
	x, err := f.taken(ctx, bundle)
	if err != nil {
		return model.Follow{}, err
	}
	defer func() { x.turn <- struct{}{} }()
	for _, p := range f.openProposals(bundle) {
		if p.Number != number || x.repo == nil {
			continue
		}
		if err := x.repo.Withdraw(ctx, p.Branch, p.Commit); err != nil {
			return model.Follow{}, problem.Later("proposal %d stays: %s", number, err)
		}
		f.lookOnce(context.WithoutCancel(ctx), x, Options{})
		return f.Get(ctx, bundle)
	}
	return model.Follow{}, problem.Missing("bundle %s has no open proposal %d: nightjar follow list names them",
		bundle, number)
}
