package revisions

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"nightjar/api/model"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/store"
)

var bundleShape = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// CheckBundleName returns what is wrong with the name of a bundle.
func CheckBundleName(name string) error {
	if !bundleShape.MatchString(name) {
		return problem.Invalid("%q cannot be the name of a bundle: use small letters, digits and hyphens", name)
	}
	return nil
}

// Joined is all files of all bundles: of the platform's first, whose access rules decide
// before those of teams, and then in the order of the bundles' names. The names of files
// that are not in the main bundle begin with their bundle's, so that positions are
// unambiguous.
func Joined(b store.Bundles) []rules.File {
	var out []rules.File
	names := slices.Sorted(maps.Keys(b))
	if i := slices.Index(names, model.MainBundle); i > 0 {
		names = slices.Insert(slices.Delete(names, i, i+1), 0, model.MainBundle)
	}
	for _, name := range names {
		for _, f := range b[name] {
			if name != model.MainBundle {
				f.Name = name + ":" + f.Name
			}
			out = append(out, f)
		}
	}
	return out
}

// With is the bundles with one of them replaced, or removed when there are no
// files.
func With(b store.Bundles, name string, files []rules.File) store.Bundles {
	out := maps.Clone(b)
	if out == nil {
		out = store.Bundles{}
	}
	out[name] = files
	if len(files) == 0 {
		delete(out, name)
	}
	return out
}

// SetTargets writes new targets of a route into the text of its file, and returns
// the bundle that the file is in with all its files. home is the service of the
// route; empty: it is a gateway's.
func SetTargets(
	b store.Bundles,
	rt *rules.Route,
	home string,
	targets []rules.Target,
) (bundle string, files []rules.File, err error) {
	bundle = model.MainBundle
	at := *rt
	if name, file, ok := strings.Cut(rt.SendAt.File, ":"); ok && b[name] != nil {
		bundle, at.SendAt.File = name, file
	}
	files, err = rules.SetSend(b[bundle], &at, home, targets)
	return bundle, files, err
}

// TextChange is a change in the text of one bundle.
type TextChange struct {
	Bundle  string
	Files   []rules.File
	Message string
}

// Split changes the weights of one route in the text of its file. route may be
// empty when only one can be meant.
func Split(now *Current, service, route string, weights []model.Weight) (TextChange, error) {
	s := now.Written.Service(service)
	if s == nil {
		return TextChange{}, problem.Missing(
			"the rules in force declare no service %s: publish a rule file that declares it",
			service,
		)
	}
	rt, err := rules.SplitRoute(s, route)
	if err != nil {
		return TextChange{}, problem.InvalidRequest{Why: err.Error()}
	}
	targets, err := targetsOf(service, weights)
	if err != nil {
		return TextChange{}, problem.InvalidRequest{Why: err.Error()}
	}
	bundle, files, err := SetTargets(now.Revision.Bundles, rt, service, targets)
	if err != nil {
		return TextChange{}, problem.InvalidRequest{Why: err.Error()}
	}
	return TextChange{
		bundle,
		files,
		fmt.Sprintf("split %s of %s: %s", rt.Name, service, rules.SendText(targets, service)),
	}, nil
}

func targetsOf(service string, weights []model.Weight) ([]rules.Target, error) {
	if len(weights) == 0 {
		return nil, errors.New("no weights were given: give at least one, such as v1=100")
	}
	var out []rules.Target
	var sum rules.Percent
	for _, w := range weights {
		s, v, isOther := strings.Cut(w.Target, "/")
		if !isOther {
			s, v = service, w.Target
		}
		p, err := rules.ParsePercent(w.Weight)
		if err != nil {
			return nil, fmt.Errorf("weight of %s: %w", w.Target, err)
		}
		sum += p
		out = append(out, rules.Target{Service: s, Version: v, Weight: p})
	}
	if sum != rules.Whole {
		return nil, fmt.Errorf("the weights add to %s, not to 100: change them", sum)
	}
	return out, nil
}
