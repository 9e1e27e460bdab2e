package control

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// Limits of drills.
const (
	maxDrillTime = time.Hour
	maxDrills    = 20 // at once
)

// DrillAsk asks for a drill.
type DrillAsk struct {
	Service  string `json:"service,omitempty" doc:"harmed service; empty only with a site"`
	Version  string `json:"version,omitempty" doc:"empty: all"`
	Site     string `json:"site,omitempty" doc:"only instances at that site; empty: everywhere"`
	Instance string `json:"instance,omitempty" doc:"only this instance"`
	Fail     string `json:"fail,omitempty" doc:"share of the tries that fail, such as 30%"`
	Status   int    `json:"status,omitempty" doc:"with which they fail; 503 when absent"`
	Delay    string `json:"delay,omitempty" doc:"before every try, such as 2s"`
	Down     bool   `json:"down,omitempty" doc:"nobody calls the instances"`
	When     string `json:"when,omitempty" doc:"a condition of the rule language; only requests for which it holds are harmed"`
	For      string `json:"for" doc:"how long, at most 1h"`
	By       string `json:"by,omitempty"`
}

// Drill is harm on purpose that runs, or ran.
type Drill struct {
	ID       string     `json:"id"`
	Service  string     `json:"service,omitempty"`
	Version  string     `json:"version,omitempty"`
	Site     string     `json:"site,omitempty"`
	Instance string     `json:"instance,omitempty"`
	Target   string     `json:"target" doc:"what it harms, in words: berths/v1 at north-quay"`
	What     string     `json:"what" doc:"in words: 30% of the tries fail with 503"`
	When     string     `json:"when,omitempty" doc:"which requests are harmed; empty: all"`
	By       string     `json:"by"`
	Began    time.Time  `json:"began"`
	Ends     time.Time  `json:"ends" doc:"by itself, in every proxy"`
	Stopped  *time.Time `json:"stopped,omitempty" doc:"when somebody ended it before"`
	Running  bool       `json:"running"`
}

// drillOf is how a record reads.
func drillOf(d store.Drill, now time.Time) Drill {
	h := d.Harm
	out := Drill{ID: h.ID, Service: h.Service, Version: h.Version, Site: h.Site, Instance: h.Instance, When: d.When, By: d.By, Began: d.Began, Ends: d.Ends}
	var what []string
	if h.Down {
		what = append(what, "down")
	}
	if h.Delay > 0 {
		what = append(what, fmt.Sprintf("every try is %s late", h.Delay))
	}
	if h.Fail > 0 {
		what = append(what, fmt.Sprintf("%s%% of the tries fail with %d", h.Fail, h.Status))
	}
	out.Target = targetOf(h.Drill)
	out.What = strings.Join(what, ", and ")
	if !d.Stopped.IsZero() {
		out.Stopped = &d.Stopped
	}
	out.Running = out.Stopped == nil && now.Before(d.Ends)
	return out
}

// targetOf is what a drill harms, in words.
func targetOf(h engine.Drill) string {
	out := cmp.Or(h.Service, "everything")
	if h.Version != "" {
		out += "/" + h.Version
	}
	if h.Instance != "" {
		out += ", instance " + h.Instance
	}
	if h.Site != "" {
		out += " at " + h.Site
	}
	return out
}

// StartDrill begins a drill.
func (c *Control) StartDrill(ctx context.Context, ask DrillAsk) (Drill, error) {
	no := func(format string, args ...any) (Drill, error) {
		return Drill{}, Unusable{fmt.Sprintf(format, args...)}
	}
	length, err := time.ParseDuration(ask.For)
	if err != nil || length < time.Second || length > maxDrillTime {
		return no("a drill runs for a time from 1s to 1h, such as 30s, not %q", ask.For)
	}
	h := engine.Drill{Service: ask.Service, Version: ask.Version, Site: ask.Site, Instance: ask.Instance, Down: ask.Down}
	if ask.Fail != "" {
		if h.Fail, err = rules.ParsePercent(ask.Fail); err != nil || h.Fail == 0 {
			return no("fail: %q is not a share above 0, such as 30%%", ask.Fail)
		}
		if h.Status = cmp.Or(ask.Status, 503); h.Status < 500 || h.Status > 599 {
			return no("status: a drill fails requests with a status from 500 to 599, not %d", h.Status)
		}
	}
	if ask.Delay != "" {
		if h.Delay, err = time.ParseDuration(ask.Delay); err != nil || h.Delay <= 0 || h.Delay > rules.MaxTimeout {
			return no("delay: %q is not a time, such as 2s", ask.Delay)
		}
	}
	switch {
	case !h.Down && h.Fail == 0 && h.Delay == 0:
		return no("this drill does nothing: say what it is to do, by fail, delay or down")
	case h.Down && (h.Fail > 0 || h.Delay > 0):
		return no("instances that are down neither fail nor delay anything: take down alone, or without it")
	case h.Down && ask.When != "":
		return no("whole instances are taken down, whoever calls: leave out the condition, or use fail: 100%%")
	case h.Service == "" && h.Site == "":
		return no("this drill would harm everything: name a service, or a site")
	case h.Instance != "" && h.Service == "":
		return no("instance %s of which service? Name it", h.Instance)
	case h.Version != "" && h.Service == "":
		return no("version %s of which service? Name it", h.Version)
	}
	var found []rules.Finding
	if h.When, found = rules.ReadWhen("when", ask.When); rules.Mistakes(found) > 0 {
		return no("when: %s; expected: %s", found[0].Message, found[0].Expected)
	}
	c.drilling.Lock()
	defer c.drilling.Unlock()
	if err := c.drillable(h); err != nil {
		return Drill{}, err
	}
	now := c.now().UTC()
	d := store.Drill{By: cmp.Or(ask.By, "unknown"), When: ask.When, Began: now, Ends: now.Add(length),
		Harm: wire.Drill{Drill: h, Ends: now.Add(length), ForMS: length.Milliseconds()}}
	if d, err = c.store.AddDrill(ctx, d, func(n uint) string { return fmt.Sprintf("drill-%d", n) }); err != nil {
		return Drill{}, fmt.Errorf("the drill could not be stored: %w", err)
	}
	out := drillOf(d, now)
	c.mu.Lock()
	c.drills = append(c.drills, d)
	c.bumpDrills()
	c.mu.Unlock()
	c.happened(store.Activity{At: now, Who: d.By, Kind: "drill-began", Service: h.Service, Version: h.Version, Detail: fmt.Sprintf("%s: %s: %s, for %s", out.ID, out.Target, out.What, length)})
	return out, nil
}

