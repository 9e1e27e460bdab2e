// Package members decides who belongs to the mesh: join tokens and the join file, the
// certificates of proxies, and the replacement of the authority that signs them.
package members

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/wire"
)

const (
	maxTokens = 1000               // at once
	maxUses   = 10_000             // of one token
	maxFor    = 7 * 24 * time.Hour // that a token is good for
	usualFor  = 10 * time.Minute
	keptFor   = 30 * 24 * time.Hour // a record, after its certificate or token ran out

	// StepEvery is how often Step is to be called.
	StepEvery = 500 * time.Millisecond
	// adoptTime is how long a rotation waits in each phase at least: for proxies whose
	// leases have just expired, and for requests that are under way.
	adoptTime = 3 * time.Second
)

// Records is what members need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	JoinTokens(ctx context.Context) ([]store.JoinToken, error)
	JoinToken(ctx context.Context, hash string) (store.JoinToken, error)
	Member(ctx context.Context, id string) (store.Member, error)
}

// Fleet is what members need of the registry.
type Fleet interface {
	Certified() []fleet.Certified
}

// Config is what Members are made of.
type Config struct {
	Records   Records
	Authority *authority.Authority
	Node      *identity.Credentials // of the service itself; nil: none are kept up to date
	Self      identity.Member       // whom Node is of
	Fleet     Fleet
	Journal   *journal.Journal
	Log       *slog.Logger
	Now       func() time.Time
}

// Members decides who belongs to the mesh. It is safe for concurrent use.
type Members struct {
	Config
	local   string        // secret of the join file
	refused *rate.Limiter // of entries in the activity log about refused joins

	mu      sync.Mutex // guards what follows
	silent  int        // refused joins that found no room in the log
	warned  string
	pruned  time.Time
	renewAt time.Time // when Node is renewed
}

// Open makes Members, with certificates for the service itself.
func Open(cfg Config) (*Members, error) {
	m := &Members{Config: cfg, local: rand.Text(), refused: rate.NewLimiter(rate.Every(time.Second), 10)}
	return m, m.renewNode()
}

// renewNode renews the service's own certificate.
func (m *Members) renewNode() error {
	if m.Node == nil {
		return nil
	}
	if err := m.Authority.Credentials(m.Self, m.Node); err != nil {
		return fmt.Errorf("the service's own certificate: %w", err)
	}
	own := m.Node.Own().Leaf
	m.renewAt = m.Now().Add(own.NotAfter.Sub(m.Now()) / 2)
	return nil
}

// LocalSecret is what proxies of this machine join with.
func (m *Members) LocalSecret() string { return m.local }

// hashOf is how a secret is stored.
func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Refused means that a proxy may not join, or may not be what it says.
type Refused struct{ Why string }

func (e Refused) Error() string { return e.Why }

func refuse(format string, args ...any) error { return Refused{fmt.Sprintf(format, args...)} }

// Join gives a proxy its first certificate. from is where it connects from.
func (m *Members) Join(ctx context.Context, j wire.Join, from netip.Addr) (wire.Joined, error) {
	out, token, err := m.join(ctx, j, from)
	var refused Refused
	if errors.As(err, &refused) {
		m.note(ctx, j, from, refused.Why)
	}
	if err == nil {
		m.Journal.Add(ctx, store.Activity{
			At:       m.Now().UTC(),
			Who:      j.ID,
			Kind:     "joined",
			Service:  j.Service,
			Version:  j.Version,
			Instance: j.ID,
			Site:     j.Site,
			Detail:   "from " + from.String() + ", " + how(token),
		})
	}
	return out, err
}

func how(token string) string {
	if token == "" {
		return "with the join file of this machine"
	}
	return "with join token " + token
}

// note writes a refused join to the activity log, so that a flood cannot fill it.
func (m *Members) note(ctx context.Context, j wire.Join, from netip.Addr, why string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.refused.AllowN(m.Now(), 1) {
		m.silent++
		return
	}
	if m.silent > 0 {
		why += fmt.Sprintf(" (and %d others before)", m.silent)
		m.silent = 0
	}
	name := func(s string) string { // of somebody who is not known
		if len(s) > 64 {
			s = s[:64]
		}
		return strings.ToValidUTF8(s, "")
	}
	m.Journal.Add(ctx, store.Activity{
		At:      m.Now().UTC(),
		Who:     from.String(),
		Kind:    "join-refused",
		Service: name(j.Service),
		Version: name(j.Version),
		Site:    name(j.Site),
		Detail:  name(j.ID) + ": " + why,
	})
}

