package proxy

import (
	"fmt"
	"maps"
	"sync/atomic"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/metrics"
	"nightjar/proxy/carry"
	"nightjar/wire"
)

// crossing is the listener of a proxy that carries what comes from other sites.
type crossing struct {
	*carry.Crossing
	instances atomic.Pointer[map[string]string] // addresses by engine.CrossingName
}

// openCrossing opens the listener of a crossing, or takes over that of the process before.
func (p *Proxy) openCrossing() error {
	l, err := p.open("crossing", p.cfg.Inbound)
	if err != nil {
		return err
	}
	x := &crossing{}
	x.instances.Store(&map[string]string{})
	x.Crossing = carry.NewCrossing(carry.CrossingConfig{
		Listener: l,
		Callers:  p.callers,
		Find:     func(name string) string { return (*x.instances.Load())[name] },
		Log:      p.log,
	})
	p.crossing = x
	return nil
}

// learn takes the instances that are known into use.
func (p *Proxy) learn(list []engine.Instance) {
	if p.crossing == nil {
		return
	}
	known := map[string]string{}
	for i := range list {
		if in := &list[i]; in.Site == p.cfg.Crossing && in.Member {
			known[engine.CrossingName(in.ID)] = in.Address
		}
	}
	if before := p.crossing.instances.Load(); !maps.Equal(*before, known) {
		p.crossing.instances.Store(&known)
	}
}

// followSite says what is wrong with the rules, as far as this crossing goes.
func (p *Proxy) followSite(rs *rules.Rules) {
	if p.crossing == nil {
		return
	}
	if rs.Crossing(p.cfg.Crossing) != "" {
		p.setProblem(wire.ProblemListener, "")
		return
	}
	p.setProblem(wire.ProblemListener, fmt.Sprintf("nobody uses this crossing, since the rules do not name it: "+
		"sites: {%s: {crossing: HOST:PORT}}", p.cfg.Crossing))
}

// carried is what the crossing has carried; nil: this is none.
func (p *Proxy) carried() *wire.Carried {
	if p.crossing == nil {
		return nil
	}
	c := &p.crossing.Counts
	return &wire.Carried{
		Connections: c.Carried.Load(),
		Unknown:     c.Unknown.Load(),
		Unreachable: c.Unreachable.Load(),
		In:          c.In.Load(),
		Out:         c.Out.Load(),
	}
}

// Crossing is where a crossing takes connections; empty: this is none.
func (p *Proxy) Crossing() string {
	if p.crossing == nil {
		return ""
	}
	return p.crossing.Listener.Addr().String()
}

// crossingGauges are the figures of /metrics about what a crossing carries.
func (p *Proxy) crossingGauges() (out []metrics.Value) {
	if p.crossing == nil {
		return nil
	}
	c := &p.crossing.Counts
	counter := func(name, unit, help string, label map[string]string, count *atomic.Uint64) {
		out = append(out, metrics.Value{
			Name:    name,
			Help:    help,
			Unit:    unit,
			Counter: true,
			Labels:  label,
			Read:    func() float64 { return float64(count.Load()) },
		})
	}
	for result, count := range map[string]*atomic.Uint64{
		"carried": &c.Carried, "unknown": &c.Unknown, "unreachable": &c.Unreachable,
	} {
		counter("nightjar_crossing_connections_total", "", "Connections from other sites, by what became of them.",
			map[string]string{"result": result}, count)
	}
	for direction, count := range map[string]*atomic.Uint64{"in": &c.In, "out": &c.Out} {
		counter("nightjar_crossing_bytes_total", "bytes", "Bytes between other sites and the instances of this one.",
			map[string]string{"direction": direction}, count)
	}
	return out
}
