// Package edge is what a gateway asks of those who call from outside: whom it believes
// where a request came from, what they may take up, and the tokens that they show.
package edge

import (
	"hash/maphash"
	"maps"
	"slices"
	"sync"
	"time"

	"nightjar/certs"
	"nightjar/core/rules"
)

// Edge is what the rules in force say. It never changes.
type Edge struct {
	Trust  *rules.Trust // nil: nobody is believed
	Kept   []string     // fields that stay: see rules.Trust
	Limits rules.EdgeLimits
	IsOpen bool     // refusals tell outsiders what members are told
	Owned  []string // fields that workloads get of tokens alone

	verifiers map[*rules.JWT]*verifier
	before    map[*rules.JWT]*verifier // of rules that some requests may still follow
}

// Verify checks the bearer token of a request, which is good during the call. An error of
// which IsUnchecked is true says that there are no keys to check it by.
func (e *Edge) Verify(by *rules.JWT, token string, now time.Time) (*Token, error) {
	v := e.verifiers[by]
	if v == nil {
		v = e.before[by]
	}
	if v == nil {
		return nil, unchecked{"the rules have just changed"}
	}
	return v.verify(token, now)
}

// IsUnchecked tells whether an error of Verify says that a token could not be checked.
func IsUnchecked(err error) bool {
	_, is := err.(unchecked)
	return is
}

// Keeper looks after the keys of tokens. The zero value has none; end it with Close.
type Keeper struct {
	Dir string // from which the paths of files count; empty: the working directory

	mu        sync.Mutex
	isOver    bool
	sets      map[string]*keySet   // by where they come from
	verifiers map[string]*verifier // by what the rule says
	last      map[*rules.JWT]*verifier
}

// Follow makes the edge of a gateway. What is kept of its tokens goes on where nothing
// about them changed.
func (k *Keeper) Follow(g *rules.Gateway) *Edge {
	e := &Edge{Trust: g.Trust, IsOpen: g.Details == rules.DetailsFull, verifiers: map[*rules.JWT]*verifier{}}
	if g.Limits != nil {
		e.Limits = *g.Limits
	}
	if g.Trust != nil {
		e.Kept = g.Trust.Keep
	}
	var asks []*rules.JWT
	add := func(a *rules.Authenticate) {
		if a != nil && a.JWT != nil {
			asks = append(asks, a.JWT)
		}
	}
	add(g.Authenticate)
	for _, rt := range g.Routes {
		add(rt.Authenticate)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.isOver {
		return e
	}
	sets, verifiers := map[string]*keySet{}, map[string]*verifier{}
	for _, j := range asks {
		from := j.Keys
		if !isURL(from) {
			from = certs.Under(k.Dir, from)
		}
		if sets[from] == nil {
			if sets[from] = k.sets[from]; sets[from] == nil {
				sets[from] = newKeySet(from)
			}
		}
		text := j.String()
		if verifiers[text] == nil {
			if verifiers[text] = k.verifiers[text]; verifiers[text] == nil || verifiers[text].keys != sets[from] {
				verifiers[text] = &verifier{by: j, keys: sets[from], seed: maphash.MakeSeed()}
			}
		}
		e.verifiers[j] = verifiers[text]
		for _, f := range j.Fields {
			if !slices.Contains(e.Owned, f.Field) {
				e.Owned = append(e.Owned, f.Field)
			}
		}
	}
	for from, s := range k.sets {
		if sets[from] == nil {
			s.close()
		}
	}
	k.sets, k.verifiers = sets, verifiers
	e.before, k.last = k.last, e.verifiers
	return e
}

// Problem tells what is wrong with the keys; empty: nothing.
func (k *Keeper) Problem() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, from := range slices.Sorted(maps.Keys(k.sets)) {
		s := k.sets[from]
		failed := s.failed.Load()
		switch {
		case failed == nil || *failed == "":
		case s.now.Load() == nil:
			return "there are no keys to check tokens by: " + *failed
		default:
			return "keys of tokens cannot be read again, and the last ones are used: " + *failed
		}
	}
	return ""
}

// Close ends looking after keys.
func (k *Keeper) Close() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.isOver = true
	for _, s := range k.sets {
		s.close()
	}
	k.sets = nil
}
