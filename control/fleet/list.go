package fleet

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/store"
	"nightjar/wire"
)

// instances lists the registered instances by id. The caller holds mu.
func (f *Fleet) instances() []engine.Instance {
	out := []engine.Instance{}
	for _, p := range f.proxies {
		if p.Inbound != "" {
			out = append(out, engine.Instance{
				ID:      p.ID,
				Service: p.Service,
				Version: p.Version,
				Site:    p.Site,
				Address: p.Inbound,
				Member:  true,
				Doubted: p.isUnconfirmed,
				Down:    p.Down != "",
			})
		}
	}
	slices.SortFunc(out, func(a, b engine.Instance) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// Instances lists the registered instances by id.
func (f *Fleet) Instances() []engine.Instance {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.instances()
}

// Members is who is registered, as the checker of rules needs it.
type Members struct {
	Versions map[string][]string // of every service with instances, one entry for each
	Proxies  map[string]int      // by caller: service, gateway or ServiceCaller
}

// Members is who is registered.
func (f *Fleet) Members() Members {
	f.mu.Lock()
	defer f.mu.Unlock()
	m := Members{map[string][]string{}, map[string]int{}}
	for _, in := range f.instances() {
		m.Versions[in.Service] = append(m.Versions[in.Service], in.Version)
	}
	for _, p := range f.proxies {
		m.Proxies[p.caller()]++
	}
	return m
}

// caller is the name by which the requests of a proxy are counted.
func (p *proxy) caller() string {
	if p.Crossing != "" {
		return identity.Name{Kind: identity.Crossing, Name: p.Crossing}.String()
	}
	return cmp.Or(p.Service, p.Gateway, ServiceCaller)
}

// state is how a proxy stands to the newest revision.
func (p *proxy) state(now time.Time, newest uint) string {
	switch {
	case p.isUnconfirmed:
		return model.ProxyUnconfirmed
	case !p.isConnected(now):
		return model.ProxyDisconnected
	case p.ack.Error != "":
		return model.ProxyRejecting
	case p.ack.Revision != newest:
		return model.ProxyBehind
	}
	return model.ProxyCurrent
}

// List lists the proxies by id.
func (f *Fleet) List() model.Fleet {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := model.Fleet{Revision: f.revision, Since: f.since.UTC(), Proxies: make([]model.Proxy, 0, len(f.proxies))}
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		out.Proxies = append(out.Proxies, f.view(f.proxies[id]))
	}
	return out
}

// view is a proxy as the API shows it. The caller holds mu.
func (f *Fleet) view(p *proxy) model.Proxy {
	now := f.now()
	out := model.Proxy{
		ID:          p.ID,
		Service:     p.Service,
		Version:     p.Version,
		Site:        p.Site,
		Gateway:     p.Gateway,
		Crossing:    p.Crossing,
		Listens:     p.Listens,
		Inbound:     p.Inbound,
		Outbound:    p.Outbound,
		Ports:       p.Ports,
		Program:     p.Program,
		Build:       p.Build,
		PID:         p.PID,
		Started:     p.Started,
		Mesh:        p.Mesh,
		Unhealthy:   p.Down,
		Connections: p.Connections,
		MemoryBytes: p.Memory,
		State:       p.state(now, f.revision),
		IsConnected: p.isConnected(now),
		Revision:    p.ack.Revision,
		IsBehind:    p.ack.Revision != f.revision,
		Rejection:   p.ack.Error,
		LastSeen:    p.lastSeen,
	}
	if c := p.Carried; c != nil && p.Crossing != "" {
		out.Carried = &model.Carried{
			Connections: c.Connections,
			Unknown:     c.Unknown,
			Unreachable: c.Unreachable,
			BytesIn:     c.In,
			BytesOut:    c.Out,
		}
	}
	for _, one := range p.Problems {
		out.Problems = append(
			out.Problems,
			model.ProxyProblem{Proxy: p.ID, Gateway: p.Gateway, Kind: one.Kind, Detail: one.Detail},
		)
	}
	if p.identity != "" {
		out.Certificate = &model.Certificate{
			Identity: p.identity,
			Expires:  p.certExpires,
			IsOld:    !p.isByCurrent,
			Trusts:   p.Trusts,
		}
	}
	switch {
	case f.revision == 0: // nothing was published, so no proxy is late
	case out.IsBehind:
		out.LagMS = milliseconds(now.Sub(f.since))
	case p.currentSince.After(f.since) && p.joined.Before(f.since):
		out.LagMS = milliseconds(p.currentSince.Sub(f.since))
	}
	return out
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Await waits until every connected proxy has a revision in force that was
// committed at since, for at most limit.
func (f *Fleet) Await(ctx context.Context, revision uint, since time.Time, limit time.Duration) model.Rollout {
	var r model.Rollout
	wait(ctx, limit, func() (bool, <-chan struct{}) {
		var heard <-chan struct{}
		r, heard = f.rollout(revision, since)
		return len(r.Missing) == 0, heard
	})
	return r
}

// wait looks whether something is done, and again whenever proxies were heard, until it is
// or the limit passes.
func wait(ctx context.Context, limit time.Duration, look func() (done bool, heard <-chan struct{})) {
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	for {
		done, heard := look()
		if done {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-heard:
		}
		time.Sleep(lookTime)
	}
}

// lookTime is between two looks: many proxies acknowledge at once.
const lookTime = time.Millisecond

// Settle waits until every connected proxy has acknowledged what is the newest snapshot
// now, or until the limit passes. Nobody waits for a proxy that rejects it.
func (f *Fleet) Settle(ctx context.Context, limit time.Duration) {
	sequence := f.Sequence()
	wait(ctx, limit, func() (bool, <-chan struct{}) { return f.settled(sequence) })
}

func (f *Fleet) settled(sequence uint64) (bool, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.proxies {
		if p.isConnected(f.now()) && p.ack.Error == "" && p.ack.Sequence < sequence {
			return false, f.heard
		}
	}
	return true, f.heard
}

// rollout is how many proxies have a revision in force now. One that joined after it was
// committed begins with it, so nobody waits for it. The channel closes when that may have
// changed.
func (f *Fleet) rollout(revision uint, since time.Time) (model.Rollout, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := model.Rollout{Missing: []string{}, Away: []string{}}
	last := since
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		p := f.proxies[id]
		switch {
		case !p.isConnected(f.now()):
			r.Away = append(r.Away, id)
			continue
		case p.ack.Error != "":
			r.Missing = append(r.Missing, id+": "+p.ack.Error)
		case p.failsToServe() != "":
			r.Missing = append(r.Missing, id+": "+p.failsToServe())
		case p.ack.Revision < revision && p.joined.After(since):
			continue
		case p.ack.Revision < revision:
			r.Missing = append(r.Missing, id)
		default:
			r.Acknowledged++
			if p.currentSince.After(last) && !p.joined.After(since) {
				last = p.currentSince
			}
		}
		r.Connected++
	}
	r.AfterMS = milliseconds(last.Sub(since))
	return r, f.heard
}

// AcknowledgedByAll is the newest revision that every connected proxy has in
// force. Those that reject the newest do not count.
func (f *Fleet) AcknowledgedByAll() uint {
	f.mu.Lock()
	defer f.mu.Unlock()
	least := f.revision
	for _, p := range f.proxies {
		if p.isConnected(f.now()) && p.ack.Error == "" {
			least = min(least, p.ack.Revision)
		}
	}
	return least
}

// maxAhead bounds how far ahead of the service a proxy is believed to be.
const maxAhead = 10_000

// Ahead is the newest revision of this mesh that a connected proxy follows, which is newer
// than the one in force here; 0: none. It is so when the records are those of a backup.
func (f *Fleet) Ahead() (newest uint) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.proxies {
		has := p.ack.Revision
		if p.isConnected(f.now()) && p.Mesh == f.ledger.mesh && p.ack.Error != "" &&
			has > f.revision && has-f.revision <= maxAhead {
			newest = max(newest, has)
		}
	}
	return newest
}

