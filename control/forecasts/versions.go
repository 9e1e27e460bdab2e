package forecasts

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
)

// behaviours finds how every version behaves.
func (k *builder) behaviours(changes forecast.Changes) {
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
		b, shown := k.version(of, outside[of])
		if c, ok := changes[of]; ok {
			shown = k.change(of, &b, shown.Requests, c)
		}
		k.m.behaviour[of] = b
		if shown.Requests > 0 || changes[of].Own != nil {
			k.m.versions = append(k.m.versions, shown)
		}
	}
	for _, of := range slices.Sorted(maps.Keys(changes)) {
		if !declared[of] {
			k.m.assume("The behaviour file names %s, which does not exist.", of)
		}
	}
	if len(k.assumedNeeded) > 0 {
		k.m.assume(
			"Too few calls failed to tell whether a workload fails with what it calls; it is assumed that it does: %s.",
			strings.Join(k.assumedNeeded, ", "),
		)
	}
	k.unknownVersions(changes)
}

// change puts what a behaviour file says in place of what was measured.
func (k *builder) change(of string, b *forecast.Behaviour, requests uint64, c forecast.Change) model.VersionBehaviour {
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
	return assumed(of, requests, b)
}

// enough is how many requests say something about a version.
const enough = 30

// version is how a version behaved.
func (k *builder) version(of string, isOutside bool) (forecast.Behaviour, model.VersionBehaviour) {
	app := k.seen.app[of]
	if app == nil || isOutside {
		return k.seenByCallers(of)
	}
	var b forecast.Behaviour
	n := app.Requests()
	failed, parts := k.addCalls(of, &b, app)
	if n > 0 {
		b.Errors = min(max(failed, 0)/float64(n), 1)
	}
	abandoned := share(app.Abandoned, n+app.Abandoned)
	b.Own = withEndless(forecast.Measured(forecast.Apart(app.Latency, parts)), abandoned)
	if abandoned > 0.001 {
		k.m.assume(
			"%.1f%% of the requests to %s were abandoned by their callers: how long they would have taken is "+
				"not known, "+
				"so they are assumed to take longer than any timeout.",
			100*abandoned,
			of,
		)
	}
	sent, got := k.seen.sent[of], k.seen.got[of]
	if sent != nil && got != nil && sent.Requests() >= enough && got.Requests() >= enough {
		const usual = 0.9 // of the requests: the others waited, or were sent again
		b.Hop = max(sent.LowerMean(usual)-got.LowerMean(usual), 0)
	}
	if n < enough {
		k.m.assume("%s was measured by %d requests only.", of, n)
	}
	return b, assumed(of, n, &b)
}

// seenByCallers is how a version without a proxy beside it behaved: all that is
// known is what its callers saw.
func (k *builder) seenByCallers(of string) (forecast.Behaviour, model.VersionBehaviour) {
	var b forecast.Behaviour
	callers := k.seen.versions[of]
	if callers == nil || callers.Requests() == 0 {
		return b, model.VersionBehaviour{Target: of}
	}
	timeout, _ := engine.TimedOut.Number()
	late := callers.Reasons[timeout]
	b.Own = withEndless(
		forecast.Measured(shortest(callers.Latency, callers.Requests()-late)),
		share(late, callers.Requests()),
	)
	b.Errors = share(callers.Status[5], callers.Requests())
	if late > 0 {
		k.m.assume("%d of %d requests to %s timed out: how long they would have taken is not known, "+
			"so they are assumed to take longer than any timeout.", late, callers.Requests(), of)
	}
	return b, assumed(of, callers.Requests(), &b)
}