func (m *Members) join(ctx context.Context, j wire.Join, from netip.Addr) (out wire.Joined, token string, err error) {
	who := identity.Member{
		Name:    identity.Name{Kind: identity.Service, Name: j.Service},
		Domain:  m.Authority.Domain(),
		ID:      j.ID,
		Version: j.Version,
		Site:    j.Site,
	}
	switch {
	case j.Gateway != "":
		who.Name = identity.Name{Kind: identity.Gateway, Name: j.Gateway}
	case j.Crossing != "":
		who.Name = identity.Name{Kind: identity.Crossing, Name: j.Crossing}
	}
	if err := who.Check(); err != nil {
		return out, "", problem.Invalid("%s", err)
	}
	ask, err := identity.ReadRequest(j.Request)
	if err != nil {
		return out, "", refuse("%s", err)
	}
	now := m.Now()
	one := store.Member{
		ID:      j.ID,
		KeyHash: hashOf(string(ask.RawSubjectPublicKeyInfo)),
		Joined:  now,
		Grant:   store.Grant{Kind: who.Kind, Name: who.Name.Name},
	}
	var changes []store.Change
	if subtle.ConstantTimeCompare([]byte(j.Secret), []byte(m.local)) == 1 {
		if !isHere(from) {
			return out, "", refuse(
				"the join file is for proxies of the service's machine, and this one connects from %s: "+
					"make a token (nightjar join-token create)",
				from,
			)
		}
	} else {
		t, err := m.token(ctx, j, one.KeyHash)
		if err != nil {
			return out, "", err
		}
		token, one.Token, one.Grant = t.ID, t.ID, t.Grant
		if before, err := m.Records.Member(ctx, j.ID); err != nil || before.Token != t.ID || before.KeyHash != one.KeyHash {
			changes = append(changes, store.UseJoinToken{ID: t.ID})
		}
	}
	if err := fits(one.Grant, who); err != nil {
		return out, token, err
	}
	chain, err := m.Authority.Sign(j.Request, who)
	if err != nil {
		return out, token, refuse("%s", err)
	}
	one.Renewed, one.Expires = now, chain[0].NotAfter
	if token != "" { // who joined with the join file can do so again
		changes = append(changes, store.SaveMember{Member: one})
		err = m.Records.Apply(ctx, changes...)
	}
	if errors.Is(err, store.ErrTokenSpent) {
		return out, token, errSpent
	}
	if err != nil {
		return out, token, err
	}
	return wire.Joined{Chain: string(identity.EncodeCertificates(chain)), Trust: m.trust()}, token, nil
}

var errSpent = Refused{"this join token is used up: make another one (nightjar join-token create)"}

// token finds the token of a join, and tells what is wrong with it.
func (m *Members) token(ctx context.Context, j wire.Join, keyHash string) (store.JoinToken, error) {
	t, err := m.Records.JoinToken(ctx, hashOf(j.Secret))
	if errors.Is(err, store.ErrNotFound) {
		return t, refuse("this join token, or join file, is not one of this service, or was revoked: " +
			"make another one (nightjar join-token create)")
	}
	if err != nil {
		return t, err
	}
	if now := m.Now(); now.After(t.Expires) {
		return t, refuse("this join token was good until %s: make another one (nightjar join-token create)",
			t.Expires.Format("2006-01-02 15:04 MST"))
	}
	if t.Used >= t.Uses {
		// Whoever joined with it and did not hear the answer may ask again.
		before, err := m.Records.Member(ctx, j.ID)
		if err != nil || before.Token != t.ID || before.KeyHash != keyHash {
			return t, errSpent
		}
	}
	return t, nil
}

// fits tells whether a grant allows what a proxy wants to be.
func fits(g store.Grant, who identity.Member) error {
	granted := identity.Name{Kind: g.Kind, Name: g.Name}
	switch {
	case granted != who.Name:
		return refuse("this join token is for %s, not for %s", granted, who.Name)
	case g.Version != "" && g.Version != who.Version:
		return refuse("this join token is for version %s, not for %s", g.Version, who.Version)
	case g.Site != "" && g.Site != who.Site:
		return refuse("this join token is for site %s, not for %q", g.Site, who.Site)
	}
	return nil
}

