package follows

import (
	"maps"
	"slices"
	"strings"

	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/store"
)

// drift is how what is in force differs from what it should be.
type drift struct {
	isThere bool
	changes []rules.Change // none: the texts differ, and say the same
}

// wanted is what should be in force: the files of the commit, with the edits of releases
// that the branch has not got yet. all is every bundle in force.
func wanted(all store.Bundles, bundle string, files []rules.File, edits []store.FollowEdit) []rules.File {
	for _, e := range edits {
		with := revisions.With(all, bundle, files)
		rt := routeOf(with, e)
		if rt == nil {
			continue
		}
		home := e.Ladder
		if written(with).Service(home) == nil {
			home = ""
		}
		in, edited, err := revisions.SetTargets(with, rt, home, e.Is)
		if err == nil && in == bundle {
			files = edited
		}
	}
	return files
}

func written(all store.Bundles) *rules.Rules {
	rs, _ := rules.Check(revisions.Joined(all), rules.Live{})
	return rs
}

func routeOf(all store.Bundles, e store.FollowEdit) *rules.Route {
	return written(all).Route(e.Ladder, e.Route)
}

// differs is the drift of a bundle: what is in force against what should be.
func differs(all store.Bundles, bundle string, want []rules.File) drift {
	if slices.Equal(all[bundle], want) {
		return drift{}
	}
	return drift{true, rules.Diff(written(revisions.With(all, bundle, want)), written(all))}
}

// left is the edits that a commit leaves: those whose routes it has as they were. An edit
// that it has too is done, and what it decides otherwise is the branch's word.
func left(all store.Bundles, bundle string, files []rules.File, edits []store.FollowEdit) []store.FollowEdit {
	if len(edits) == 0 {
		return nil
	}
	with := written(revisions.With(all, bundle, files))
	return slices.DeleteFunc(slices.Clone(edits), func(e store.FollowEdit) bool {
		rt := with.Route(e.Ladder, e.Route)
		return rt == nil || rules.SendText(rt.Send, "") != rules.SendText(e.Was, "")
	})
}

// editsOf is what a revision changed in the targets of a bundle's routes, each like e.
func editsOf(e store.FollowEdit, bundle string, before, after *rules.Rules) (out []store.FollowEdit) {
	each := func(ladder string, routes []*rules.Route) {
		for _, rt := range routes {
			old := before.Route(ladder, rt.Name)
			isSame := old == nil || rules.SendText(old.Send, "") == rules.SendText(rt.Send, "")
			if isSame || rt.SendAt.Bundle() != bundle {
				continue
			}
			e.Ladder, e.Route, e.Was, e.Is = ladder, rt.Name, old.Send, rt.Send
			out = append(out, e)
		}
	}
	for _, s := range after.Services {
		each(s.Name, s.Routes)
	}
	for _, g := range after.Gateways {
		each(g.Name, g.Routes)
	}
	return out
}

// merge adds the edits of a later revision to those of earlier ones. What takes an earlier
// one back leaves nothing.
func merge(list, more []store.FollowEdit) []store.FollowEdit {
	list = slices.Clone(list)
	for _, e := range more {
		at := slices.IndexFunc(list, func(o store.FollowEdit) bool {
			return o.Ladder == e.Ladder && o.Route == e.Route
		})
		if at >= 0 {
			e.Was = list[at].Was
			list = slices.Delete(list, at, at+1)
		}
		if rules.SendText(e.Is, "") != rules.SendText(e.Was, "") {
			list = append(list, e)
		}
	}
	return list
}

// changed is the new texts of files that differ from those of the branch; nil: the file is
// removed.
func changed(branch, proposed []rules.File) map[string]*string {
	out := map[string]*string{}
	for _, f := range branch {
		out[f.Name] = nil
	}
	for _, f := range proposed {
		at := slices.IndexFunc(branch, func(o rules.File) bool { return o.Name == f.Name })
		if at >= 0 && branch[at].Text == f.Text {
			delete(out, f.Name)
			continue
		}
		out[f.Name] = &f.Text
	}
	return out
}

// rebased is files on top of what the branch says now: those that were not changed since
// base are as the branch has them. both is one that was changed here and there; empty: none
// was.
func rebased(base, files, branch []rules.File) (out []rules.File, both string) {
	if len(base) == 0 {
		return files, ""
	}
	edited, since := changed(base, files), changed(base, branch)
	out = slices.DeleteFunc(slices.Clone(branch), func(g rules.File) bool { _, is := edited[g.Name]; return is })
	for _, name := range names(edited) {
		if _, isBoth := since[name]; isBoth {
			return nil, name
		}
		if text := edited[name]; text != nil {
			out = append(out, rules.File{Name: name, Text: *text})
		}
	}
	slices.SortFunc(out, func(a, b rules.File) int { return strings.Compare(a.Name, b.Name) })
	return out, ""
}

// names is the names of changed files.
func names(files map[string]*string) []string { return slices.Sorted(maps.Keys(files)) }
