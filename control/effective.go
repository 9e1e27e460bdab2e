package control

import (
	"fmt"

	"nightjar/core/rules"
)

// Effective is everything that holds for a service, each value with its origin.
type Effective struct {
	Service  string           `json:"service"`
	Revision uint             `json:"revision"`
	Settings []rules.Holding  `json:"settings" doc:"of the service, apart from its routes"`
	Routes   []EffectiveRoute `json:"routes" doc:"in match order; empty: plain balancing"`
}

// EffectiveRoute is everything that holds for one route.
type EffectiveRoute struct {
	Name     string          `json:"name"`
	At       rules.Origin    `json:"at"`
	When     []string        `json:"when" doc:"conditions in words; any of them; empty: always"`
	Send     string          `json:"send,omitempty" doc:"targets with their weights"`
	Settings []rules.Holding `json:"settings" doc:"what it does and what holds for it"`
}

// Effective tells what holds for a service by the rules in force, after
// policies and defaults.
func (c *Control) Effective(name string) (Effective, error) {
	force := c.InForce()
	s := force.Rules.Service(name)
	if s == nil {
		return Effective{}, Unusable{fmt.Sprintf("the rules in force declare no service %s: nightjar services lists what there is", name)}
	}
	resolver := rules.NewResolver(force.Rules)
	out := Effective{Service: name, Revision: force.Revision.Number, Settings: resolver.ServiceHoldings(s), Routes: []EffectiveRoute{}}
	for _, rt := range s.Routes {
		r := EffectiveRoute{Name: rt.Name, At: rt.At, When: []string{}, Send: rules.SendText(rt.Send, name)}
		for _, w := range rt.When {
			r.When = append(r.When, w.Describe())
		}
		for _, a := range rt.Actions(name) {
			r.Settings = append(r.Settings, rules.Holding{Name: a.Name, Value: a.Value, From: rt.Called(), Origin: a.Origin})
		}
		r.Settings = append(r.Settings, resolver.RouteHoldings(s, rt)...)
		out.Routes = append(out.Routes, r)
	}
	return out, nil
}
