package proxy

import (
	"sync"

	"nightjar/core/engine"
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
