package engine

import (
	"time"

	"nightjar/core/rules"
)

// Checks are the health checks that a proxy has to make.
type Checks struct {
	Own      *rules.Health // of the workload beside it; nil: none
	Protocol string        // of that workload
	Outside  []CheckOf     // of instances outside the mesh that it called in the last minute
}

// CheckOf is the check of one instance.
type CheckOf struct {
	Instance *Instance
	Rule     *rules.Health
	Protocol string
}

// Checks tells which health checks the proxy beside a workload of the service
// has to make.
func (t *Table) Checks(service string, now time.Duration) (c Checks) {
	if s := t.services[service]; s != nil {
		c.Own, c.Protocol = s.settings.Health, s.protocol()
	}
	for _, s := range t.guarded {
		if s.settings.Health == nil {
			continue
		}
		for _, p := range s.all.peers {
			if p.Outside && !p.of.unused(now) {
				c.Outside = append(c.Outside, CheckOf{p.Instance, s.settings.Health, s.protocol()})
			}
		}
	}
	return c
}
