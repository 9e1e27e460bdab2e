package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) fleet() *cobra.Command {
	var site string
	cmd := &cobra.Command{
		Use:   "fleet",
		Short: "Proxies: state, revision in force and its lag, connections, memory, program version",
		Long: `List the proxies; those that need attention come first.

LAG is the time from the commit of the newest revision until it was in force in the
proxy; for a proxy that is behind, until now. MEMORY is that of the process, which can
hold several proxies. CERTIFICATE is for how long the proxy's certificate is good: it is
renewed at half of its life.`,
		Example: `  nightjar fleet
  nightjar fleet -o csv`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f, err := c.Fleet(cmd.Context())
			if err != nil {
				return err
			}
			if site != "" {
				f.Proxies = slices.DeleteFunc(f.Proxies, func(p model.Proxy) bool { return p.Site != site })
				if len(f.Proxies) == 0 {
					return usagef("--site %s: no proxy runs there: \"nightjar sites\" lists the sites", site)
				}
			}
			return a.printer(cmd).Show(f, func(s *out.Sheet) { fleetSheet(s, f, time.Now()) })
		},
	}
	cmd.AddCommand(a.adopt(), a.upgrade(), a.upgrades(), a.takeBack())
	a.addSite(cmd, &site)
	return cmd
}

func (a *app) adopt() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:   "adopt NAME...",
		Short: "Tell proxies to follow this mesh, whatever mesh they followed before",
		Long: `A proxy follows the mesh whose rules it got first. When the service at its address
starts with another data directory (an empty one, for example) or with an older copy
of it, the proxy keeps the rules that it has, and "nightjar fleet" shows it as
rejecting. If the new state is the right one, adopt the proxy: then it follows it.`,
		Example: `  nightjar fleet adopt kiosk-v1-a
  nightjar fleet adopt --all`,
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) > 0) == all {
				return usagef("name the proxies, or use --all for every proxy that rejects this mesh")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			told, err := c.Adopt(cmd.Context(), args)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(told, func(s *out.Sheet) {
				if len(told) == 0 {
					s.Line("No proxy rejects this mesh.")
					return
				}
				s.Line("%s will follow this mesh from the next heartbeat: %s",
					count(len(told), "proxy"), strings.Join(told, ", "))
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "every proxy that rejects this mesh")
	return cmd
}

// allOf says "the only proxy" or "all 3 proxies".
func allOf(n int, what string) string {
	if n == 1 {
		return "the only " + what
	}
	return "all " + count(n, what)
}

func needs(n int) string {
	if n == 1 {
		return "1 needs"
	}
	return fmt.Sprintf("%d need", n)
}

func fleetSheet(s *out.Sheet, f model.Fleet, now time.Time) {
	needing := slices.DeleteFunc(slices.Clone(f.Proxies), func(p model.Proxy) bool { return !needsAttention(&p) })
	switch n := len(f.Proxies); {
	case n == 0:
		s.Line("No proxy is registered. Start one: nightjar proxy --service NAME --version v1 --app HOST:PORT")
		return
	case len(needing) == 0:
		s.Line("Revision %d is in force in %s.", f.Revision, allOf(n, "proxy"))
	default:
		current := 0
		for _, p := range f.Proxies {
			if p.State == model.ProxyCurrent {
				current++
			}
		}
		s.Line("Revision %d is in force in %d of %s; %s attention.",
			f.Revision, current, count(n, "proxy"), needs(len(needing)))
	}
	upgradeHint(s, f)
	list := slices.Clone(f.Proxies)
	slices.SortStableFunc(list, func(a, b model.Proxy) int { return urgency(&a) - urgency(&b) })
	header := []string{
		"",
		"PROXY",
		"WORKLOAD",
		"SITE",
		"REVISION>",
		"STATE",
		"LAG (ms)>",
		"LAST SEEN>",
		"CONNECTIONS>",
		"MEMORY (MiB)>",
		"CERTIFICATE>",
		"PROGRAM VERSION",
	}
	if s.Wide {
		header = append(header, "INBOUND", "OUTBOUND", "PID>", "STARTED")
	}
	var rows [][]string
	for _, p := range list {
		rows = append(rows, fleetRow(s, &p, now))
	}
	s.Table(header, rows)
}

// fleetRow is the row of a proxy.
func fleetRow(s *out.Sheet, p *model.Proxy, now time.Time) []string {
	what := strings.Trim(p.Service+"/"+p.Version, "/")
	switch {
	case p.Gateway != "":
		what = "gateway " + p.Gateway
	case p.Crossing != "":
		what = "crossing"
	}
	mark, state := "", p.State
	if needsAttention(p) {
		mark = "!"
		if p.Rejection != "" {
			state += ": " + p.Rejection
		}
		for _, one := range p.Problems {
			state += "; " + one.Kind + ": " + one.Detail
		}
		if s.Colour {
			mark, state = out.Paint(out.Yellow, mark), out.Paint(out.Yellow, state)
		}
	}
	row := []string{
		mark,
		p.ID,
		cmp.Or(what, "none"),
		p.Site,
		fmt.Sprint(p.Revision),
		state,
		out.MS(p.LagMS),
		ago(now.Sub(p.LastSeen)),
		fmt.Sprint(p.Connections),
		out.MiB(p.MemoryBytes),
		certificateLeft(p.Certificate, now),
		strings.TrimSpace(p.Program + " " + p.Build[:min(len(p.Build), 8)]),
	}
	if s.Wide {
		started := p.Started.Local().Format(time.DateTime)
		row = append(row, cmp.Or(p.Inbound, p.Listens), p.Outbound, fmt.Sprint(p.PID), started)
	}
	return row
}

// upgradeHint says how the newest upgrade stands, while there is something to say.
func upgradeHint(s *out.Sheet, f model.Fleet) {
	u := f.Upgrade
	if u == nil || u.Ended != nil && len(f.OutOfStep) == 0 {
		return
	}
	line := upgradeLine(*u)
	switch n := len(f.OutOfStep); {
	case n == 1:
		line = f.OutOfStep[0] + " is out of step: it was started by another program, or was away then"
	case n > 1:
		line = fmt.Sprintf("%d proxies are out of step, such as %s: they were started by another program, or were away then",
			n, f.OutOfStep[0])
	}
	s.Line("Upgrade %d to %s (%s): %s.", u.Number, u.Program, u.Hash[:12], line)
}

// certificateLeft is for how long a certificate is good.
func certificateLeft(c *model.Certificate, now time.Time) string {
	switch {
	case c == nil:
		return "none"
	case now.After(c.Expires):
		return "ran out"
	case c.Expires.Sub(now) > 48*time.Hour:
		return fmt.Sprintf("%d days", int(c.Expires.Sub(now).Hours()/24))
	}
	return hours(c.Expires.Sub(now).Round(time.Minute))
}

// needsAttention tells whether a person should look at a proxy.
func needsAttention(p *model.Proxy) bool { return p.State != model.ProxyCurrent || len(p.Problems) > 0 }

// urgency sorts proxies: those that need attention come first.
func urgency(p *model.Proxy) int {
	n := 2 * slices.Index(
		[]string{
			model.ProxyRejecting,
			model.ProxyBehind,
			model.ProxyUnconfirmed,
			model.ProxyDisconnected,
			model.ProxyCurrent,
		},
		p.State,
	)
	if len(p.Problems) > 0 {
		n = min(n, 1)
	}
	return n
}

func ago(d time.Duration) string {
	if d < time.Second {
		return "now"
	}
	return d.Round(time.Second).String() + " ago"
}