// HasInstance tells whether a version has an instance, in the mesh or declared by
// the rules.
func (f *Fleet) HasInstance(service, version string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, in := range f.ledger.instances {
		if in.value.Service == service && in.value.Version == version {
			return true
		}
	}
	s := f.ledger.services[service].value
	return s != nil && slices.ContainsFunc(s.Instances, func(in rules.Instance) bool { return in.Version == version })
}

// Names are the services, versions, sites and instances that are registered or
// declared.
type Names struct {
	Services  map[string]bool
	Versions  map[string]bool            // SERVICE/VERSION
	Sites     map[string]bool            // with instances
	Instances map[string]map[string]bool // ids by service
}

// Names are the services, versions, sites and instances that are registered or
// declared.
func (f *Fleet) Names() Names {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := Names{map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]map[string]bool{}}
	add := func(service, id string) {
		if n.Instances[service] == nil {
			n.Instances[service] = map[string]bool{}
		}
		n.Instances[service][id] = true
	}
	for name, s := range f.ledger.services {
		n.Services[name] = true
		for _, v := range s.value.Versions {
			n.Versions[name+"/"+v] = true
		}
		for _, in := range s.value.Instances {
			address, _ := in.Address()
			n.Sites[in.Site] = true
			add(name, name+"@"+address)
		}
	}
	for id, in := range f.ledger.instances {
		v := in.value
		n.Services[v.Service], n.Versions[v.Service+"/"+v.Version], n.Sites[v.Site] = true, true, true
		add(v.Service, id)
	}
	delete(n.Sites, "")
	return n
}

