package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Access is the section `access`: who may call whom. The first rule whose parties and
// condition hold decides, and else Default.
type Access struct {
	Default string `json:"default"`         // allow or deny
	Watch   bool   `json:"watch,omitempty"` // what would be refused is let in, and counted
	// Where they are written; the zero Origin: they are not.
	DefaultAt Origin       `json:"defaultAt,omitzero"`
	WatchAt   Origin       `json:"watchAt,omitzero"`
	Rules     []AccessRule `json:"rules,omitempty"`
	At        Origin       `json:"at"`
}

// AccessRule allows or denies calls.
type AccessRule struct {
	Name  string    `json:"name"`
	Watch bool      `json:"watch,omitempty"` // what it would refuse is let in, and counted
	From  []Party   `json:"from,omitempty"`  // any of them; none: anyone
	To    []Party   `json:"to,omitempty"`    // services; none: all
	Allow bool      `json:"allow"`
	What  Condition `json:"what"`           // which requests; an empty one means all
	Port  int       `json:"port,omitempty"` // of the workload; 0: any
	At    Origin    `json:"at"`
}

// Party is who calls, or who is called.
type Party struct {
	Kind   string `json:"kind"`             // service, gateway, site, labels, team or anyone
	Name   string `json:"name,omitempty"`   // of the service, gateway, site or team
	Labels Labels `json:"labels,omitempty"` // services that have all of them
	// Names are the services of the team, and those that have the labels where the services
	// are not at hand; nil: they are.
	Names []string `json:"names,omitzero"`
}

// Kinds of parties.
const (
	PartyService = "service"
	PartyGateway = "gateway"
	PartySite    = "site"
	PartyLabels  = "labels"
	PartyTeam    = "team"
	PartyAnyone  = "anyone"
)

// String is the party as an author would write it.
func (p Party) String() string {
	switch p.Kind {
	case PartyGateway:
		return "gateway/" + p.Name
	case PartySite:
		return "@" + p.Name
	case PartyLabels:
		return "{labels: {" + strings.ReplaceAll(p.Labels.String(), "=", ": ") + "}}"
	case PartyTeam:
		return "{team: " + p.Name + "}"
	case PartyAnyone:
		return "anyone"
	}
	return p.Name
}

// Parties writes a list of parties; none is said as absent.
func Parties(list []Party, absent string) string {
	if len(list) == 0 {
		return absent
	}
	var out []string
	for _, p := range list {
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

// Describe is the rule in a line.
func (r *AccessRule) Describe() string {
	verb := "denies"
	if r.Allow {
		verb = "allows"
	}
	what := cmp.Or(r.What.Describe(), "all")
	if r.Port > 0 {
		what = strings.TrimPrefix(what+fmt.Sprintf(", port %d", r.Port), "all, ")
	}
	return fmt.Sprintf("%s %s to %s: %s", verb, Parties(r.From, "anyone"), Parties(r.To, "all services"), what)
}

// Resolved is the section with the names of the services that have the labels of its
// parties, for those who do not know all services.
func (a *Access) Resolved(services []*Service) *Access {
	if a == nil {
		return nil
	}
	out := *a
	out.Rules = slices.Clone(a.Rules)
	for i := range out.Rules {
		out.Rules[i].From = resolved(out.Rules[i].From, services)
		out.Rules[i].To = resolved(out.Rules[i].To, services)
	}
	return &out
}

func resolved(list []Party, services []*Service) []Party {
	if !slices.ContainsFunc(list, func(p Party) bool { return p.Kind == PartyLabels }) {
		return list
	}
	list = slices.Clone(list)
	for i := range list {
		if list[i].Kind != PartyLabels {
			continue
		}
		names := []string{}
		for _, s := range services {
			if list[i].Labels.Within(s.Labels) {
				names = append(names, s.Name)
			}
		}
		list[i].Names = names
	}
	return list
}

// Within tells whether all of the labels are among others.
func (l Labels) Within(others Labels) bool {
	for k, v := range l {
		if has, ok := others[k]; !ok || has != v {
			return false
		}
	}
	return true
}