// isHere tells whether an address is one of this machine.
func isHere(a netip.Addr) bool {
	return a.IsLoopback() || slices.Contains(ownAddresses(), a)
}

// Renew gives a proxy its next certificate.
func (m *Members) Renew(ctx context.Context, peer identity.Peer, r wire.Renewal) (wire.Joined, error) {
	one, err := m.Records.Member(ctx, peer.ID)
	isRecorded := err == nil
	if errors.Is(err, store.ErrNotFound) { // it joined with the join file
		one.Grant = store.Grant{Kind: peer.Kind, Name: peer.Name.Name, Version: peer.Version, Site: peer.Site}
	} else if err != nil {
		return wire.Joined{}, err
	}
	who := peer.Member
	who.Version, who.Site = r.Version, r.Site
	if err := fits(one.Grant, who); err != nil {
		return wire.Joined{}, err
	}
	chain, err := m.Authority.Sign(r.Request, who)
	if err != nil {
		return wire.Joined{}, refuse("%s", err)
	}
	one.Renewed, one.Expires = m.Now(), chain[0].NotAfter
	if isRecorded {
		if err := m.Records.Apply(ctx, store.SaveMember{Member: one}); err != nil {
			return wire.Joined{}, err
		}
	}
	return wire.Joined{Chain: string(identity.EncodeCertificates(chain)), Trust: m.trust()}, nil
}

// trust is the authorities to trust, as proxies get them.
func (m *Members) trust() wire.Trust {
	t := m.Authority.Trust()
	return wire.Trust{Domain: t.Domain, Generation: t.Generation, Roots: string(t.PEM())}
}

// Check tells whether a proxy may register as it says it is. from is where it connects
// from.
func (m *Members) Check(ctx context.Context, peer identity.Peer, r wire.Registration, from netip.Addr) error {
	name := identity.Name{Kind: identity.Service, Name: r.Service}
	switch {
	case r.Gateway != "":
		name = identity.Name{Kind: identity.Gateway, Name: r.Gateway}
	case r.Crossing != "":
		name = identity.Name{Kind: identity.Crossing, Name: r.Crossing}
	case r.Service == "" && peer.Kind == identity.Node:
		name = peer.Name
	}
	switch {
	case r.ID != peer.ID:
		return refuse("the certificate is that of proxy %s, not of %s", peer.ID, r.ID)
	case name != peer.Name:
		return refuse("the certificate is that of %s, not of %s", peer.Name, name)
	case r.Version != peer.Version || r.Site != peer.Site:
		return refuse("the certificate is for version %q at site %q, not for %q at %q", peer.Version, peer.Site,
			r.Version, r.Site)
	}
	if peer.Kind == identity.Crossing && (r.Inbound != "" || r.Outbound != "") {
		return refuse("a crossing takes no requests, and makes none")
	}
	if r.Inbound == "" {
		return nil
	}
	at, err := netip.ParseAddrPort(r.Inbound)
	if err != nil {
		return problem.Invalid("inbound %q: expected IP:PORT", r.Inbound)
	}
	return m.checkAddress(ctx, peer.ID, at.Addr().Unmap(), from)
}

// checkAddress tells whether a proxy may take requests at an address: the one that it
// connects from, one of this machine when it is here, or one that its token names.
func (m *Members) checkAddress(ctx context.Context, id string, at, from netip.Addr) error {
	if at == from || isHere(from) && isHere(at) {
		return nil
	}
	one, err := m.Records.Member(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for _, text := range one.Addresses {
		if p, err := netip.ParsePrefix(text); err == nil && p.Contains(at) {
			return nil
		}
	}
	return refuse("it takes requests at %s, but connects from %s: listen there (--inbound), or join with a token "+
		"that allows the address (nightjar join-token create --address %s)", at, from, at)
}

// Lease completes the answer to a registration: what the proxy is to trust, and whether
// it needs a new certificate.
func (m *Members) Lease(r wire.Registration, byCurrent bool, lease *wire.Lease) {
	if t := m.Authority.Trust(); r.Trusts != t.Generation {
		trust := m.trust()
		lease.Trust = &trust
	}
	lease.Renew = !byCurrent
}
