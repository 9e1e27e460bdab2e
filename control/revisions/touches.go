package revisions

import (
	"slices"
	"sync"
	"time"

	"nightjar/core/rules"
	"nightjar/store"
)

// maxTouches is how many revisions Touches knows; of those before them it says that they
// changed everything.
const maxTouches = 5000

// Touches is what the newest revisions changed: which services and gateways each of them
// touched (see rules.Touched). It is safe for concurrent use.
type Touches struct {
	mu   sync.Mutex
	list []Touch // by number
}

// Touch is what one revision changed.
type Touch struct {
	Number uint // 0: there is none
	At     time.Time
	Names  []string // nil: everything
}

// Has tells whether a revision touched any of the names; nil: any at all.
func (t *Touch) Has(names []string) bool {
	return t.Names == nil || names == nil ||
		slices.ContainsFunc(t.Names, func(n string) bool { return slices.Contains(names, n) })
}

// add adds revisions, which come in the order of their numbers.
func (t *Touches) add(list ...store.Revision) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, rev := range list {
		t.list = append(t.list, Touch{rev.Number, rev.At, rev.Touched})
	}
	if n := len(t.list) - maxTouches; n > maxTouches/4 {
		t.list = slices.Clone(t.list[n:])
		t.list[0].Names = nil // as far as anybody knows
	}
}

// upTo are the touches of revisions up to a number.
func (t *Touches) upTo(number uint) []Touch {
	t.mu.Lock()
	defer t.mu.Unlock()
	n, isThere := slices.BinarySearchFunc(t.list, number, func(one Touch, number uint) int {
		return int(one.Number) - int(number)
	})
	if isThere {
		n++
	}
	return t.list[:n:n]
}

// Around are the last revision before one, and the first after it, that touched any of
// the names (nil: any at all), as far as Touches knows.
func (t *Touches) Around(number uint, names []string) (before, after Touch) {
	for _, one := range slices.Backward(t.upTo(number - 1)) {
		if one.Has(names) {
			before = one
			break
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range t.list {
		if one.Number > number && one.Has(names) {
			return before, one
		}
	}
	return before, after
}

// Of is what a revision touched; nil: everything, or it is not known.
func (t *Touches) Of(number uint) []string {
	list := t.upTo(number)
	if n := len(list); n > 0 && list[n-1].Number == number {
		return list[n-1].Names
	}
	return nil
}

// Knows tells whether it is known what a revision changed.
func (t *Touches) Knows(number uint) bool {
	list := t.upTo(number)
	return len(list) > 0 && list[len(list)-1].Number == number
}

// Between are the revisions after one time and before another.
func (t *Touches) Between(from, to time.Time) (out []Touch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range t.list {
		if one.At.After(from) && one.At.Before(to) {
			out = append(out, one)
		}
	}
	return out
}

// Since finds for services and gateways (rules.GatewayName) the revision, up to a number,
// that touched them last: what holds for them has been the same since then. isDeclared
// tells which services are declared.
func (t *Touches) Since(number uint, isDeclared func(name string) bool) func(name string) Touch {
	last, everything := map[string]Touch{}, Touch{}
	for _, one := range slices.Backward(t.upTo(number)) {
		if one.Names == nil {
			everything = one
			break
		}
		note(last, &one)
	}
	return func(name string) Touch {
		out := latest(last[name], everything)
		if !isDeclared(name) {
			out = latest(out, last[rules.Undeclared])
		}
		return out
	}
}

// Until finds for services and gateways the first revision after a number that touched
// them; see Since.
func (t *Touches) Until(number uint, isDeclared func(name string) bool) func(name string) Touch {
	t.mu.Lock()
	defer t.mu.Unlock()
	first, everything := map[string]Touch{}, Touch{}
	for _, one := range t.list {
		if one.Number <= number {
			continue
		}
		if one.Names == nil {
			everything = one
			break
		}
		note(first, &one)
	}
	earliest := func(a, b Touch) Touch {
		if a.Number == 0 || b.Number > 0 && b.Number < a.Number {
			return b
		}
		return a
	}
	return func(name string) Touch {
		out := earliest(first[name], everything)
		if !isDeclared(name) {
			out = earliest(out, first[rules.Undeclared])
		}
		return out
	}
}

// note notes a touch for its names, where none is noted yet.
func note(by map[string]Touch, one *Touch) {
	for _, name := range one.Names {
		if by[name].Number == 0 {
			by[name] = *one
		}
	}
}

func latest(a, b Touch) Touch {
	if b.Number > a.Number {
		return b
	}
	return a
}
