package control

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// returnTime is how long a proxy whose stream broke has to come back: a living
// one does so within a second, and a dead one is out of its pool after this.
const returnTime = 3 * time.Second

// doubtTime is how long instances are called on whose leases ran out together.
const doubtTime = 15 * time.Minute

// member is one registered proxy.
type member struct {
	wire.Registration
	expires time.Time
	seen    time.Time
	joined  time.Time
	streams int
	lost    bool      // its lease ran out, and it is kept because too many did at once
	lostAt  time.Time // when that was seen
	ack     wire.Ack
	take    bool      // it is to follow this mesh, whatever it followed before
	reached time.Time // when it came to the revision that it has in force

	status   []engine.Status // of its guards
	statusAt time.Time
	open     []wire.Open // TCP connections of its workload
}

// connected tells whether the proxy follows the snapshots. A stream to a machine
// that was cut off looks open for minutes, so a renewed lease has to go with it.
func (m *member) connected(now time.Time) bool {
	return m.streams > 0 && !now.After(m.expires)
}

// shuts is why a gateway does not do what the rules in force say; empty: it does.
func (m *member) shuts() string {
	for _, p := range m.Problems {
		if p.Kind == wire.ProblemListener || p.Kind == wire.ProblemCertificate {
			return p.Detail
		}
	}
	return ""
}

// gone tells whether the lease ran out, of which an open stream makes twice as
// long a one.
func (m *member) gone(now time.Time) bool {
	until := m.expires
	if m.streams > 0 {
		until = until.Add(LeaseTime)
	}
	return now.After(until)
}

// Errors of the registry. Their texts are for the owner of the proxy.
type (
	// NameTaken means that another living process registered under the ID.
	NameTaken struct{ ID string }
	// NotRegistered means that the proxy has to register first.
	NotRegistered struct{ ID string }
)

func (e NameTaken) Error() string {
	return fmt.Sprintf("another proxy is registered as %s: give this one a name of its own (--name)", e.ID)
}
func (e NotRegistered) Error() string { return fmt.Sprintf("no proxy %s is registered", e.ID) }

var (
	idShape   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:-]{0,126}$`)
	partShape = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]{0,62})?$`)
)

