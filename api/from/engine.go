package from

import (
	"nightjar/api/model"
	"nightjar/core/engine"
)

// Explanation is what the engine says about a request.
func Explanation(e engine.Explanation) model.Explanation {
	out := model.Explanation{
		Steps:    list(e.Ladders, routingStep),
		Odds:     list(e.Odds, func(o engine.Odds) model.Odds { return model.Odds(o) }),
		Settings: list(e.Settings, setting),
		Path:     e.Path,
	}
	if e.Answer != nil {
		answer := model.DirectResponse(*e.Answer)
		out.Answer = &answer
	}
	for _, a := range e.Access {
		out.Access = append(out.Access, model.Admission{
			Service:   a.Service,
			Allowed:   a.Allowed,
			IsWatched: a.Watched,
			Rule:      a.Rule,
			At:        model.Origin(a.Origin),
		})
	}
	if r := e.Refusal; r != nil {
		out.Refusal = &model.Refusal{Status: r.Status, Reason: string(r.Reason), Detail: r.Detail}
	}
	return out
}

func routingStep(l engine.Ladder) model.RoutingStep {
	return model.RoutingStep{
		Kind:       l.Kind,
		Name:       l.Name,
		IsBalanced: l.Plain,
		Routes: list(l.Rungs, func(r engine.Rung) model.RouteMatch {
			return model.RouteMatch{Route: r.Route, Result: r.Result, Why: r.Why, At: model.Origin(r.At)}
		}),
	}
}

func setting(s engine.Setting) model.Setting {
	return model.Setting{
		Name:    s.Name,
		Value:   s.Value,
		From:    s.From,
		At:      model.Origin(s.Origin),
		Service: s.Service,
	}
}

// GuardStatus is the state of the guards of one called service.
func GuardStatus(s engine.Status) model.GuardStatus {
	out := model.GuardStatus{Service: s.Service}
	for _, v := range s.Versions {
		out.Versions = append(out.Versions, versionGuards(v))
	}
	if s.Retries != nil {
		retries := model.RetryBudget(*s.Retries)
		out.Retries = &retries
	}
	for _, l := range s.Limits {
		one := model.LimitStatus{Route: l.Route, Keys: l.Keys, MaxKeys: l.Most}
		if sh := l.Shared; sh != nil {
			one.Shared = &model.LimitShare{Tokens: sh.Tokens, PerS: sh.Share, IsDealt: sh.IsDealt}
		}
		out.Limits = append(out.Limits, one)
	}
	return out
}

func versionGuards(v engine.VersionStatus) model.VersionGuards {
	out := model.VersionGuards{
		Version:       v.Version,
		Unhealthy:     v.Down,
		DrilledDown:   v.Shut,
		IgnoresHealth: v.Mistrusted,
	}
	if b := v.Breaker; b != nil {
		out.Breaker = &model.BreakerStatus{
			State:     b.State,
			SinceMS:   b.SinceMS,
			ProbeInMS: b.LeftMS,
			Requests:  b.Seen,
			Failed:    b.Failed,
			Slow:      b.Slow,
		}
	}
	if q := v.Queue; q != nil {
		out.Queue = &model.QueueStatus{InFlight: q.InFlight, InFlightLimit: q.InFlightMax, Waiting: q.Waiting,
			WaitingLimit: q.WaitingMax}
	}
	for _, o := range v.Sidelined {
		out.Sidelined = append(out.Sidelined, model.SidelinedInstance{
			Instance:   o.Instance,
			Cause:      o.Cause,
			LeftMS:     o.LeftMS,
			DurationMS: o.ForMS,
			InARow:     o.Times,
			IsProbed:   o.Trial,
		})
	}
	for _, u := range v.Unreachable {
		out.Unreachable = append(out.Unreachable,
			model.UnreachableInstance{Instance: u.Instance, Cause: u.Cause, SinceMS: u.ForMS, RetryInMS: u.NextMS})
	}
	for _, s := range v.Sites {
		out.Sites = append(out.Sites, model.SiteStatus(s))
	}
	return out
}
