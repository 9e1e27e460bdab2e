package members

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/identity"
	"nightjar/store"
)

// Wanted is a join token to make.
type Wanted struct {
	Grant store.Grant
	Uses  int           // 1 when 0
	For   time.Duration // 10 minutes when 0
}

// CreateToken makes a join token. The secret is returned this once.
func (m *Members) CreateToken(ctx context.Context, w Wanted) (secret string, v model.JoinToken, err error) {
	secret, t, err := m.createToken(ctx, w)
	return secret, tokenView(t), err
}

func (m *Members) createToken(ctx context.Context, w Wanted) (secret string, t store.JoinToken, err error) {
	if w.Uses == 0 {
		w.Uses = 1
	}
	if w.For == 0 {
		w.For = usualFor
	}
	if w.Uses < 1 || w.Uses > maxUses {
		return "", t, problem.Invalid("%d uses of a join token: expected 1 to %d", w.Uses, maxUses)
	}
	if w.For < 0 || w.For > maxFor {
		return "", t, problem.Invalid("a join token for %s: expected at most %s", w.For, maxFor)
	}
	g := &w.Grant
	who := identity.Member{
		Name:    identity.Name{Kind: g.Kind, Name: g.Name},
		ID:      "any",
		Version: g.Version,
		Site:    g.Site,
	}
	if err := who.Check(); err != nil || g.Kind == identity.Node {
		if err == nil {
			err = fmt.Errorf("a join token is for a service or a gateway")
		}
		return "", t, problem.Invalid("%s", err)
	}
	for i, text := range g.Addresses {
		p, err := prefixOf(text)
		if err != nil {
			return "", t, problem.Invalid("address %q: expected an IP address or a prefix, such as 10.0.0.0/24", text)
		}
		g.Addresses[i] = p.String()
	}
	list, err := m.Records.JoinTokens(ctx)
	if err != nil {
		return "", t, err
	}
	if len(list) >= maxTokens {
		return "", t, problem.Invalid("there are %d join tokens: revoke some (nightjar join-token revoke)", len(list))
	}
	secret = rand.Text()
	now := m.Now()
	t = store.JoinToken{
		ID:      strings.ToLower(rand.Text()[:8]),
		Hash:    hashOf(secret),
		Grant:   *g,
		Uses:    w.Uses,
		Created: now,
		Expires: now.Add(w.For),
		By:      actor.Name(ctx),
	}
	entry := m.entry(
		"",
		"token-created",
		who.Name,
		fmt.Sprintf(
			"join token %s for %s, %s, until %s",
			t.ID,
			describe(t.Grant),
			times(t.Uses),
			t.Expires.UTC().Format(time.TimeOnly),
		),
	)
	if err := m.Records.Apply(ctx, store.AddJoinToken{JoinToken: t}, journal.Entries(ctx, entry)); err != nil {
		return "", t, err
	}
	return secret, t, nil
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// describe is a grant in words.
func describe(g store.Grant) string {
	text := identity.Name{Kind: g.Kind, Name: g.Name}.String()
	if g.Version != "" {
		text += "/" + g.Version
	}
	if g.Site != "" {
		text += " at " + g.Site
	}
	return text
}

func prefixOf(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

// Tokens lists the join tokens, the newest first.
func (m *Members) Tokens(ctx context.Context) ([]model.JoinToken, error) {
	list, err := m.Records.JoinTokens(ctx)
	out := make([]model.JoinToken, len(list))
	for i, t := range list {
		out[i] = tokenView(t)
	}
	return out, err
}

// RevokeToken deletes a join token. Proxies that joined with it stay members.
func (m *Members) RevokeToken(ctx context.Context, id string) error {
	list, err := m.Records.JoinTokens(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.ID == id {
			entry := m.entry("", "token-revoked", identity.Name{Kind: t.Kind, Name: t.Name}, "join token "+id)
			return m.Records.Apply(ctx, store.DeleteJoinToken{ID: id}, journal.Entries(ctx, entry))
		}
	}
	return problem.Missing("there is no join token %s: see nightjar join-token list", id)
}

func (m *Members) entry(by, kind string, name identity.Name, detail string) store.Activity {
	a := store.Activity{At: m.Now().UTC(), Who: by, Kind: kind, Detail: detail}
	if name.Kind == identity.Service {
		a.Service = name.Name
	}
	return a
}

// ownAddresses are those of this machine.
func ownAddresses() []netip.Addr {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []netip.Addr
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok {
			if ip, ok := netip.AddrFromSlice(n.IP); ok {
				out = append(out, ip.Unmap())
			}
		}
	}
	return out
}
