package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) services() *cobra.Command {
	var window windowFlags
	cmd := &cobra.Command{
		Use:   "services [NAME]",
		Short: "Services, versions and instances with their figures",
		Example: `  nightjar services
  nightjar services sailings -o json`,
		ValidArgsFunction: a.serviceNames,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("expected: %s [NAME]", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.showMesh(cmd, &window, func(p *out.Printer, m model.Mesh) error {
				if len(args) == 0 {
					return p.Show(m, func(s *out.Sheet) { meshSheet(s, m) })
				}
				i := slices.IndexFunc(m.Services, func(s model.Service) bool { return s.Name == args[0] })
				if i < 0 {
					var names []string
					for _, s := range m.Services {
						names = append(names, s.Name)
					}
					return usagef("there is no service %s: name one of %s", args[0], strings.Join(names, ", "))
				}
				return p.Show(m.Services[i], func(s *out.Sheet) { serviceSheet(s, m, m.Services[i]) })
			})
		},
	}
	window.add(cmd)
	a.addSite(cmd, &window.site)
	return cmd
}

// figureHeader are the columns of figureCells.
var figureHeader = []string{"REQ/S>", "SUCCESS>", "P50 (ms)>", "P95 (ms)>", "P99 (ms)>"}

func figureCells(f model.Figures) []string {
	return []string{fmt.Sprintf("%.1f", f.RPS), out.Share(f.Success), out.MS(f.P50MS), out.MS(f.P95MS), out.MS(f.P99MS)}
}

func revisionLine(s *out.Sheet, m model.Mesh) {
	r := m.Revision
	if r.Number == 0 {
		s.Line("No rules are in force: requests are balanced over all instances of a service.")
	} else {
		s.Line("Revision %d in force in %d of %d proxies (%s by %s%s).",
			r.Number, r.Acknowledged, r.Connected, r.Kind, r.Author, quotedMessage(r.Message))
	}
	if len(r.Behind) > 0 {
		s.Line("Behind: %s.", strings.Join(r.Behind, ", "))
	}
	drillLines(s, m)
	for _, u := range m.Unpublished {
		s.Line("%s", unpublishedLine(u))
	}
}

func unpublishedLine(u model.Unpublished) string {
	what := ""
	switch {
	case u.Mistakes > 0:
		what = ": " + count(u.Mistakes, "mistake")
	case u.Changes > 0:
		d := u.Differences[0]
		what = fmt.Sprintf(": %s (%s %s)", count(u.Changes, "difference"), d.Path, d.Kind())
	}
	return fmt.Sprintf(
		"Not published: %s of bundle %s, as %s had it remembered on %s, is not what is in force%s.",
		strings.Join(u.Files, ", "),
		u.Bundle,
		u.By,
		u.At.Local().Format(time.DateTime),
		what,
	)
}

