package cli

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
	"nightjar/core/rules"
)

// headerFlags reads -H flags.
func headerFlags(lines []string) (map[string]string, error) {
	h := map[string]string{}
	for _, l := range lines {
		k, v, ok := strings.Cut(l, ":")
		if !ok || strings.TrimSpace(k) == "" {
			return nil, usagef("-H %q: expected NAME: VALUE", l)
		}
		k, v = http.CanonicalHeaderKey(strings.TrimSpace(k)), strings.TrimSpace(v)
		if old, twice := h[k]; twice {
			sep := ", "
			if k == "Cookie" {
				sep = "; "
			}
			v = old + sep + v
		}
		h[k] = v
	}
	return h, nil
}

func (a *app) explain() *cobra.Command {
	var headers []string
	var from string
	cmd := &cobra.Command{
		Use:   "explain METHOD URL",
		Short: "Which route takes a request, why not the others, and what holds for it",
		Long: `Say which route takes a request, why each earlier one does not, how likely each
version is, and which settings hold, each with the file and line it comes from.
Nothing is sent. The host of the URL is a service, or a host of a gateway.`,
		Example: `  nightjar explain GET http://sailings/sailings/today -H 'x-crew: yes'
  nightjar explain GET http://tickets.ferry.example/`,
		Args: exactly(2, "METHOD URL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := headerFlags(headers)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			e, err := c.Explain(cmd.Context(), control.Ask{Method: args[0], URL: args[1], Headers: h, From: from})
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(e, func(s *out.Sheet) { explainSheet(s, e) })
		},
	}
	cmd.Flags().StringArrayVarP(&headers, "header", "H", nil, "header NAME: VALUE, also Host and Cookie; may come several times")
	cmd.Flags().StringVar(&from, "from", "", "calling service")
	return cmd
}

func explainSheet(s *out.Sheet, e control.Explained) {
	s.Line("%s %s enters at the %s, revision %d.", e.Method, e.URL, e.Entry, e.Revision)
	for _, l := range e.Ladders {
		if l.Plain {
			s.Line("\n%s %s has no routes: plain balancing over all its instances.", l.Kind, l.Name)
			continue
		}
		s.Line("\nRoutes of %s %s, in order:", l.Kind, l.Name)
		var rows [][]string
		for _, r := range l.Rungs {
			rows = append(rows, []string{r.Result, r.Route, r.Why, r.At.String()})
		}
		s.Table([]string{"", "ROUTE", "WHY", "WRITTEN"}, rows)
	}
	if len(e.Odds) > 0 {
		s.Line("\nGoes to:")
		var rows [][]string
		for _, o := range e.Odds {
			rows = append(rows, []string{rules.Target{Service: o.Service, Version: o.Version, Site: o.Site}.String(), out.Percent(o.Share), fmt.Sprint(o.Instances)})
		}
		s.Table([]string{"VERSION", "ODDS>", "INSTANCES>"}, rows)
	}
	if len(e.Unreachable) > 0 {
		s.Line("\nCannot be reached now, so that requests go elsewhere where there is another way:")
		var rows [][]string
		for _, u := range e.Unreachable {
			rows = append(rows, []string{u.Instance, u.Version, u.Proxy, u.Cause})
		}
		s.Table([]string{"INSTANCE", "VERSION", "BY", "WHY"}, rows)
	}
	if len(e.Settings) > 0 {
		s.Line("\nWhat holds:")
		var rows [][]string
		for _, v := range e.Settings {
			name := v.Name
			if v.Service != "" {
				name = v.Service + ": " + name
			}
			rows = append(rows, []string{name, v.Value, v.From, written(v.Origin)})
		}
		s.Table([]string{"SETTING", "VALUE", "SET BY", "WRITTEN"}, rows)
	}
	if w := e.Answer; w != nil {
		switch {
		case w.Location != "":
			s.Line("\nThe route answers by itself: %d to %s", w.Status, w.Location)
		default:
			s.Line("\nThe route answers by itself: %d %q", w.Status, w.Body)
		}
	}
	if r := e.Refusal; r != nil {
		s.Line("\nRefused with %d %s: %s.", r.Status, r.Reason, r.Detail)
	}
}