// Register notes a proxy, or renews its lease.
func (c *Control) Register(r wire.Registration) (wire.Lease, error) {
	if !idShape.MatchString(r.ID) || r.Nonce == "" {
		return wire.Lease{}, fmt.Errorf("a proxy needs an ID of letters, digits, dots, colons and hyphens, and a nonce")
	}
	for _, s := range []string{r.Service, r.Version, r.Site, r.Gateway} {
		if !partShape.MatchString(s) {
			return wire.Lease{}, fmt.Errorf("%q cannot be a service, version, site or gateway: use letters, digits, dots and hyphens", s)
		}
	}
	if len(r.Problems) > maxProblems {
		r.Problems = r.Problems[:maxProblems]
	}
	for i, p := range r.Problems {
		if len(p.Detail) > maxDetail {
			r.Problems[i].Detail = strings.ToValidUTF8(p.Detail[:maxDetail], "") + "…"
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.now()
	m := c.members[r.ID]
	if m != nil && m.Nonce != r.Nonce && m.Nonce != r.Takes && m.connected(now) {
		return wire.Lease{}, NameTaken{r.ID}
	}
	if m == nil {
		m = &member{joined: now}
		c.members[r.ID] = m
	}
	if (m.Down == "") != (r.Down == "") {
		a := store.Activity{At: now.UTC(), Who: r.ID, Kind: "down", Service: r.Service, Version: r.Version, Instance: r.ID, Detail: r.Down}
		if r.Down == "" {
			a.Kind, a.Detail = "up", "its health checks go well again"
		}
		c.happened(a)
	}
	c.noteProblems(m.Problems, r)
	moved := m.lost || place(m.Registration) != place(r)
	took := m.Inbound != "" || r.Inbound != ""
	m.Registration, m.seen, m.expires, m.lost = r, now, now.Add(LeaseTime), false
	switch {
	case moved && took:
		c.bump(false, true)
	case moved:
		c.hear()
	}
	lease := wire.Lease{Seconds: int(LeaseTime.Seconds())}
	switch {
	case !m.take:
	case r.Mesh == c.ledger.mesh && m.ack.Error == "":
		m.take = false // it does
	default:
		lease.Take = c.ledger.mesh
	}
	return lease, nil
}

// Take tells proxies to follow this mesh, whatever they followed before: those that
// are named, or all that refuse to. It returns which were told.
func (c *Control) Take(names []string) (told []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, id := range names {
		if c.members[id] == nil {
			return nil, NotRegistered{id}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(c.members)) {
		m := c.members[id]
		refuses := m.Mesh != "" && (m.Mesh != c.ledger.mesh || m.ack.Error != "")
		if slices.Contains(names, id) || names == nil && refuses {
			m.take = true
			told = append(told, id)
		}
	}
	return told, nil
}

// noteProblems writes down which problems of a proxy came and went.
func (c *Control) noteProblems(before []wire.Problem, r wire.Registration) {
	note := func(kind, detail string) {
		c.happened(store.Activity{At: c.now().UTC(), Who: r.ID, Kind: kind, Service: r.Service, Version: r.Version, Instance: r.ID, Detail: detail})
	}
	has := func(list []wire.Problem, kind string) bool {
		return slices.ContainsFunc(list, func(p wire.Problem) bool { return p.Kind == kind })
	}
	for _, p := range r.Problems {
		if !has(before, p.Kind) {
			note("problem", p.Kind+": "+p.Detail)
		}
	}
	for _, p := range before {
		if !has(r.Problems, p.Kind) {
			note("mended", p.Kind)
		}
	}
}

// maxProblems bounds what a proxy tells of, one of each kind, and maxDetail each in bytes.
const (
	maxProblems = 8
	maxDetail   = 500
)

// place is what others have to know of an instance.
func place(r wire.Registration) [7]string {
	down := ""
	if r.Down != "" {
		down = "down"
	}
	return [7]string{r.Service, r.Version, r.Site, r.Inbound, r.Outbound, r.Gateway, down}
}

// Withdraw takes a proxy out at once.
func (c *Control) Withdraw(id, nonce string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if m := c.members[id]; m != nil && m.Nonce == nonce {
		c.drop(id)
	}
}

func (c *Control) drop(id string) {
	m := c.members[id]
	delete(c.members, id)
	if m.Inbound != "" {
		c.bump(false, true)
	} else {
		c.hear()
	}
}

// expire looks for proxies whose lease ran out. An instance that is lost leaves
// its pool, unless more than half of its version are: then the loss says more
// of the way between them and this service, and all are called on, as doubted.
func (c *Control) expire(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	type version struct{ service, version string }
	known, lost := map[version]int{}, map[version]int{}
	changed := false
	for id, m := range c.members {
		v := version{m.Service, m.Version}
		if m.gone(now) && !m.lost {
			if m.Inbound == "" {
				c.drop(id)
				continue
			}
			m.lost, m.lostAt, changed = true, now, true
		}
		if m.Inbound != "" {
			known[v]++
			if m.lost {
				lost[v]++
			}
		}
	}
	for id, m := range c.members {
		v := version{m.Service, m.Version}
		if m.lost && (2*lost[v] <= known[v] || now.Sub(m.lostAt) > doubtTime || c.trusting(m.Service)) {
			delete(c.members, id)
			changed = true
		}
	}
	settles := c.ledger.settled == 0 && now.Sub(c.started) > LeaseTime
	if changed || settles {
		c.bump(false, true)
		if settles {
			c.ledger.settled = c.ledger.sequence
		}
	}
}

// trusting tells whether the rules let all instances of a service be taken out.
func (c *Control) trusting(service string) bool {
	s := c.ledger.services[service].value
	return s != nil && s.Sideline != nil && s.Sideline.Most == rules.Whole
}

// Attach notes that a proxy follows the snapshots; call the function it
// returns when the stream ends.
func (c *Control) Attach(id, nonce string) (detach func(), err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.members[id]
	if m == nil || m.Nonce != nonce {
		return nil, NotRegistered{id}
	}
	m.streams++
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		m.streams--
		m.seen, m.expires = c.now(), c.now().Add(returnTime)
		c.hear()
	}, nil
}

// Acknowledge notes what a proxy has in force.
func (c *Control) Acknowledge(id string, a wire.Ack) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.members[id]
	if m == nil {
		return NotRegistered{id}
	}
	now := c.now()
	if a.Error != m.ack.Error {
		what := store.Activity{At: now.UTC(), Who: id, Kind: "refuses", Service: m.Service, Version: m.Version, Detail: a.Error}
		if a.Error == "" {
			what.Kind, what.Detail = "mended", fmt.Sprintf("it follows revision %d", a.Revision)
		}
		c.happened(what)
	}
	if m.seen = now; a.Revision != m.ack.Revision {
		m.reached = now
	}
	m.ack = a
	c.hear()
	return nil
}

// instances lists the registered instances. The caller holds mu.
func (c *Control) instances() []engine.Instance {
	out := []engine.Instance{}
	for _, m := range c.members {
		if m.Inbound != "" {
			out = append(out, engine.Instance{ID: m.ID, Service: m.Service, Version: m.Version, Site: m.Site, Address: m.Inbound, Doubted: m.lost, Down: m.Down != ""})
		}
	}
	slices.SortFunc(out, func(a, b engine.Instance) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// live is what the checker wants to know of the registry. The caller holds mu.
func (c *Control) live() rules.Live {
	l := rules.Live{Known: true, Versions: map[string][]string{}}
	proxies := map[string]int{}
	for _, in := range c.instances() {
		l.Versions[in.Service] = append(l.Versions[in.Service], in.Version)
	}
	for _, m := range c.members {
		proxies[cmp.Or(m.Service, m.Gateway, ownCaller)]++
	}
	l.Links, l.Busy = c.traffic(proxies)
	return l
}

// State is how a proxy stands to what is in force.
type State string

// The states.
const (
	Follows State = "follows" // connected, and at the newest revision
	Behind  State = "behind"  // connected, and not there yet
	Refuses State = "refuses" // it cannot put the newest snapshot in force, and says why
	Away    State = "away"    // its lease has not run out yet
	Doubt   State = "doubted" // its lease ran out together with most of its version; it is called on
)

// Member is what is known of one proxy.
type Member struct {
	wire.Registration
	State     State     `json:"state" doc:"follows, behind, refuses, away or doubted"`
	Connected bool      `json:"connected" doc:"follows the snapshots now"`
	Revision  uint      `json:"revision" doc:"in force there"`
	Behind    bool      `json:"behind" doc:"not at the newest revision"`
	LagMS     float64   `json:"lagMS" doc:"milliseconds from the newest revision's commit until it was in force there; while behind, until now; 0 when the proxy came later"`
	Doubted   bool      `json:"doubted" doc:"its lease ran out together with most of its version, and it is called on"`
	Error     string    `json:"error,omitempty" doc:"why the newest snapshot cannot be put in force there"`
	Seen      time.Time `json:"seen" doc:"last sign of life"`
}

// Fleet lists the proxies by ID.
func (c *Control) Fleet() []Member {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]Member, 0, len(c.members))
	now, newest := c.now(), c.force.Revision.Number
	for _, id := range slices.Sorted(maps.Keys(c.members)) {
		m := c.members[id]
		f := Member{Registration: m.Registration, Connected: m.connected(now), Revision: m.ack.Revision, Behind: m.ack.Revision != newest, Doubted: m.lost, Error: m.ack.Error, Seen: m.seen}
		switch {
		case m.lost:
			f.State = Doubt
		case !f.Connected:
			f.State = Away
		case f.Error != "":
			f.State = Refuses
		case f.Behind:
			f.State = Behind
		default:
			f.State = Follows
		}
		switch {
		case newest == 0: // nothing was published, so nobody is late
		case f.Behind:
			f.LagMS = float64(now.Sub(c.force.Since).Microseconds()) / 1000
		case m.reached.After(c.force.Since) && m.joined.Before(c.force.Since):
			f.LagMS = float64(m.reached.Sub(c.force.Since).Microseconds()) / 1000
		}
		out = append(out, f)
	}
	return out
}

// Reached tells how far a revision has come.
type Reached struct {
	Connected int      `json:"connected" doc:"proxies that were connected"`
	InForce   int      `json:"inForce" doc:"of these, proxies that have the revision in force"`
	AfterMS   float64  `json:"afterMS" doc:"milliseconds from the commit until the last of them had it"`
	Missing   []string `json:"missing" doc:"connected proxies that do not have it yet, or say why they cannot"`
}

// await waits until every connected proxy has the revision, for at most limit.
func (c *Control) await(ctx context.Context, revision uint, since time.Time, limit time.Duration) Reached {
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	for {
		c.mu.Lock()
		r := Reached{Missing: []string{}}
		last := since
		for _, id := range slices.Sorted(maps.Keys(c.members)) {
			m := c.members[id]
			switch {
			case !m.connected(c.now()):
				continue
			case m.ack.Error != "":
				r.Missing = append(r.Missing, id+": "+m.ack.Error)
			case m.shuts() != "":
				r.Missing = append(r.Missing, id+": "+m.shuts())
			case m.ack.Revision < revision:
				r.Missing = append(r.Missing, id)
			default:
				r.InForce++
				if m.reached.After(last) {
					last = m.reached
				}
			}
			r.Connected++
		}
		wait := c.heard
		c.mu.Unlock()
		r.AfterMS = float64(last.Sub(since).Microseconds()) / 1000
		if len(r.Missing) == 0 {
			return r
		}
		select {
		case <-ctx.Done():
			return r
		case <-wait:
		}
		if r.Connected > 50 { // many answer at once: look again when some more have
			time.Sleep(2 * time.Millisecond)
		}
	}
}
