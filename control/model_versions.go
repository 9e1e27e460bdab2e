package control

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
)

// behaviours finds how every version behaves.
func (k *maker) behaviours(changes forecast.Changes) {
	declared := map[string]bool{}
	outside := map[string]bool{}
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, v := range s.Versions {
				declared[s.Name+"/"+v] = true
			}
			for _, in := range s.Instances {
				outside[s.Name+"/"+in.Version] = true
			}
		}
	}
	for of := range k.seen.app {
		declared[of] = true
	}
	for _, of := range slices.Sorted(maps.Keys(declared)) {
		b, taken := k.version(of, outside[of])
		if c, ok := changes[of]; ok {
			k.change(of, &b, &taken, c)
		}
		k.m.behaviour[of] = b
		if taken.Requests > 0 || changes[of].Own != nil {
			k.m.versions = append(k.m.versions, taken)
		}
	}
	for _, of := range slices.Sorted(maps.Keys(changes)) {
		if !declared[of] {
			k.m.assume("The behaviour file speaks of %s, which nobody knows.", of)
		}
	}
	if len(k.granted) > 0 {
		k.m.assume("Too few calls failed to see whether a workload fails with what it calls; it is taken to: %s.", strings.Join(k.granted, ", "))
	}
	k.unknownVersions(changes)
}

// change puts what somebody says in place of what was measured.
func (k *maker) change(of string, b *forecast.Behaviour, taken *TakenFor, c forecast.Change) {
	k.m.assume("%s behaves as the behaviour file says, where it says something.", of)
	if c.Own != nil {
		b.Own = c.Own
	}
	if c.Hop != nil {
		b.Hop = *c.Hop
	}
	if c.Errors != nil {
		b.Errors = *c.Errors
	}
	if c.AtOnce != nil {
		b.AtOnce = *c.AtOnce
	}
	if c.Calls != nil {
		before := b.Calls
		b.Calls = nil
		for _, call := range c.Calls {
			for _, old := range before {
				if old.To == call.To && call.Kinds == nil {
					call.Kinds = old.Kinds
				}
			}
			if call.Kinds == nil {
				call.Kinds = []forecast.Kind{{Weight: 1, Request: &forecast.Request{Path: "/"}}}
			}
			b.Calls = append(b.Calls, call)
		}
	}
	*taken = takenFor(of, taken.Requests, b)
}

// enough is how many requests tell something of a version.
const enough = 30

// version is how a version behaved.
func (k *maker) version(of string, outside bool) (forecast.Behaviour, TakenFor) {
	var b forecast.Behaviour
	app, callers := k.seen.app[of], k.seen.versions[of]
	if app == nil || outside {
		if callers == nil || callers.Requests() == 0 {
			return b, TakenFor{Target: of}
		}
		// Nobody stands beside it: what callers saw is all there is.
		timeout, _ := engine.TimedOut.Number()
		late := callers.Reasons[timeout]
		b.Own = longer(forecast.Measured(shortest(callers.Latency, callers.Requests()-late)), share0(late, callers.Requests()))
		b.Errors = share0(callers.Status[5], callers.Requests())
		if late > 0 {
			k.m.assume("%d of %d requests to %s ran into a timeout: how long they would have taken is not known, and they are taken for longer than any timeout.", late, callers.Requests(), of)
		}
		return b, takenFor(of, callers.Requests(), &b)
	}
	service, version := cutTarget(of)
	n := app.Requests()
	var parts []forecast.Part
	var unseen []string
	failed := float64(app.Failed + app.Refused)
	for _, l := range k.callsOf(service, version) {
		calls := k.seen.links[l]
		if l.Service == service || n == 0 {
			continue
		}
		call := forecast.Call{To: l.Service, PerOne: float64(calls.Requests()) / float64(n), Kinds: k.kinds(l)}
		if call.PerOne > 50 || len(call.Kinds) == 0 {
			k.m.assume("Calls of %s to %s are left out: no request is known that their routes would take.", of, l.Service)
			continue
		}
		if d := call.PerOne; d > 0.97 && d < 1.03 {
			call.PerOne = 1 // what was under way at the ends of the window
		}
		unserved := calls.Failed + calls.Refused
		slope, known := goesWith(k.seen.unserved[l], k.seen.unhealthy[of], k.seen.from, k.seen.to)
		switch {
		case unserved >= 5 && known:
			call.Needed = slope > 0.5
		default:
			call.Needed = true
			unseen = append(unseen, l.Service)
		}
		if call.Needed {
			failed -= float64(unserved)
		}
		parts = append(parts, forecast.Part{PerOne: call.PerOne, Bins: calls.Latency})
		b.Calls = append(b.Calls, call)
	}
	if len(unseen) > 0 {
		k.granted = append(k.granted, fmt.Sprintf("%s (%s)", of, strings.Join(unseen, ", ")))
	}
	if n > 0 {
		b.Errors = min(max(failed, 0)/float64(n), 1)
	}
	own := forecast.Apart(app.Latency, parts)
	given := share0(app.Abandoned, n+app.Abandoned)
	b.Own = longer(forecast.Measured(own), given)
	if given > 0.001 {
		k.m.assume("%.1f%% of the requests to %s were given up by their callers: how long they would have taken is not known, and they are taken for longer than any timeout.", 100*given, of)
	}
	if sent, got := k.seen.sent[of], k.seen.got[of]; sent != nil && got != nil && sent.Requests() >= enough && got.Requests() >= enough {
		const usual = 0.9 // of the requests: the others waited, or were tried anew
		b.Hop = max(sent.LowerMean(usual)-got.LowerMean(usual), 0)
	}
	if n < enough {
		k.m.assume("%s is known by %d requests only.", of, n)
	}
	return b, takenFor(of, n, &b)
}

