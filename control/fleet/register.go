package fleet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// proxy is one registered proxy. Fleet.mu guards it.
type proxy struct {
	wire.Registration
	joined   time.Time
	lastSeen time.Time
	expires  time.Time // of its lease
	streams  int       // of snapshots, open now

	isUnconfirmed    bool // its lease expired, and it is kept because too many did at once
	unconfirmedSince time.Time

	ack          wire.Ack
	currentSince time.Time // when it acknowledged the revision that it has in force
	isAdopted    bool      // a person wants it to follow this mesh, whatever it followed before

	identity    string    // SPIFFE ID of the certificate that it came by; empty: it came by none
	certExpires time.Time // when that runs out
	isByCurrent bool      // that certificate is below the authority that signs now
	ackNonce    string    // what acknowledgements of its newest stream carry

	acked chan struct{} // told of its acknowledgements; of its newest stream

	guards   []engine.Status
	guardsAt time.Time   // when it reported its guards
	open     []wire.Open // TCP connections of its workload
}

// isConnected tells whether the proxy follows the snapshots. A stream to a machine
// that was cut off looks open for minutes, so its lease must hold too.
func (p *proxy) isConnected(now time.Time) bool { return p.streams > 0 && !now.After(p.expires) }

// isExpired tells whether the lease has expired. With an open stream it holds for
// twice its time.
func (p *proxy) isExpired(now time.Time) bool {
	until := p.expires
	if p.streams > 0 {
		until = until.Add(LeaseTime)
	}
	return now.After(until)
}

// failsToServe is why a gateway does not do what the rules in force say; empty: it
// does.
func (p *proxy) failsToServe() string {
	for _, one := range p.Problems {
		if one.Kind == wire.ProblemListener || one.Kind == wire.ProblemCertificate || one.Kind == wire.ProblemKeys {
			return one.Detail
		}
	}
	return ""
}

// Errors of the registry. The owner of the proxy reads their texts.
type (
	// NameTaken means that another running process registered under the id.
	NameTaken struct{ ID string }
	// NotRegistered means that the proxy must register first.
	NotRegistered struct{ ID string }
)

func (e NameTaken) Error() string {
	return fmt.Sprintf("another proxy is registered as %s: give this one a name of its own (--name)", e.ID)
}
func (e NotRegistered) Error() string { return fmt.Sprintf("no proxy %s is registered", e.ID) }

var (
	idShape   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:-]{0,126}$`)
	nameShape = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]{0,62})?$`)
)

// maxProblems bounds the problems of a proxy, one of each kind, and
// maxDetailBytes the text of each.
const (
	maxProblems    = 8
	maxDetailBytes = 500
)

// checked bounds and checks a registration.
func checked(r wire.Registration) (wire.Registration, error) {
	if !idShape.MatchString(r.ID) || r.Nonce == "" {
		return r, problem.Invalid("a proxy needs an id of letters, digits, dots, colons and hyphens, and a nonce")
	}
	for _, s := range []string{r.Service, r.Version, r.Site, r.Gateway, r.Crossing} {
		if !nameShape.MatchString(s) {
			return r, problem.Invalid(
				"%q cannot be a service, version, site, gateway or crossing: use letters, digits, dots and hyphens",
				s,
			)
		}
	}
	if b, err := hex.DecodeString(r.Build); err != nil || len(b) != 0 && len(b) != sha256.Size {
		return r, problem.Invalid("build %q: expected the SHA-256 of a program in hexadecimal digits", r.Build)
	}
	if r.Listens != "" {
		if _, err := netip.ParseAddrPort(r.Listens); err != nil {
			return r, problem.Invalid("listens %q: expected IP:PORT", r.Listens)
		}
	}
	if u := r.Upgrade; u != nil && len(u.Failed) > maxDetailBytes {
		short := *u
		short.Failed = strings.ToValidUTF8(u.Failed[:maxDetailBytes], "") + "…"
		r.Upgrade = &short
	}
	r.Problems = slices.Clone(r.Problems[:min(len(r.Problems), maxProblems)])
	for i, p := range r.Problems {
		if len(p.Detail) > maxDetailBytes {
			r.Problems[i].Detail = strings.ToValidUTF8(p.Detail[:maxDetailBytes], "") + "…"
		}
	}
	return r, nil
}