func quotedMessage(m string) string {
	if m == "" {
		return ""
	}
	return fmt.Sprintf(": %q", m)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if base, y := strings.CutSuffix(what, "y"); y {
		return fmt.Sprintf("%d %sies", n, base)
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func meshSheet(s *out.Sheet, m model.Mesh) {
	revisionLine(s, m)
	s.Line("Figures of the last %d s.\n", m.Window)
	header := append([]string{"SERVICE", "VERSION", "INSTANCES>", "INTENDED>", "OBSERVED>"}, figureHeader...)
	var rows [][]string
	for _, svc := range m.Services {
		state := ""
		if svc.IsOutside {
			state = "outside"
		} else if !svc.IsDeclared {
			state = "not in the rules"
		}
		n := 0
		for _, v := range svc.Versions {
			n += len(v.Instances)
		}
		rows = append(rows, append([]string{svc.Name, state, fmt.Sprint(n), "", ""}, figureCells(svc.Figures)...))
		for _, v := range svc.Versions {
			name := v.Name
			if svc.IsDeclared && !v.IsDeclared {
				name += " (not in the rules)"
			}
			rows = append(
				rows,
				append(
					[]string{"", name, fmt.Sprint(len(v.Instances)), out.Share(v.Intended), out.Share(v.Observed)},
					figureCells(v.Figures)...),
			)
		}
	}
	s.Table(header, rows)
	gatewaySheet(s, m)
	releaseLines(s, m)
	warningLines(s, m)
}

// gatewaySheet lists the gateways with the figures of what came in by each.
func gatewaySheet(s *out.Sheet, m model.Mesh) {
	if len(m.Gateways) == 0 {
		return
	}
	var rows [][]string
	for _, g := range m.Gateways {
		state := ""
		if !g.IsRunning {
			state = "no proxy serves it"
		}
		rows = append(
			rows,
			append([]string{g.Name, state, g.Listen, strings.Join(g.Hosts, ", ")}, figureCells(g.Figures)...),
		)
	}
	s.Line("")
	s.Table(append([]string{"GATEWAY", "STATE", "LISTENS AT", "HOSTS"}, figureHeader...), rows)
}

// releaseLines says which releases are running or held.
func releaseLines(s *out.Sheet, m model.Mesh) {
	for i, r := range m.Releases {
		if i == 0 {
			s.Line("")
		}
		line := fmt.Sprintf("Release %s: %s %s to %s, %s", r.Name, r.Service, r.From, r.To, r.State)
		if r.Step != "" {
			line += ", stage " + r.Step
		}
		if r.Why != "" {
			line += ": " + r.Why
		}
		s.Line("%s.", strings.TrimSuffix(line, "."))
	}
}

// maxWarnings is how many warnings a list of services shows.
const maxWarnings = 3

// warningLines says what the checker warns of in the rules in force.
func warningLines(s *out.Sheet, m model.Mesh) {
	for i, w := range m.Warnings {
		if i == 0 {
			s.Line("")
		}
		if i == maxWarnings {
			s.Line(
				"And %s: nightjar rules check shows all of a bundle's files.",
				count(m.WarningCount-maxWarnings, "more warning"),
			)
			return
		}
		s.Line("Warning: %s (%s).", w.Message, w.At)
	}
}

func serviceSheet(s *out.Sheet, m model.Mesh, svc model.Service) {
	revisionLine(s, m)
	owner := ""
	if svc.Owner != "" {
		owner = ", owner " + svc.Owner
	}
	s.Line("%s%s; timeout %s. Figures of the last %d s.\n", svc.Name, owner, svc.Timeout, m.Window)
	figures := func(f model.Figures) []string {
		cells := figureCells(f)
		if s.Wide {
			cells = append(
				cells,
				out.Share(f.FirstAttempt),
				perRequest(f.AttemptsPerRequest),
				workloadSuccess(f),
				workloadP95(f),
			)
		}
		return cells
	}
	var rows [][]string
	for _, v := range svc.Versions {
		rows = append(
			rows,
			append([]string{v.Name, "", "", out.Share(v.Intended), out.Share(v.Observed)}, figures(v.Figures)...),
		)
		for _, in := range v.Instances {
			row := append(
				[]string{"", in.ID + stateOf(svc, &in), in.Site, "", out.Share(in.Share)},
				figures(in.Figures)...)
			if s.Wide {
				row = append(row, in.Address)
			}
			rows = append(rows, row)
		}
	}
	header := append([]string{"VERSION", "INSTANCE", "SITE", "INTENDED>", "OBSERVED>"}, figureHeader...)
	if s.Wide {
		header = append(header, "FIRST ATTEMPT>", "ATTEMPTS/REQ>", "WORKLOAD SUCCESS>", "WORKLOAD P95 (ms)>", "ADDRESS")
	}
	s.Table(header, rows)
	if s.Wide {
		defer guardSheet(s, svc.Guards)
	}
	if len(svc.Routes) == 0 {
		s.Line("\nNo routes: requests are balanced over all instances.")
		return
	}
	serviceRoutes(s, svc.Routes)
}

// serviceRoutes prints the routes of a service.
func serviceRoutes(s *out.Sheet, routes []model.Route) {
	s.Line("")
	var rows [][]string
	for _, r := range routes {
		when := strings.Join(r.When, "; or ")
		if when == "" {
			when = "always"
		}
		var send []string
		for _, t := range r.Send {
			text := t.Target
			if len(r.Send) > 1 {
				text = fmt.Sprintf("%s %s (%s)", t.Target, t.Weight, out.Share(t.Observed))
			}
			send = append(send, text)
		}
		for _, d := range r.Settings {
			if d.Name == "redirect" || d.Name == "reply" {
				send = append(send, d.Name+" "+d.Value)
			}
		}
		cells := figureCells(r.Figures)
		row := []string{r.Name, when, strings.Join(send, ", "), out.Share(r.Share)}
		if s.Wide {
			row = append(append(row, cells...), r.Timeout, r.At.String())
		} else {
			row = append(row, cells[0], cells[1], cells[3])
		}
		rows = append(rows, row)
	}
	header := []string{"ROUTE", "WHEN", "SEND (OBSERVED)", "SHARE>", "REQ/S>", "SUCCESS>", "P95 (ms)>"}
	if s.Wide {
		header = append(append(header[:4:4], figureHeader...), "TIMEOUT>", "DEFINED AT")
	}
	s.Table(header, rows)
}

// perRequest is attempts per request.
func perRequest(f *float64) string {
	if f == nil {
		return "–"
	}
	return fmt.Sprintf("%.2f", *f)
}

// inProxies is in how many calling proxies something holds for a version of a service.
func inProxies(svc model.Service, is func(v *model.VersionGuards) bool) (n int) {
	for _, c := range svc.Guards {
		for i := range c.Versions {
			if is(&c.Versions[i]) {
				n++
			}
		}
	}
	return n
}

// stateOf is why an instance gets fewer requests than its share, in words.
func stateOf(svc model.Service, in *model.Instance) (words string) {
	if in.IsUnconfirmed {
		words += " (unconfirmed)"
	}
	if in.Unhealthy != "" {
		words += " (unhealthy)"
	}
	if in.Unreachable != "" {
		words += " (not reachable by its proxy)"
	}
	unreachable := inProxies(svc, func(v *model.VersionGuards) bool {
		return slices.ContainsFunc(v.Unreachable, func(o model.UnreachableInstance) bool { return o.Instance == in.ID })
	})
	if unreachable > 0 {
		words += fmt.Sprintf(" (unreachable from %s)", count(unreachable, "proxy"))
	}
	sidelined := inProxies(svc, func(v *model.VersionGuards) bool {
		return slices.ContainsFunc(v.Sidelined, func(o model.SidelinedInstance) bool { return o.Instance == in.ID })
	})
	if sidelined > 0 {
		words += fmt.Sprintf(" (sidelined in %s)", count(sidelined, "proxy"))
	}
	return words
}
