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
	return &cobra.Command{
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
}

func fleetSheet(s *out.Sheet, f dto.Fleet, now time.Time) {
	late := slices.DeleteFunc(slices.Clone(f.Proxies), func(p control.Member) bool { return p.State == control.Follows })
	switch n := len(f.Proxies); {
	case n == 0:
		s.Line("No proxy has registered. Start one: nightjar proxy --service NAME --version v1 --app HOST:PORT")
		return
	case len(late) == 0:
		s.Line("All %d proxies follow revision %d.", n, f.Revision)
	default:
		s.Line("%d of %d proxies follow revision %d; %d need a look.", n-len(late), n, f.Revision, len(late))
	}
	list := slices.Clone(f.Proxies)
	slices.SortStableFunc(list, func(a, b control.Member) int { return urgency(a.State) - urgency(b.State) })
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
		if p.State != control.Follows {
			mark = "!"
			if p.Error != "" {
				state += ": " + p.Error
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

// urgency sorts states: who needs a look comes first.
func urgency(s control.State) int {
	return slices.Index([]control.State{control.Refuses, control.Behind, control.Doubt, control.Away, control.Follows}, s)
}

func ago(d time.Duration) string {
	if d < time.Second {
		return "now"
	}
	return d.Round(time.Second).String() + " ago"
}
