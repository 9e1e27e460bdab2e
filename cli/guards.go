package cli

import (
	"cmp"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"nightjar/cli/out"
	"nightjar/control"
)

// guardSheet shows how the guards stand in every proxy that calls a service.
func guardSheet(s *out.Sheet, callers []control.Caller) {
	var rows [][]string
	row := func(acts bool, c control.Caller, version, what, state, numbers string) {
		mark := ""
		if acts {
			mark = "!"
			if s.Colour {
				mark, state = text.FgYellow.Sprint(mark), text.FgYellow.Sprint(state)
			}
		}
		rows = append(rows, []string{mark, c.Proxy, version, what, state, numbers})
	}
	ms := func(n int64) string {
		return (time.Duration(n) * time.Millisecond).Round(100 * time.Millisecond).String()
	}
	for _, c := range callers {
		for _, v := range c.Versions {
			if b := v.Breaker; b != nil {
				state := fmt.Sprintf("%s since %s", b.State, ms(b.SinceMS))
				if b.LeftMS > 0 {
					state += ", probes in " + ms(b.LeftMS)
				}
				numbers := fmt.Sprintf("%d of %d failed", b.Failed, b.Seen)
				if b.Slow > 0 {
					numbers += fmt.Sprintf(", %d slow", b.Slow)
				}
				row(b.State != "closed", c, v.Version, "breaker", state, numbers)
			}
			if q := v.Queue; q != nil {
				row(q.InFlight >= q.InFlightMax, c, v.Version, "in-flight", fmt.Sprintf("%d of %d", q.InFlight, q.InFlightMax), fmt.Sprintf("%d of %d waiting", q.Waiting, q.WaitingMax))
			}
			for _, o := range v.Sidelined {
				state := "out for another " + ms(o.LeftMS)
				switch {
				case o.Trial:
					state = "out, a trial is under way"
				case o.LeftMS == 0:
					state = "out, the next request tries it"
				}
				row(true, c, v.Version, "sidelined "+o.Instance, state, fmt.Sprintf("last failure %s, out for the %s time in a row, for %s", o.Cause, ordinal(o.Times), ms(o.ForMS)))
			}
			for _, u := range v.Unreachable {
				state := "not called, tried again in " + ms(u.NextMS)
				row(true, c, v.Version, "unreachable "+u.Instance, state, fmt.Sprintf("%s, for %s", u.Cause, ms(u.ForMS)))
			}
			for _, id := range v.Down {
				state := "not called"
				if v.Mistrusted {
					state = "called all the same: most are unhealthy at once"
				}
				row(true, c, v.Version, "unhealthy "+id, state, "health checks fail")
			}
			for _, id := range v.Shut {
				row(true, c, v.Version, "down "+id, "not called", "by a drill")
			}
			for i, site := range v.Sites {
				row(i > 0 && site.Share > 0, c, v.Version, "site "+cmp.Or(site.Site, "none"), out.Percent(site.Share)+" of requests", out.Percent(site.Usable)+" usable")
			}
		}
		if r := c.Retries; r != nil {
			row(r.Left == 0, c, "", "retries", fmt.Sprintf("%d left", r.Left), fmt.Sprintf("%d for %d requests in 10s", r.Retries, r.Requests))
		}
		for _, l := range c.Limits {
			row(false, c, "", "limit of "+l.Route, fmt.Sprintf("%d keys", l.Keys), fmt.Sprintf("room for %d", l.Most))
		}
	}
	if len(rows) == 0 {
		s.Line("\nNo proxy has a guard for it.")
		return
	}
	s.Line("")
	s.Table([]string{"", "IN PROXY", "VERSION", "GUARD", "STATE", "NUMBERS"}, rows)
}

func ordinal(n int) string {
	switch n {
	case 1:
		return "1st"
	case 2:
		return "2nd"
	case 3:
		return "3rd"
	}
	return fmt.Sprintf("%dth", n)
}
