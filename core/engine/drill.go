package engine

import (
	"fmt"
	"strings"
	"time"

	"nightjar/core/rules"
)

// Drill is harm on purpose for a limited time, besides the rules. It ends by
// itself at Until.
type Drill struct {
	ID       string            `json:"id"`
	Service  string            `json:"service,omitempty"`  // empty with Site: all that have instances there
	Version  string            `json:"version,omitempty"`  // empty: all
	Site     string            `json:"site,omitempty"`     // only instances there; empty: everywhere
	Instance string            `json:"instance,omitempty"` // only this one
	Fail     rules.Percent     `json:"fail,omitempty"`     // share of tries that fail with Status
	Status   int               `json:"status,omitempty"`
	Delay    time.Duration     `json:"delay,omitempty"` // before every try
	Down     bool              `json:"down,omitempty"`  // nobody calls the instances
	When     []rules.Condition `json:"when,omitempty"`  // only these requests; empty: all
	Until    time.Duration     `json:"-"`
}

// drill is a compiled Drill for one version.
type drill struct {
	*Drill
	conds []*condition
	fails *split // nil: none
}

// drills compiles the drills into the versions that they concern.
func (b *builder) drills() error {
	for i := range b.opt.Drills {
		d := &b.opt.Drills[i]
		if d.Until <= b.opt.Now {
			continue
		}
		var conds []*condition
		for j := range d.When {
			c, err := newCondition(&d.When[j])
			if err != nil {
				return fmt.Errorf("drill %s: %w", d.ID, err)
			}
			conds = append(conds, c)
		}
		for _, s := range b.t.services {
			for _, p := range s.versions {
				if d.Service != "" && d.Service != s.name || d.Version != "" && d.Version != p.version.name {
					continue
				}
				v := p.version
				if d.Down {
					v.downs = append(v.downs, &drill{Drill: d})
					continue
				}
				harm := &drill{Drill: d, conds: conds}
				if d.Fail > 0 {
					harm.fails = b.split(
						&Route{of: s.name, rule: &rules.Route{Name: d.ID}},
						v.name,
						[]rules.Percent{d.Fail, rules.Whole - d.Fail},
						func() *split {
							if old := b.opt.Previous.version(s.name, v.name); old != nil {
								for _, h := range old.drills {
									if h.ID == d.ID {
										return h.fails
									}
								}
							}
							return nil
						},
					)
				}
				v.drills = append(v.drills, harm)
			}
		}
	}
	return nil
}

// applyOutages takes the instances down that drills name, and lets the others up.
func (v *version) applyOutages(now time.Duration) {
	for _, c := range v.peers {
		shut := false
		for _, d := range v.downs {
			shut = shut || now < d.Until && d.reaches(c.Instance)
		}
		c.SetShut(shut, now)
	}
}

// endDrills lets the instances up whose drills are over.
func (v *version) endDrills(now time.Duration) {
	for _, d := range v.downs {
		if now >= d.Until {
			v.applyOutages(now)
			return
		}
	}
}

// inject is what the drills do to one try: a delay before it, and whether it fails.
func (v *version) inject(x *Exchange, now time.Duration) (delay time.Duration, by *drill) {
	for _, d := range v.drills {
		if now >= d.Until || !d.reaches(x.instance) || !d.concerns(x.view) {
			continue
		}
		delay += d.Delay
		if by == nil && d.fails != nil && d.fails.draw() == 0 {
			by = d
		}
	}
	return delay, by
}

// reaches tells whether the drill is for an instance of its version.
func (d *drill) reaches(in *Instance) bool {
	return (d.Site == "" || d.Site == in.Site) && (d.Instance == "" || d.Instance == in.ID)
}

// concerns tells whether the drill is for the request.
func (d *drill) concerns(v View) bool {
	if len(d.conds) == 0 {
		return true
	}
	for _, c := range d.conds {
		if c.holds(v, v.Path(), false) {
			return true
		}
	}
	return false
}

// describe says what the drill does to attempts at a version.
func (d *drill) describe(of string) string {
	var does []string
	if d.Delay > 0 {
		does = append(does, fmt.Sprintf("delays attempts at %s by %s", of, d.Delay))
	}
	if d.Fail > 0 {
		does = append(does, fmt.Sprintf("makes %s%% of the attempts to %s fail with %d", d.Fail, of, d.Status))
	}
	for _, only := range []struct{ what, name string }{{"at site", d.Site}, {"to instance", d.Instance}} {
		if only.name != "" {
			does = append(does, "only "+only.what+" "+only.name)
		}
	}
	return strings.Join(does, ", ")
}