// never is longer than anybody waits.
const never = time.Hour

// longer draws a time that never ends for a share of the requests.
func longer(t forecast.Times, share float64) forecast.Times {
	if share <= 0 || t == nil {
		return t
	}
	return func(d *forecast.Draw) time.Duration {
		if d.Uniform() < share {
			return never
		}
		return t(d)
	}
}

// shortest are the n shortest of some latencies.
func shortest(bins []stats.Bin, n uint64) (out []stats.Bin) {
	for _, b := range bins {
		b.N = min(b.N, n)
		if n -= b.N; b.N > 0 {
			out = append(out, b)
		}
	}
	return out
}

func share0(part, whole uint64) float64 {
	if whole == 0 {
		return 0
	}
	return float64(part) / float64(whole)
}

func takenFor(of string, n uint64, b *forecast.Behaviour) TakenFor {
	t := TakenFor{Target: of, Requests: n, HopMS: millis(b.Hop), Errors: b.Errors, AtOnce: b.AtOnce}
	if b.Own != nil {
		var c stats.Counts
		d := forecast.Draw(1)
		for range 4000 {
			c.Observe(b.Own(&d))
		}
		t.P50MS, t.P95MS = millis(c.Quantile(0.5)), millis(c.Quantile(0.95))
	}
	for i, call := range b.Calls {
		if i > 0 {
			t.Calls += ", "
		}
		t.Calls += fmt.Sprintf("%.2g × %s", call.PerOne, call.To)
		if call.Needed {
			t.Calls += " (needed)"
		}
	}
	return t
}

// goesWith is by how much y rises with x, second by second (least squares); known
// is false when x never changed.
func goesWith(x, y map[int64]float64, from, to int64) (slope float64, known bool) {
	n := float64(to - from)
	sx, sy, sxx, sxy := 0.0, 0.0, 0.0, 0.0
	for at, v := range x {
		sx += v
		sxx += v * v
		sxy += v * y[at]
	}
	for _, v := range y {
		sy += v
	}
	if d := n*sxx - sx*sx; d > 0 {
		return (n*sxy - sx*sy) / d, true
	}
	return 0, false
}

// callsOf are the links of one version, in the order of their names.
func (k *maker) callsOf(service, version string) (out []link) {
	for l := range k.seen.links {
		if l.Caller == service && l.CallerVersion == version && l.Service != wire.Other {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b link) int { return cmp.Compare(a.Service, b.Service) })
	return out
}

// unknownVersions lets a version that nobody measured behave as another one of
// its service does.
func (k *maker) unknownVersions(changes forecast.Changes) {
	for _, of := range slices.Sorted(maps.Keys(k.m.behaviour)) {
		b := k.m.behaviour[of]
		if b.Own != nil || changes[of].Own != nil {
			continue
		}
		service, _ := cutTarget(of)
		like, most := "", uint64(0)
		for _, t := range k.m.versions {
			if s, _ := cutTarget(t.Target); s == service && t.Target != of && t.Requests > most {
				like, most = t.Target, t.Requests
			}
		}
		if like == "" {
			k.m.assume("Nothing is known of %s: it is taken to answer at once.", of)
			continue
		}
		k.m.behaviour[of] = k.m.behaviour[like]
		if k.wanted(of) {
			k.m.assume("Nothing is known of %s: it is taken to behave as %s.", of, like)
		}
	}
}

// wanted tells whether rules send something to a version.
func (k *maker) wanted(of string) bool {
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, rt := range s.Routes {
				if slices.ContainsFunc(rt.Send, func(t rules.Target) bool { return t.Service+"/"+t.Version == of && t.Weight > 0 }) {
					return true
				}
			}
		}
	}
	return false
}
