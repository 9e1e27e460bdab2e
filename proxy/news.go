package proxy

import (
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/metrics"
	"nightjar/wire"
)

// news is what happened at the inbound listener since the last call: callers that were
// refused, and requests that access rules only watched.
func (p *Proxy) news() (events []engine.Event, watched []wire.Watched) {
	for _, detail := range p.handshakes.News() {
		events = append(events, engine.Event{
			Service:  p.cfg.Service,
			Version:  p.cfg.Version,
			Instance: p.cfg.ID,
			Kind:     "caller-refused",
			Detail:   detail,
		})
	}
	return events, p.watched.take()
}

// watched counts requests that access rules would have refused.
type watched struct {
	mu     sync.Mutex
	counts map[wire.Watched]uint64 // by caller and rule
}

// maxWatched bounds the callers and rules that are told apart between two reports.
const maxWatched = 256

func (w *watched) note(from engine.Party, v *engine.Verdict) {
	k := wire.Watched{From: from.String()}
	if v.Rule != nil {
		k.Rule = v.Rule.Name
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.counts == nil {
		w.counts = map[wire.Watched]uint64{}
	}
	if _, isKnown := w.counts[k]; !isKnown && len(w.counts) >= maxWatched {
		k = wire.Watched{From: wire.Other}
	}
	w.counts[k]++
}

func (w *watched) take() (out []wire.Watched) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for k, n := range w.counts {
		k.Requests = n
		out = append(out, k)
	}
	w.counts = nil
	return out
}

// identityGauges are the figures of /metrics about identities.
func (p *Proxy) identityGauges() []metrics.Value {
	h := &p.handshakes
	out := []metrics.Value{{
		Name: "nightjar_certificate_left_seconds",
		Unit: "seconds",
		Help: "Time until the certificate of this proxy runs out.",
		Read: func() float64 {
			own := p.shown.Own()
			if own == nil {
				return 0
			}
			return time.Until(own.Leaf.NotAfter).Seconds()
		},
	}}
	for _, one := range []struct {
		result string
		count  *atomic.Uint64
	}{
		{"mutual-tls", &h.Done}, {"plain", &h.Plain}, {"no-certificate", &h.None}, {"expired", &h.Expired},
		{"unknown-authority", &h.Unknown}, {"other-failure", &h.Otherwise},
	} {
		out = append(out, metrics.Value{
			Name:    "nightjar_handshakes_total",
			Help:    "Connections of callers, by how they proved who they are, or why they did not.",
			Counter: true,
			Labels:  map[string]string{"result": one.result},
			Read:    func() float64 { return float64(one.count.Load()) },
		})
	}
	return out
}