// Entry is a connected proxy by which requests can enter the mesh.
type Entry struct{ Address, Site string }

// Entry finds a proxy by which a request enters the mesh: of a gateway, or of the
// calling service, or, with neither, the service's own. It is zero when there is
// none now.
func (f *Fleet) Entry(service, gateway string) Entry {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		p := f.proxies[id]
		if p.Outbound == "" || !p.isConnected(f.now()) {
			continue
		}
		if gateway != "" && p.Gateway == gateway || gateway == "" && p.Service == service && p.Gateway == "" {
			return Entry{p.Outbound, p.Site}
		}
	}
	return Entry{}
}

// LetBack tells the proxies that have sidelined an instance to let it take requests again.
// It returns how many those are.
func (f *Fleet) LetBack(ctx context.Context, service, instance string) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := 0
	for _, p := range f.proxies {
		isOut := slices.ContainsFunc(p.guards, func(s engine.Status) bool {
			return s.Service == service && slices.ContainsFunc(s.Versions, func(v engine.VersionStatus) bool {
				return slices.ContainsFunc(v.Sidelined, func(o engine.OutStatus) bool { return o.Instance == instance })
			})
		})
		if isOut && p.isConnected(f.now()) {
			n++
		}
	}
	if n == 0 {
		return 0, problem.Missing(
			"no proxy has sidelined %s of service %s: \"nightjar services %s -o wide\" shows the guards",
			instance,
			service,
			service,
		)
	}
	f.ledger.noteLetBack(wire.LetBack{Service: service, Instance: instance})
	f.snapshot(nil, false)
	f.journal.Add(ctx, store.Activity{
		At: f.now().UTC(), Kind: "let-back", Service: service, Instance: instance,
		Site:   f.ledger.siteOf(service, instance),
		Detail: "before its time",
	})
	return n, nil
}

// Report records what a proxy process tells of its guards and connections.
func (f *Fleet) Report(id string, d *wire.Delta) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.proxies[id]
	if p == nil || p.Nonce != d.Nonce {
		return
	}
	p.open = d.Open
	if d.Status != nil {
		p.guards, p.guardsAt = d.Status, f.now()
	}
}

// staleTime is how long the guards of a proxy are shown after its last report.
const staleTime = 15 * time.Second

// Guards calls visit for the guards of every calling proxy, in the order of the
// proxies' ids.
func (f *Fleet) Guards(visit func(proxy, caller string, at time.Time, s engine.Status)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.now()
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		p := f.proxies[id]
		if now.Sub(p.guardsAt) > staleTime {
			continue
		}
		for _, s := range p.guards {
			visit(id, p.caller(), p.guardsAt.UTC(), s)
		}
	}
}

// Open is the TCP connections that are open now, by caller.
func (f *Fleet) Open() map[string][]wire.Open {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := map[string][]wire.Open{}
	for _, p := range f.proxies {
		if len(p.open) > 0 {
			out[p.caller()] = append(out[p.caller()], p.open...)
		}
	}
	return out
}

// Certified is a registered proxy, by its certificate.
type Certified struct {
	ID          string
	Trusts      uint64    // generation of the authorities that it trusts
	IsByCurrent bool      // its certificate is below the authority that signs now
	Expires     time.Time // when its certificate runs out
}

// Certify notes by which certificate a proxy came.
func (f *Fleet) Certify(id, identity string, expires time.Time, isByCurrent bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p := f.proxies[id]; p != nil {
		p.identity, p.certExpires, p.isByCurrent = identity, expires, isByCurrent
	}
}

// Certified lists the registered proxies that came by a certificate.
func (f *Fleet) Certified() []Certified {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]Certified, 0, len(f.proxies))
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		if p := f.proxies[id]; p.identity != "" {
			out = append(out, Certified{id, p.Trusts, p.isByCurrent, p.certExpires})
		}
	}
	return out
}
