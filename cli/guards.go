package cli

import (
	"cmp"
	"fmt"
	"time"

	"nightjar/api/model"
	"nightjar/cli/out"
)

// guardRows collects the rows of guardSheet.
type guardRows struct {
	sheet *out.Sheet
	rows  [][]string
}

// add adds a row; isActive: the guard affects requests now.
func (g *guardRows) add(isActive bool, c model.GuardState, version, guard, state, figures string) {
	mark := ""
	if isActive {
		mark = "!"
		if g.sheet.Colour {
			mark, state = out.Paint(out.Yellow, mark), out.Paint(out.Yellow, state)
		}
	}
	g.rows = append(g.rows, []string{mark, c.Proxy, version, guard, state, figures})
}

// guardSheet shows the state of a service's guards in every proxy that calls it.
func guardSheet(s *out.Sheet, guards []model.GuardState) {
	g := &guardRows{sheet: s}
	for _, c := range guards {
		for i := range c.Versions {
			g.addVersion(c, &c.Versions[i])
		}
		if r := c.Retries; r != nil {
			g.add(r.Left == 0, c, "", "retries", fmt.Sprintf("%d left", r.Left),
				fmt.Sprintf("%d retries of %d requests in 10 s", r.Retries, r.Requests))
		}
		for _, l := range c.Limits {
			figures := fmt.Sprintf("at most %d", l.MaxKeys)
			if sh := l.Shared; sh != nil {
				figures = fmt.Sprintf("%s of the mesh, share %.2f/s", count(sh.Tokens, "token"), sh.PerS)
				if !sh.IsDealt {
					figures += " without the service"
				}
			}
			g.add(l.Shared != nil && !l.Shared.IsDealt, c, "", "limit of "+l.Route, count(l.Keys, "key"), figures)
		}
	}
	if len(g.rows) == 0 {
		s.Line("\nNo proxy has a guard for this service.")
		return
	}
	s.Line("")
	s.Table([]string{"", "PROXY", "VERSION", "GUARD", "STATE", "FIGURES"}, g.rows)
}

// addVersion adds the guards of one version.
func (g *guardRows) addVersion(c model.GuardState, v *model.VersionGuards) {
	if b := v.Breaker; b != nil {
		state := fmt.Sprintf("%s for %s", b.State, tenths(b.SinceMS))
		if b.ProbeInMS > 0 {
			state += ", probes in " + tenths(b.ProbeInMS)
		}
		figures := fmt.Sprintf("%d of %d failed", b.Failed, b.Requests)
		if b.Slow > 0 {
			figures += fmt.Sprintf(", %d slow", b.Slow)
		}
		g.add(b.State != model.BreakerClosed, c, v.Version, "breaker", state, figures)
	}
	if q := v.Queue; q != nil {
		g.add(
			q.InFlight >= q.InFlightLimit,
			c,
			v.Version,
			"in-flight",
			fmt.Sprintf("%d of %d", q.InFlight, q.InFlightLimit),
			fmt.Sprintf("%d of %d waiting", q.Waiting, q.WaitingLimit),
		)
	}
	for _, o := range v.Sidelined {
		state := "no requests for another " + tenths(o.LeftMS)
		switch {
		case o.IsProbed:
			state = "a request is trying it"
		case o.LeftMS == 0:
			state = "the next request tries it"
		}
		g.add(true, c, v.Version, "sidelined "+o.Instance, state,
			fmt.Sprintf("last failure %s; %s in a row, for %s", o.Cause, count(o.InARow, "time"), tenths(o.DurationMS)))
	}
	for _, u := range v.Unreachable {
		g.add(true, c, v.Version, "unreachable "+u.Instance, "no requests, next attempt in "+tenths(u.RetryInMS),
			fmt.Sprintf("%s, for %s", u.Cause, tenths(u.SinceMS)))
	}
	for _, id := range v.Unhealthy {
		state := "no requests"
		if v.IgnoresHealth {
			state = "gets requests: most instances are unhealthy"
		}
		g.add(true, c, v.Version, "unhealthy "+id, state, "health checks fail")
	}
	for _, id := range v.DrilledDown {
		g.add(true, c, v.Version, "down "+id, "no requests", "by a drill")
	}
	for i, site := range v.Sites {
		g.add(
			i > 0 && site.Share > 0,
			c,
			v.Version,
			"site "+cmp.Or(site.Site, "none"),
			out.Percent(site.Share)+" of requests",
			out.Percent(site.Usable)+" usable",
		)
	}
}

// tenths is a duration to a tenth of a second.
func tenths(ms int64) string {
	return (time.Duration(ms) * time.Millisecond).Round(100 * time.Millisecond).String()
}