// Register registers a proxy, or renews its lease.
func (f *Fleet) Register(r wire.Registration) (wire.Lease, error) {
	r, err := checked(r)
	if err != nil {
		return wire.Lease{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.now()
	p := f.proxies[r.ID]
	if p != nil && p.Nonce != r.Nonce && p.Nonce != r.Takes && p.isConnected(now) {
		return wire.Lease{}, NameTaken{r.ID}
	}
	isNew := p == nil
	if isNew {
		p = &proxy{joined: now}
		f.proxies[r.ID] = p
	}
	f.logPresence(p, r, isNew)
	f.logChanges(p, r)
	hasMoved := p.isUnconfirmed || placeOf(p.Registration) != placeOf(r)
	tookRequests := p.Inbound != "" || r.Inbound != ""
	p.Registration, p.lastSeen, p.expires, p.isUnconfirmed = r, now, now.Add(LeaseTime), false
	switch {
	case hasMoved && tookRequests:
		f.snapshot(nil, true)
	case hasMoved:
		f.wake()
	}
	lease := wire.Lease{Seconds: int(LeaseTime.Seconds())}
	if p.isAdopted {
		if r.Mesh == f.ledger.mesh && p.ack.Error == "" {
			p.isAdopted = false // it follows this mesh now
		} else {
			lease.Take = f.ledger.mesh
		}
	}
	return lease, nil
}

// placeOf is what other proxies must know of an instance.
func placeOf(r wire.Registration) [8]string {
	down := ""
	if r.Down != "" {
		down = "down"
	}
	return [8]string{r.Service, r.Version, r.Site, r.Inbound, r.Outbound, r.Gateway, r.Crossing, down}
}

// logChanges logs what changed in a proxy's health and problems.
func (f *Fleet) logChanges(before *proxy, r wire.Registration) {
	add := func(kind, detail string) { f.logOf(r, kind, detail) }
	switch {
	case before.Down == "" && r.Down != "":
		add("down", r.Down)
	case before.Down != "" && r.Down == "":
		add("up", "its health checks succeed again")
	}
	has := func(list []wire.Problem, kind string) bool {
		return slices.ContainsFunc(list, func(p wire.Problem) bool { return p.Kind == kind })
	}
	for _, p := range r.Problems {
		if !has(before.Problems, p.Kind) {
			add("problem", p.Kind+": "+p.Detail)
		}
	}
	for _, p := range before.Problems {
		if !has(r.Problems, p.Kind) {
			add("solved", p.Kind)
		}
	}
}

// logPresence logs an instance or a gateway that came, or that is another process now.
func (f *Fleet) logPresence(before *proxy, r wire.Registration, isNew bool) {
	kind := "joined"
	if !isNew {
		if before.Nonce == r.Nonce {
			return
		}
		kind = "restarted"
	}
	f.logPlace(kind, r, "")
}

// logPlace logs that something happened to an instance or a gateway as a whole.
func (f *Fleet) logPlace(kind string, r wire.Registration, why string) {
	if r.Inbound == "" && r.Gateway == "" && r.Crossing == "" {
		return // nobody calls it
	}
	detail := "at " + r.Inbound
	switch {
	case r.Gateway != "":
		detail = "gateway " + r.Gateway
	case r.Crossing != "":
		detail = "crossing at " + r.Listens
	}
	if r.Site != "" {
		detail += ", site " + r.Site
	}
	if why != "" {
		detail += "; " + why
	}
	f.logOf(r, kind, detail)
}

// logOf logs what a proxy tells of itself, or what happened to it.
func (f *Fleet) logOf(r wire.Registration, kind, detail string) {
	f.journal.Add(context.Background(), store.Activity{
		At:       f.now().UTC(),
		Who:      r.ID,
		Kind:     kind,
		Service:  r.Service,
		Version:  r.Version,
		Instance: r.ID,
		Site:     r.Site,
		Detail:   detail,
	})
}

// Adopt tells proxies to follow this mesh, whatever mesh they followed before:
// those of the ids, or without ids all that follow another one or reject its rules.
// It returns the proxies that it told.
func (f *Fleet) Adopt(ctx context.Context, ids []string) (told []string, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, id := range ids {
		if f.proxies[id] == nil {
			return nil, NotRegistered{id}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		p := f.proxies[id]
		refuses := p.Mesh != "" && (p.Mesh != f.ledger.mesh || p.ack.Error != "")
		if slices.Contains(ids, id) || ids == nil && refuses {
			p.isAdopted = true
			told = append(told, id)
		}
	}
	if len(told) > 0 {
		detail := fmt.Sprintf("%d proxies follow this mesh: %s", len(told), strings.Join(told[:min(len(told), 10)], ", "))
		f.journal.Add(ctx, store.Activity{At: f.now().UTC(), Kind: "adopted", Detail: detail})
	}
	return told, nil
}

// Withdraw removes a proxy at once.
func (f *Fleet) Withdraw(id, nonce string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p := f.proxies[id]; p != nil && p.Nonce == nonce {
		f.logPlace("left", p.Registration, "it withdrew")
		f.remove(id)
	}
}

func (f *Fleet) remove(id string) {
	p := f.proxies[id]
	delete(f.proxies, id)
	if p.Inbound != "" {
		f.snapshot(nil, true)
	} else {
		f.wake()
	}
}

// Expire looks for proxies whose lease has expired. Such an instance leaves its
// pool, unless more than half of its version expired at once: then the cause is
// probably the network between them and this service, and all stay, unconfirmed.
func (f *Fleet) Expire(now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	type version struct{ service, version string }
	all, expired := map[version]int{}, map[version]int{}
	hasChanged := false
	for id, p := range f.proxies {
		v := version{p.Service, p.Version}
		if p.isExpired(now) && !p.isUnconfirmed {
			if p.Inbound == "" {
				f.logPlace("left", p.Registration, "its lease expired")
				f.remove(id)
				continue
			}
			p.isUnconfirmed, p.unconfirmedSince, hasChanged = true, now, true
		}
		if p.Inbound != "" {
			all[v]++
			if p.isUnconfirmed {
				expired[v]++
			}
		}
	}
	for id, p := range f.proxies {
		v := version{p.Service, p.Version}
		if p.isUnconfirmed &&
			(2*expired[v] <= all[v] || now.Sub(p.unconfirmedSince) > unconfirmedTime || f.mayLoseAll(p.Service)) {
			f.logPlace("left", p.Registration, "its lease expired")
			delete(f.proxies, id)
			hasChanged = true
		}
	}
	completes := f.ledger.completeSince == 0 && now.Sub(f.started) > LeaseTime
	if hasChanged || completes {
		f.snapshot(nil, true)
		if completes {
			f.ledger.completeSince = f.ledger.sequence
		}
	}
}

// mayLoseAll tells whether the rules let all instances of a service be sidelined.
func (f *Fleet) mayLoseAll(service string) bool {
	s := f.ledger.services[service].value
	return s != nil && s.Sideline != nil && s.Sideline.Most == rules.Whole
}

// Attach records that a proxy follows the snapshots. Its acknowledgements are to carry
// ackNonce. Call detach when the stream ends.
func (f *Fleet) Attach(id, nonce string) (ackNonce string, detach func(), err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.proxies[id]
	if p == nil || p.Nonce != nonce {
		return "", nil, NotRegistered{id}
	}
	p.streams++
	p.ackNonce, p.acked = rand.Text(), make(chan struct{}, 1)
	return p.ackNonce, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		p.streams--
		p.lastSeen, p.expires = f.now(), f.now().Add(returnTime)
		f.wake()
	}, nil
}

// HasStream tells whether a stream of snapshots counts for the registration of a proxy as
// it is now: not when the lease ran out while the stream was open.
func (f *Fleet) HasStream(id string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.proxies[id]
	return p != nil && p.streams > 0
}

// Acknowledged tells whether a proxy has acknowledged a snapshot. The channel gets a value
// when it acknowledges the next one; one stream may wait for it.
func (f *Fleet) Acknowledged(id string, sequence uint64) (bool, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.proxies[id]
	if p == nil {
		return true, nil
	}
	return p.ack.Sequence >= sequence, p.acked
}

// Acknowledge records what a proxy has in force.
func (f *Fleet) Acknowledge(id string, a wire.Ack) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.proxies[id]
	if p == nil {
		return NotRegistered{id}
	}
	if a.Nonce == "" || a.Nonce != p.ackNonce || a.Sequence > f.ledger.sequence {
		return problem.Invalid("this acknowledges nothing that %s was sent on its newest stream", id)
	}
	if a.Nonce == p.ack.Nonce && a.Sequence < p.ack.Sequence {
		return nil // it comes late, after a newer one
	}
	now := f.now()
	if a.Error != p.ack.Error {
		entry := store.Activity{
			At:      now.UTC(),
			Who:     id,
			Kind:    "rejecting",
			Service: p.Service,
			Version: p.Version,
			Site:    p.Site,
			Detail:  a.Error,
		}
		if a.Error == "" {
			entry.Kind, entry.Detail = "solved", fmt.Sprintf("it has revision %d in force", a.Revision)
		}
		f.journal.Add(context.Background(), entry)
	}
	if p.lastSeen = now; a.Revision != p.ack.Revision {
		p.currentSince = now
	}
	p.ack = a
	select {
	case p.acked <- struct{}{}:
	default:
	}
	f.wake()
	return nil
}
