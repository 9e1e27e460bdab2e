package cli

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
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
	var headers, claims []string
	var from, address string
	cmd := &cobra.Command{
		Use:   "explain METHOD URL",
		Short: "Which route takes a request, why not others, and which settings hold",
		Long: `Explain which route takes a request, why earlier routes do not, how likely each version
is, and which settings hold, each with its file and line. Nothing is sent. The host of
the URL is a service, or a host of a gateway.`,
		Example: `  nightjar explain GET http://sailings/sailings/today -H 'x-crew: yes'
  nightjar explain GET http://tickets.ferry.example/ --address 203.0.113.9 --claim group=crew`,
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
			spec := model.RequestSpec{Method: args[0], URL: args[1], Headers: h, From: from, Address: address}
			if spec.Claims, err = claimFlags(claims); err != nil {
				return err
			}
			e, err := c.Explain(cmd.Context(), spec)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(e, func(s *out.Sheet) { explainSheet(s, e) })
		},
	}
	cmd.Flags().
		StringArrayVarP(&headers, "header", "H", nil, "header NAME: VALUE, also Host and Cookie; can be repeated")
	cmd.Flags().StringVar(&from, "from", "", "calling service")
	cmd.Flags().StringVar(&address, "address", "", "address of an outsider who calls a gateway, such as 203.0.113.9")
	cmd.Flags().StringArrayVar(&claims, "claim", nil, "NAME=VALUE: the request shows the gateway a good token with this claim; can be repeated")
	return cmd
}

// claimFlags reads --claim flags.
func claimFlags(pairs []string) (map[string][]string, error) {
	if len(pairs) == 0 {
		return nil, nil
	}
	out := map[string][]string{}
	for _, p := range pairs {
		name, value, ok := strings.Cut(p, "=")
		if !ok || name == "" {
			return nil, usagef("--claim %q: expected NAME=VALUE", p)
		}
		out[name] = append(out[name], value)
	}
	return out, nil
}

// pathOf is the path of a URL as it is sent.
func pathOf(text string) string {
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	u, err := url.Parse(text)
	if err != nil {
		return ""
	}
	return cmp.Or(u.EscapedPath(), "/")
}

func explainSheet(s *out.Sheet, e model.Explanation) {
	s.Line("%s %s enters at the %s, revision %d.", e.Method, e.URL, e.Entry, e.Revision)
	for _, l := range e.Steps {
		if l.IsBalanced {
			s.Line("\n%s %s has no routes: requests are balanced over all its instances.", l.Kind, l.Name)
			continue
		}
		s.Line("\nRoutes of %s %s, in match order:", l.Kind, l.Name)
		var rows [][]string
		for _, r := range l.Routes {
			rows = append(rows, []string{r.Result, r.Route, r.Why, r.At.String()})
		}
		s.Table([]string{"RESULT", "ROUTE", "WHY", "DEFINED AT"}, rows)
	}
	if len(e.Access) > 0 {
		s.Line("\nAccess:")
		var rows [][]string
		for _, v := range e.Access {
			result := "denied"
			switch {
			case v.IsWatched:
				result = "allowed, only watched"
			case v.Allowed:
				result = "allowed"
			}
			rows = append(rows, []string{v.Service, result, cmp.Or(v.Rule, "the default"), written(v.At)})
		}
		s.Table([]string{"SERVICE", "RESULT", "RULE", "DEFINED AT"}, rows)
	}
	if len(e.Odds) > 0 {
		s.Line("\nTargets:")
		var rows [][]string
		for _, o := range e.Odds {
			rows = append(
				rows,
				[]string{
					rules.Target{Service: o.Service, Version: o.Version, Site: o.Site}.String(),
					out.Percent(o.Share),
					fmt.Sprint(o.Instances),
				},
			)
		}
		s.Table([]string{"VERSION", "PROBABILITY>", "INSTANCES>"}, rows)
	}
	if path := pathOf(e.URL); len(e.Odds) > 0 && e.Path != path {
		s.Line("\nThe workload gets the path %s instead of %s.", e.Path, path)
	}
	if len(e.Unreachable) > 0 {
		s.Line("\nUnreachable now; requests go to other instances where there are any:")
		var rows [][]string
		for _, u := range e.Unreachable {
			rows = append(rows, []string{u.Instance, u.Version, u.Proxy, u.Cause})
		}
		s.Table([]string{"INSTANCE", "VERSION", "FROM PROXY", "WHY"}, rows)
	}
	if len(e.Settings) > 0 {
		s.Line("\nSettings:")
		var rows [][]string
		for _, v := range e.Settings {
			name := v.Name
			if v.Service != "" {
				name = v.Service + ": " + name
			}
			rows = append(rows, []string{name, v.Value, v.From, written(v.At)})
		}
		s.Table([]string{"SETTING", "VALUE", "SET BY", "DEFINED AT"}, rows)
	}
	if w := e.Answer; w != nil {
		switch {
		case w.Location != "":
			s.Line("\nThe route redirects: %d to %s", w.Status, w.Location)
		default:
			s.Line("\nThe route responds by itself: %d %q", w.Status, w.Body)
		}
	}
	if r := e.Refusal; r != nil {
		s.Line("\nRefused with %d %s: %s.", r.Status, r.Reason, r.Detail)
	}
}