// addCalls adds the calls that a version made, with whether it needs them. It returns
// how many requests the version failed by its own fault, and the latencies of the
// calls.
func (k *builder) addCalls(
	of string,
	b *forecast.Behaviour,
	app *stats.Counts,
) (failed float64, parts []forecast.Part) {
	failed = float64(app.Failed + app.Refused)
	service, version, _ := strings.Cut(of, "/")
	var unknown []string
	for _, l := range k.callsOf(service, version) {
		calls := k.seen.links[l]
		if l.Service == service || app.Requests() == 0 {
			continue
		}
		call := forecast.Call{
			To:     l.Service,
			PerOne: float64(calls.Requests()) / float64(app.Requests()),
			Kinds:  k.kinds(l),
		}
		if call.PerOne > 50 || len(call.Kinds) == 0 {
			k.m.assume(
				"Calls of %s to %s are left out: no example of a request is known that takes their routes.",
				of,
				l.Service,
			)
			continue
		}
		if d := call.PerOne; d > 0.97 && d < 1.03 {
			call.PerOne = 1 // the difference was in flight at the ends of the window
		}
		unserved := calls.Failed + calls.Refused
		slope, isKnown := regression(k.seen.unserved[l], k.seen.unhealthy[of], k.seen.from, k.seen.to)
		if unserved >= 5 && isKnown {
			call.Needed = slope > 0.5
		} else {
			call.Needed = true
			unknown = append(unknown, l.Service)
		}
		if call.Needed {
			failed -= float64(unserved)
		}
		parts = append(parts, forecast.Part{PerOne: call.PerOne, Bins: calls.Latency})
		b.Calls = append(b.Calls, call)
	}
	if len(unknown) > 0 {
		k.assumedNeeded = append(k.assumedNeeded, fmt.Sprintf("%s (%s)", of, strings.Join(unknown, ", ")))
	}
	return failed, parts
}

// never is longer than any caller waits.
const never = time.Hour

// withEndless draws a time that never ends for a share of the requests.
func withEndless(t forecast.Times, share float64) forecast.Times {
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

// share is part of whole; 0 of nothing.
func share(part, whole uint64) float64 {
	if whole == 0 {
		return 0
	}
	return float64(part) / float64(whole)
}

// assumed is what the forecast says of the behaviour of a version.
func assumed(of string, n uint64, b *forecast.Behaviour) model.VersionBehaviour {
	t := model.VersionBehaviour{
		Target:      of,
		Requests:    n,
		HopMS:       figures.Millis(b.Hop),
		Errors:      b.Errors,
		Concurrency: b.AtOnce,
	}
	if b.Own != nil {
		var c stats.Counts
		d := forecast.Draw(1)
		for range 4000 {
			c.Observe(b.Own(&d))
		}
		t.P50MS, t.P95MS = figures.Millis(c.Quantile(0.5)), figures.Millis(c.Quantile(0.95))
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

// regression is by how much y rises with x, second by second (ordinary least
// squares); isKnown is false when x never changed.
func regression(x, y map[int64]float64, from, to int64) (slope float64, isKnown bool) {
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
func (k *builder) callsOf(service, version string) (out []link) {
	for l := range k.seen.links {
		if l.Caller == service && l.CallerVersion == version && l.Service != wire.Other {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b link) int { return cmp.Compare(a.Service, b.Service) })
	return out
}

// unknownVersions lets a version that was not measured behave like another one of
// its service.
func (k *builder) unknownVersions(changes forecast.Changes) {
	for _, of := range slices.Sorted(maps.Keys(k.m.behaviour)) {
		b := k.m.behaviour[of]
		if b.Own != nil || changes[of].Own != nil {
			continue
		}
		service, _, _ := strings.Cut(of, "/")
		like, most := "", uint64(0)
		for _, t := range k.m.versions {
			if s, _, _ := strings.Cut(t.Target, "/"); s == service && t.Target != of && t.Requests > most {
				like, most = t.Target, t.Requests
			}
		}
		if like == "" {
			k.m.assume("Nothing is known of %s: it is assumed to answer at once.", of)
			continue
		}
		k.m.behaviour[of] = k.m.behaviour[like]
		if k.wanted(of) {
			k.m.assume("Nothing is known of %s: it is assumed to behave like %s.", of, like)
		}
	}
}

// wanted tells whether rules send something to a version.
func (k *builder) wanted(of string) bool {
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, rt := range s.Routes {
				if slices.ContainsFunc(
					rt.Send,
					func(t rules.Target) bool { return t.Service+"/"+t.Version == of && t.Weight > 0 },
				) {
					return true
				}
			}
		}
	}
	return false
}