// drillable tells why nothing would come of a drill.
func (c *Control) drillable(h engine.Drill) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.drills) >= maxDrills {
		return Unusable{fmt.Sprintf("%d drills run: stop one first", len(c.drills))}
	}
	t := c.ledger
	services, versions, sites, instances := map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}
	for name, s := range t.services {
		services[name] = true
		for _, v := range s.value.Versions {
			versions[name+"/"+v] = true
		}
		for _, in := range s.value.Instances {
			sites[in.Site] = true
			if address, _ := in.Address(); name == h.Service {
				instances[name+"@"+address] = true
			}
		}
	}
	for id, in := range t.peers {
		if in.value.Service == h.Service {
			instances[id] = true
		}
		services[in.value.Service], versions[in.value.Service+"/"+in.value.Version], sites[in.value.Site] = true, true, true
	}
	delete(sites, "")
	switch {
	case h.Service != "" && !services[h.Service]:
		return Unusable{fmt.Sprintf("there is no service %s: name %s", h.Service, rules.OneOf(h.Service, slices.Collect(maps.Keys(services))))}
	case h.Version != "" && !versions[h.Service+"/"+h.Version]:
		return Unusable{fmt.Sprintf("service %s has no version %s", h.Service, h.Version)}
	case h.Instance != "" && !instances[h.Instance]:
		return Unusable{fmt.Sprintf("service %s has no instance %s: name %s", h.Service, h.Instance, rules.OneOf(h.Instance, slices.Collect(maps.Keys(instances))))}
	case h.Site != "" && !sites[h.Site]:
		return Unusable{fmt.Sprintf("no instance runs at site %s: name %s", h.Site, rules.OneOf(h.Site, slices.Collect(maps.Keys(sites))))}
	}
	return nil
}

// StopDrill ends a drill before its time.
func (c *Control) StopDrill(ctx context.Context, id, by string) (Drill, error) {
	c.drilling.Lock()
	defer c.drilling.Unlock()
	c.mu.Lock()
	i := slices.IndexFunc(c.drills, func(d store.Drill) bool { return d.Harm.ID == id })
	c.mu.Unlock()
	if i < 0 {
		return Drill{}, Unusable{fmt.Sprintf("no drill %s runs now", id)}
	}
	now := c.now().UTC()
	c.mu.Lock()
	d := c.drills[i]
	c.mu.Unlock()
	if err := c.store.StopDrill(ctx, d.Number, now); err != nil {
		return Drill{}, fmt.Errorf("the end of the drill could not be stored: %w", err)
	}
	d.Stopped = now
	c.mu.Lock()
	c.drills = slices.DeleteFunc(slices.Clone(c.drills), func(o store.Drill) bool { return o.Number == d.Number })
	c.bumpDrills()
	c.mu.Unlock()
	c.happened(store.Activity{At: now, Who: cmp.Or(by, "unknown"), Kind: "drill-ended", Service: d.Harm.Service, Version: d.Harm.Version, Detail: id + " was stopped before its time"})
	return drillOf(d, now), nil
}

// Drills lists drills, newest first: those that run and those that ran.
func (c *Control) Drills(ctx context.Context, limit int) ([]Drill, error) {
	list, err := c.store.Drills(ctx, limit)
	out := make([]Drill, 0, len(list))
	for _, d := range list {
		out = append(out, drillOf(d, c.now()))
	}
	return out, err
}

// runningDrills are the drills that run now.
func (c *Control) runningDrills() []Drill {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []Drill{}
	for _, d := range c.drills {
		out = append(out, drillOf(d, c.now()))
	}
	return out
}

// bumpDrills tells the proxies which drills run. The caller holds mu.
func (c *Control) bumpDrills() {
	list := make([]wire.Drill, 0, len(c.drills))
	for _, d := range c.drills {
		list = append(list, d.Harm)
	}
	c.ledger.noteDrills(list)
	c.bump(false, false)
}

// endDrills forgets the drills whose time is over. The proxies did so already.
func (c *Control) endDrills(now time.Time) {
	c.drilling.Lock()
	defer c.drilling.Unlock()
	c.mu.Lock()
	var over, run []store.Drill
	for _, d := range c.drills {
		if now.Before(d.Ends) {
			run = append(run, d)
		} else {
			over = append(over, d)
		}
	}
	if len(over) > 0 {
		c.drills = run
		c.bumpDrills()
	}
	c.mu.Unlock()
	for _, d := range over {
		c.happened(store.Activity{At: d.Ends, Who: d.By, Kind: "drill-ended", Service: d.Harm.Service, Version: d.Harm.Version, Detail: d.Harm.ID + " ended by itself"})
	}
}
