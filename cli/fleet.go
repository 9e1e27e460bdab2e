package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/api/dto"
	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) fleet() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "fleet",
		Short: "Proxies: program, revision in force and how late, connections, memory",
		Long: `List the proxies, those first that do not follow the newest revision.

LAG is how long after its commit the newest revision was in force in a proxy;
for a proxy that is behind, how long it is late by now. MEMORY is that of the
process, which may hold several proxies.`,
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
			return a.printer(cmd).Show(f, func(s *out.Sheet) { fleetSheet(s, f, time.Now()) })
		},
	}
	cmd.AddCommand(a.take())
	return cmd
}

func (a *app) take() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:   "take NAME...",
		Short: "Have proxies follow this mesh, whatever they followed before",
		Long: `A proxy follows the mesh whose rules it was given first. When the service at its
address comes with another data directory, an empty one for instance, or with an
older state of it, the proxy goes on with the rules that it has and says so in the
fleet. When the new state is what you want, say so: the proxies then take it.`,
		Example: `  nightjar fleet take kiosk-v1-a
  nightjar fleet take --all`,
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) > 0) == all {
				return usagef("name the proxies, or say --all for those that refuse this mesh")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			told, err := c.Take(cmd.Context(), args)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(told, func(s *out.Sheet) {
				if len(told) == 0 {
					s.Line("No proxy refuses this mesh.")
					return
				}
				s.Line("Told %s; each follows with its next sign of life: %s", count(len(told), "proxy"), strings.Join(told, ", "))
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "all proxies that refuse this mesh")
	return cmd
}

func fleetSheet(s *out.Sheet, f dto.Fleet, now time.Time) {
	late := slices.DeleteFunc(slices.Clone(f.Proxies), func(p control.Member) bool { return !needsLook(&p) })
	switch n := len(f.Proxies); {
	case n == 0:
		s.Line("No proxy has registered. Start one: nightjar proxy --service NAME --version v1 --app HOST:PORT")
		return
	case len(late) == 0:
		s.Line("All %d proxies follow revision %d.", n, f.Revision)
	default:
		follow := 0
		for _, p := range f.Proxies {
			if p.State == control.Follows {
				follow++
			}
		}
		s.Line("%d of %d proxies follow revision %d; %d need a look.", follow, n, f.Revision, len(late))
	}
	list := slices.Clone(f.Proxies)
	slices.SortStableFunc(list, func(a, b control.Member) int { return urgency(&a) - urgency(&b) })
	header := []string{"", "PROXY", "BESIDE", "SITE", "REVISION>", "STATE", "LAG>", "SEEN>", "CONNECTIONS>", "MEMORY>", "PROGRAM"}
	if s.Wide {
		header = append(header, "INBOUND", "OUTBOUND", "PID>", "RUNS SINCE")
	}
	var rows [][]string
	for _, p := range list {
		what := strings.Trim(p.Service+"/"+p.Version, "/")
		if p.Gateway != "" {
			what = "gateway " + p.Gateway
		}
		mark, state := "", string(p.State)
		if needsLook(&p) {
			mark = "!"
			if p.Error != "" {
				state += ": " + p.Error
			}
			for _, one := range p.Problems {
				state += "; " + one.Kind + ": " + one.Detail
			}
			if s.Colour {
				mark, state = text.FgYellow.Sprint(mark), text.FgYellow.Sprint(state)
			}
		}
		row := []string{mark, p.ID, cmp.Or(what, "calls only"), p.Site, fmt.Sprint(p.Revision), state, out.Millis(p.LagMS), ago(now.Sub(p.Seen)), fmt.Sprint(p.Connections),
			out.Bytes(p.Memory), p.Program}
		if s.Wide {
			row = append(row, p.Inbound, p.Outbound, fmt.Sprint(p.PID), p.Started.Local().Format(time.DateTime))
		}
		rows = append(rows, row)
	}
	s.Table(header, rows)
}

// needsLook tells whether a person should look at a proxy.
func needsLook(p *control.Member) bool { return p.State != control.Follows || len(p.Problems) > 0 }

// urgency sorts proxies: who needs a look comes first.
func urgency(p *control.Member) int {
	n := 2 * slices.Index([]control.State{control.Refuses, control.Behind, control.Doubt, control.Away, control.Follows}, p.State)
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
