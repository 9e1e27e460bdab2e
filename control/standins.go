package control

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/rules"
	"nightjar/store"
)

// Standin is a simulated workload and how it behaves now.
type Standin struct {
	Instance string   `json:"instance"`
	Service  string   `json:"service"`
	Version  string   `json:"version"`
	Site     string   `json:"site"`
	MedianMS float64  `json:"medianMS" doc:"of its service time, which is log-normal"`
	Spread   float64  `json:"spread" doc:"standard deviation of its logarithm"`
	Errors   float64  `json:"errors" doc:"share of the requests answered with 500, 0 to 1"`
	AtOnce   int      `json:"atOnce" doc:"requests that it works on at once; more of them wait"`
	Calls    []string `json:"calls" doc:"services that it calls, one after the other"`
	Needs    []string `json:"needs" doc:"of these, those without which it answers 502"`
	Changed  bool     `json:"changed" doc:"it behaves otherwise than the sample says"`
}

// StandinChange is what is to be otherwise; what is absent stays.
type StandinChange struct {
	MedianMS *float64  `json:"medianMS,omitempty" doc:"0 to 60000"`
	SlowerMS *float64  `json:"slowerMS,omitempty" doc:"added to the median of the sample"`
	Errors   *float64  `json:"errors,omitempty" doc:"0 to 1"`
	AtOnce   *int      `json:"atOnce,omitempty" doc:"1 to 4096"`
	Calls    *[]string `json:"calls,omitempty" doc:"services to call, at most 8; the path is the sample's, or /"`
	Needs    *[]string `json:"needs,omitempty" doc:"services without which it answers 502; it has to call them"`
	Reset    bool      `json:"reset,omitempty" doc:"first, as the sample says"`
	By       string    `json:"by,omitempty"`
}

// Standins are the simulated workloads beside the service. The zero value has
// none.
type Standins struct {
	All func() []Standin
	Set func(instance string, change StandinChange)
}

// List is how they behave now.
func (s Standins) List() []Standin {
	if s.All == nil {
		return []Standin{}
	}
	return s.All()
}

// SetStandins tells of the simulated workloads.
func (c *Control) SetStandins(s Standins) { c.standins.Store(&s) }

// Standins are the simulated workloads beside the service.
func (c *Control) Standins() Standins {
	if s := c.standins.Load(); s != nil {
		return *s
	}
	return Standins{}
}

// SetStandin changes an instance, or all of SERVICE~VERSION (or SERVICE/VERSION).
func (c *Control) SetStandin(which string, change StandinChange) ([]Standin, error) {
	standins := c.Standins()
	list := standins.List()
	if len(list) == 0 {
		return nil, Unusable{"no simulated workloads run beside this service: nightjar demo has some"}
	}
	within := func(v *float64, low, high float64) bool { return v == nil || *v >= low && *v <= high }
	switch {
	case !within(change.MedianMS, 0, 60_000) || !within(change.SlowerMS, 0, 60_000):
		return nil, Unusable{"a service time is from 0 to 60 s"}
	case !within(change.Errors, 0, 1):
		return nil, Unusable{"a share of errors is from 0% to 100%"}
	case change.AtOnce != nil && (*change.AtOnce < 1 || *change.AtOnce > 4096):
		return nil, Unusable{"at once, from 1 to 4096 requests are worked on"}
	case change.Calls != nil && len(*change.Calls) > 8:
		return nil, Unusable{"a simulated workload makes at most 8 calls"}
	}
	services := map[string]bool{}
	for _, s := range list {
		services[s.Service] = true
	}
	for _, named := range []*[]string{change.Calls, change.Needs} {
		for _, name := range deref(named) {
			if !services[name] {
				return nil, Unusable{fmt.Sprintf("the sample has no service %s to call: name %s", name, rules.OneOf(name, slices.Sorted(maps.Keys(services))))}
			}
		}
	}
	which = strings.Replace(which, "~", "/", 1)
	found, names := 0, []string{}
	for _, s := range list {
		names = append(names, s.Service+"/"+s.Version)
		if s.Instance == which || s.Service+"/"+s.Version == which {
			found++
			for _, name := range deref(change.Needs) {
				if !slices.Contains(s.Calls, name) && (change.Calls == nil || !slices.Contains(*change.Calls, name)) {
					return nil, Unusable{fmt.Sprintf("%s does not call %s, so it cannot need it: let it call %s, too", s.Instance, name, name)}
				}
			}
			standins.Set(s.Instance, change)
			now := c.now().UTC()
			c.happened(store.Activity{At: now, Who: change.By, Kind: "standin-set", Service: s.Service, Version: s.Version, Instance: s.Instance, Detail: "behaves " + change.words()})
		}
	}
	if found == 0 {
		return nil, Unusable{fmt.Sprintf("no simulated workload is called %s: name an instance, or %s", which, rules.OneOf(which, slices.Compact(names)))}
	}
	return standins.List(), nil
}

func deref(list *[]string) []string {
	if list == nil {
		return nil
	}
	return *list
}

// words says what a change does.
func (s StandinChange) words() string {
	var out []string
	if s.Reset {
		out = append(out, "as the sample says")
	}
	ms := func(v float64) string { return time.Duration(v * float64(time.Millisecond)).String() }
	if s.MedianMS != nil {
		out = append(out, "with a median of "+ms(*s.MedianMS))
	}
	if s.SlowerMS != nil {
		out = append(out, "slower by "+ms(*s.SlowerMS))
	}
	if s.Errors != nil {
		out = append(out, fmt.Sprintf("with %.4g%% errors", 100**s.Errors))
	}
	if s.AtOnce != nil {
		out = append(out, fmt.Sprintf("with %d at once", *s.AtOnce))
	}
	if s.Calls != nil {
		out = append(out, "calling "+strings.Join(*s.Calls, ", "))
	}
	if s.Needs != nil {
		out = append(out, "needing "+strings.Join(*s.Needs, ", "))
	}
	if len(out) == 0 {
		return "as before"
	}
	return strings.Join(out, ", ")
}
