package trials

import (
	"strconv"
	"strings"
	"time"

	"nightjar/control/calls"
	"nightjar/control/figures"
	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/load"
	"nightjar/wire"
)

// answerer is what a value of wire.HeaderAnswered says.
type answerer struct {
	names          effect.Names
	target         string // SERVICE/VERSION; empty: no instance answered
	attempts       uint64
	hasFirstFailed bool
}

// answered counts the result of a request.
func (r *run) answered(source int, a *load.Answered) {
	if a.Due < 0 { // of the warm-up
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var one stats.Counts
	var by *answerer
	if a.Err != nil {
		if r.ctx.Err() != nil { // the end cut it off
			return
		}
		r.status["none"]++
		one.Failed, one.Tries = 1, 1
		by = &answerer{names: effect.Names{Caller: r.callers[source]}}
	} else {
		by = r.answerer(a.Fields.Get(wire.HeaderAnswered), r.callers[source])
		reason := calls.ReasonOf(a.Fields.Get("Proxy-Status"))
		r.status[strconv.Itoa(a.Status)]++
		one = countOf(reason, a.Status, by)
		if by.target != "" && reason == "" {
			if r.tally.Versions == nil {
				r.tally.Versions = map[string]uint64{}
			}
			r.tally.Versions[by.target]++
		}
	}
	one.Observe(a.Took)
	r.tally.Add(&one)
	part := r.parts[by.names]
	if part == nil {
		part = &stats.Counts{}
		r.parts[by.names] = part
	}
	part.Add(&one)
	second := int(a.Due / time.Second)
	for len(r.points) <= second {
		r.points = append(r.points, figures.Tally{})
	}
	r.points[second].Add(&one)
}

// countOf is the counts of one response.
func countOf(reason engine.Reason, status int, by *answerer) (one stats.Counts) {
	class := engine.Classify(reason, status)
	switch class {
	case engine.OK:
		one.OK = 1
	case engine.Refused:
		one.Refused = 1
	default:
		one.Failed = 1
	}
	if n, ok := reason.Number(); ok && reason != "" {
		one.Reasons[n] = 1
	}
	one.Status[min(status/100, 5)] = 1
	if one.Tries = by.attempts; class == engine.OK && !by.hasFirstFailed {
		one.FirstOK = 1
	}
	return one
}

// answerer reads a value of wire.HeaderAnswered, each only once.
func (r *run) answerer(field, caller string) *answerer {
	if by := r.known[field]; by != nil {
		return by
	}
	field = strings.Clone(field) // it is part of what was received
	a := calls.ReadAnswered(field)
	by := &answerer{
		names:          effect.Names{Caller: caller, Gate: a.GatewayRoute},
		attempts:       1,
		hasFirstFailed: a.HasFirstFailed,
	}
	service := a.Service
	if a.GatewayRoute != "" && service == caller {
		service = "" // the gateway answered by itself
	}
	by.names.Service, by.names.Version = service, a.Version
	if a.Route != "" {
		by.names.RouteOf, by.names.Route = service, a.Route
	}
	if a.Version != "" {
		by.target = a.Service + "/" + a.Version
	}
	if n, err := strconv.ParseUint(a.Attempts, 10, 16); err == nil {
		by.attempts = n
	}
	r.known[field] = by
	return by
}
