package control

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"nightjar/core/rules"
	"nightjar/store"
)

// Look checks files as Check does, and remembers nothing: for files that are
// being worked on.
func (c *Control) Look(bundle string, files []rules.File) (Report, error) {
	_, rep, err := c.check(bundle, files)
	return rep, err
}

// Limits on drafts: bytes of the name of whoever drafts, and how many are kept.
const (
	maxAuthor = 100
	maxDrafts = 1000
)

// Draft returns what somebody is working on; store.ErrNotFound if that is
// nothing.
func (c *Control) Draft(ctx context.Context, bundle, by string) (store.Draft, error) {
	return c.store.Draft(ctx, bundle, by)
}

// Drafts lists who is working on what.
func (c *Control) Drafts(ctx context.Context) ([]store.Draft, error) { return c.store.Drafts(ctx) }

// SaveDraft keeps what somebody is working on, in place of the version expect;
// 0: there is none yet. Mistakes in it do not matter.
func (c *Control) SaveDraft(ctx context.Context, d store.Draft, expect uint) (store.Draft, error) {
	if !bundleShape.MatchString(d.Bundle) {
		return d, Unusable{fmt.Sprintf("%q cannot be the name of a bundle: use small letters, digits and hyphens", d.Bundle)}
	}
	if d.By == "" || len(d.By) > maxAuthor || strings.ContainsFunc(d.By, unicode.IsControl) {
		return d, Unusable{fmt.Sprintf("a draft needs a name of whom it belongs to, of at most %d bytes on one line", maxAuthor)}
	}
	total := 0
	for _, f := range d.Files {
		total += len(f.Text)
	}
	if total > rules.MaxBytes {
		return d, Unusable{fmt.Sprintf("the draft holds %d bytes: at most %d can be published", total, rules.MaxBytes)}
	}
	if expect == 0 {
		list, err := c.store.Drafts(ctx)
		if err != nil {
			return d, err
		}
		if len(list) >= maxDrafts {
			return d, Unusable{fmt.Sprintf("%d drafts are kept already, of %s and others: discard some", len(list), list[0].By)}
		}
	}
	d.At = c.now().UTC()
	return c.store.SaveDraft(ctx, d, expect)
}

// DropDraft forgets what somebody was working on.
func (c *Control) DropDraft(ctx context.Context, bundle, by string) error {
	return c.store.DropDraft(ctx, bundle, by)
}

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
