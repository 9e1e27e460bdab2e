package people

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/store"
)

// nameShape is that of a name of somebody with a token. Names with an @ are those of a
// provider of identities.
var nameShape = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// Wanted is an access token to make.
type Wanted struct {
	Name  string
	Role  Role
	Teams []string      // none: the platform
	For   time.Duration // 90 days when 0
}

// maxTeams is how many teams somebody may belong to.
const maxTeams = 50

// checkTeams checks the teams of somebody with a role.
func checkTeams(role Role, teams []string) error {
	switch {
	case len(teams) > maxTeams:
		return problem.Invalid("%d teams: expected at most %d", len(teams), maxTeams)
	case role == Admin && len(teams) > 0:
		return problem.Invalid("an admin is of the platform, and of no team: choose editor or viewer, or leave out the team")
	}
	for i, name := range teams {
		if !nameShape.MatchString(name) || slices.Contains(teams[:i], name) {
			return problem.Invalid("%q cannot be a team here: name each team of the rules once", name)
		}
	}
	return nil
}

// CreateToken makes an access token. Its text is returned this once.
func (p *People) CreateToken(ctx context.Context, w Wanted) (text string, t store.AccessToken, err error) {
	if !nameShape.MatchString(w.Name) {
		return "", t, problem.Invalid("%q cannot be the name of a token: use letters, digits, dots, hyphens and "+
			"underscores, at most 63", w.Name)
	}
	role, err := ParseRole(string(w.Role))
	if err != nil {
		return "", t, err
	}
	if err := checkTeams(role, w.Teams); err != nil {
		return "", t, err
	}
	if w.For == 0 {
		w.For = usualLife
	}
	if w.For < time.Minute || w.For > maxLife {
		return "", t, problem.Invalid("an access token for %s: expected 1 minute to 400 days", w.For)
	}
	p.changing.Lock()
	defer p.changing.Unlock()
	if len(p.tokens) >= maxTokens {
		return "", t, problem.Invalid("there are %d access tokens: revoke some (nightjar token revoke)", len(p.tokens))
	}
	for _, c := range p.tokens {
		if c.Name == w.Name {
			return "", t, problem.Invalid("there is an access token called %s already: revoke it first (nightjar token "+
				"revoke %s), or choose another name", w.Name, c.id)
		}
	}
	secret, now := newSecret(), p.Now().UTC()
	t = store.AccessToken{
		ID: newID(), Hash: hashOf(secret), Name: w.Name, Role: string(role), Teams: w.Teams, By: actor.Name(ctx),
		Created: now, Expires: now.Add(w.For),
	}
	entry := store.Activity{
		At: now, Kind: "access-token-created", After: strings.Join(append([]string{string(role)}, w.Teams...), " "),
		Detail: fmt.Sprintf("token %s for %s, until %s", t.ID, t.Name, t.Expires.Format(time.DateOnly)),
	}
	if err := p.Records.Apply(ctx, store.AddAccessToken{AccessToken: t}, journal.Entries(ctx, entry)); err != nil {
		return "", t, err
	}
	p.add(ofToken(t))
	return tokenText(t.ID, secret), t, nil
}

// Tokens lists the access tokens, the newest first.
func (p *People) Tokens() []store.AccessToken {
	p.changing.Lock()
	defer p.changing.Unlock()
	out := []store.AccessToken{}
	for _, c := range p.tokens {
		out = append(out, store.AccessToken{
			ID: c.id, Name: c.Name, Role: string(c.Role), Teams: c.Teams, By: c.by,
			Created: c.created, Expires: c.Expires, Used: c.lastUsed(),
		})
	}
	slices.SortFunc(out, func(a, b store.AccessToken) int { return b.Created.Compare(a.Created) })
	return out
}

// RevokeToken ends an access token, by its id or name, with the sessions that it began
// and all that is done by them.
func (p *People) RevokeToken(ctx context.Context, which string) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	var token *credential
	for _, c := range p.tokens {
		if c.id == which || c.Name == which && token == nil {
			token = c
		}
	}
	if token == nil {
		return problem.Missing("there is no access token %s: see nightjar token list", which)
	}
	ending := []*credential{token}
	var ids store.DeleteSessions
	for _, s := range p.sessions {
		if s.Of == token.Credential {
			ending, ids = append(ending, s), append(ids, s.id)
		}
	}
	entry := store.Activity{
		At: p.Now().UTC(), Kind: "access-token-revoked", Before: string(token.Role),
		Detail: fmt.Sprintf("token %s of %s", token.id, token.Name),
	}
	err := p.Records.Apply(ctx, store.DeleteAccessToken{ID: token.id}, ids, journal.Entries(ctx, entry))
	if err != nil {
		return err
	}
	for _, c := range ending {
		p.drop(c)
	}
	return nil
}
