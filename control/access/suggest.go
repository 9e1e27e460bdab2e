package access

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/fleet"
)

// Suggest writes the fewest rules that allow what was used in the last 14 days, and
// nothing else.
func (a *Access) Suggest(ctx context.Context) (model.AccessSuggestion, error) {
	rows, err := a.seen(ctx)
	if err != nil {
		return model.AccessSuggestion{}, err
	}
	out := model.AccessSuggestion{Days: keptDays}
	callers := map[string]map[string]bool{} // of each service
	rs := a.Current().Rules
	for _, r := range rows {
		if r.Outcome != used || r.Caller == "" || r.Caller == fleet.ServiceCaller || rs.Service(r.Service) == nil {
			continue
		}
		if callers[r.Service] == nil {
			callers[r.Service] = map[string]bool{}
		}
		if !callers[r.Service][r.Caller] {
			callers[r.Service][r.Caller] = true
			out.Links++
		}
		out.Requests += r.Requests
	}
	services := map[string][]string{} // by their callers
	for service, set := range callers {
		who := strings.Join(slices.Sorted(maps.Keys(set)), ", ")
		services[who] = append(services[who], service)
	}
	text := strings.Builder{}
	fmt.Fprintf(&text, "# What was used in the %d days until %s.\naccess:\n  default: deny\n", keptDays,
		a.Now().UTC().Format(time.DateOnly))
	if len(services) > 0 {
		text.WriteString("  rules:\n")
	}
	byFirst := func(x, y string) int { return cmp.Compare(slices.Min(services[x]), slices.Min(services[y])) }
	for _, who := range slices.SortedFunc(maps.Keys(services), byFirst) {
		list := services[who]
		slices.Sort(list)
		fmt.Fprintf(
			&text,
			"    - {name: to-%s, from: [%s], to: [%s], allow: all}\n",
			list[0],
			who,
			strings.Join(list, ", "),
		)
	}
	out.File = model.File{Name: "access.yaml", Text: text.String()}
	return out, nil
}
