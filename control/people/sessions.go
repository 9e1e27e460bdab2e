package people

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/store"
)

const (
	sessionLife = 12 * time.Hour
	linkLife    = 10 * time.Minute
	maxLinkLife = 24 * time.Hour

	maxSessions = 10_000
	sessionsOf  = 50 // of one name; the oldest ends for the next
	maxLinks    = 1000
	linksOf     = 20 // made by one name; the first to run out ends for the next
)

// link signs a browser in once.
type link struct {
	as      Who
	expires time.Time
}

// Link makes the code of a link that signs a browser in once, as who. life is how long it
// is good; 0: 10 minutes.
func (p *People) Link(who Who, life time.Duration) (code string, expires time.Time, err error) {
	p.changing.Lock()
	defer p.changing.Unlock()
	ending, n := "", 0
	for hash, l := range p.links {
		if l.as.Name != who.Name {
			continue
		}
		if n++; ending == "" || l.expires.Before(p.links[ending].expires) {
			ending = hash
		}
	}
	if n >= linksOf {
		delete(p.links, ending)
	} else if len(p.links) >= maxLinks {
		return "", expires, problem.Invalid("%d links wait to be used: use them, or wait until they have run out", len(p.links))
	}
	code, expires = newSecret(), p.Now().Add(min(cmp.Or(life, linkLife), maxLinkLife))
	if !who.Expires.IsZero() && who.Expires.Before(expires) {
		expires = who.Expires
	}
	p.links[hashOf(code)] = link{as: who, expires: expires}
	return code, expires, nil
}

// SignInByLink begins a session with the code of a link, which is not good after that.
func (p *People) SignInByLink(ctx context.Context, code, program string) (secret string, s store.Session, err error) {
	p.changing.Lock()
	hash := hashOf(code)
	l, isKnown := p.links[hash]
	delete(p.links, hash)
	p.changing.Unlock()
	isGood := isKnown && p.Now().Before(l.expires) && (l.as.Ended == nil || l.as.Ended.Err() == nil)
	if !isGood {
		return "", s, p.fail(actor.Of(ctx).Address, "",
			"this link was used already, or has run out: make another one on the service's machine with nightjar console")
	}
	return p.SignIn(ctx, l.as, "by a link", program)
}

// SignInByToken begins a session with an access token.
func (p *People) SignInByToken(ctx context.Context, text, program string) (secret string, s store.Session, err error) {
	who, err := p.Token(text, actor.Of(ctx).Address)
	if err != nil {
		return "", s, err
	}
	return p.SignIn(ctx, who, "by "+who.Credential, program)
}

// SignIn begins a session of somebody. how says by what, in words; program is how the
// client calls itself. The session ends with the credential of who, at the latest.
func (p *People) SignIn(ctx context.Context, who Who, how, program string) (secret string, s store.Session, err error) {
	now := p.Now().UTC()
	secret = newSecret()
	s = store.Session{
		ID: newID(), Hash: hashOf(secret), Name: who.Name, Role: string(who.Role), Teams: who.Teams, Of: who.Of,
		Address: actor.Of(ctx).Address, Program: plain(program), Created: now, Expires: now.Add(sessionLife), Used: now,
	}
	if !who.Expires.IsZero() && who.Expires.Before(s.Expires) {
		s.Expires = who.Expires
	}
	p.changing.Lock()
	defer p.changing.Unlock()
	if who.Ended != nil && who.Ended.Err() != nil {
		return "", s, Failed{Why: "the credential was revoked just now: sign in with another one"}
	}
	over, err := p.room(who.Name)
	if err != nil {
		return "", s, err
	}
	c := ofSession(s)
	ctx = actor.With(ctx, actor.Actor{Name: who.Name, Credential: c.Credential, Address: s.Address})
	entry := journal.Entries(ctx, store.Activity{At: now, Kind: "sign-in", Detail: how})
	changes := []store.Change{store.AddSession{Session: s}, entry}
	if over != nil {
		changes = append(changes, store.DeleteSessions{over.id})
	}
	if err := p.Records.Apply(ctx, changes...); err != nil {
		return "", s, err
	}
	p.add(c)
	if over != nil {
		p.drop(over)
	}
	return secret, s, nil
}

// room finds the session that has to end for the next of a name; nil: none has to. The
// caller holds changing.
func (p *People) room(name string) (over *credential, err error) {
	n := 0
	for _, c := range p.sessions {
		if c.Name != name {
			continue
		}
		if n++; over == nil || c.created.Before(over.created) {
			over = c
		}
	}
	switch {
	case n >= sessionsOf:
		return over, nil
	case len(p.sessions) >= maxSessions:
		return nil, problem.Running("%d sessions are open, as many as there may be: end some (nightjar session list)",
			len(p.sessions))
	}
	return nil, nil
}

func ofSession(s store.Session) *credential {
	c := &credential{
		id: s.ID, hash: s.Hash, address: s.Address, program: s.Program, created: s.Created,
		Who: Who{
			Name: s.Name, Role: Role(s.Role), Teams: s.Teams, Credential: "session " + s.ID, Of: s.Of, Expires: s.Expires,
		},
	}
	c.setUsed(s.Used)
	return c
}

// plain is what a program calls itself, cut to what a table can show.
func plain(program string) string {
	text := strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(program, ""))
	if r := []rune(text); len(r) > 120 {
		text = string(r[:120])
	}
	return text
}

// Sessions lists the sessions of a name, the newest first; without one those of all.
func (p *People) Sessions(name string) []store.Session {
	p.changing.Lock()
	defer p.changing.Unlock()
	out := []store.Session{}
	for _, c := range p.sessions {
		if name != "" && c.Name != name {
			continue
		}
		out = append(out, store.Session{
			ID: c.id, Name: c.Name, Role: string(c.Role), Teams: c.Teams, Of: c.Of, Address: c.address,
			Program: c.program, Created: c.created, Expires: c.Expires, Used: c.lastUsed(),
		})
	}
	slices.SortFunc(out, func(a, b store.Session) int { return b.Created.Compare(a.Created) })
	return out
}

// EndSession ends a session by its id, or all of a name, and all that is done by them.
// Whose name is not empty must be the one whose they are.
func (p *People) EndSession(ctx context.Context, which, whose string) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	var ending []*credential
	var ids store.DeleteSessions
	for _, c := range p.sessions {
		if (c.id == which || c.Name == which) && (whose == "" || c.Name == whose) {
			ending, ids = append(ending, c), append(ids, c.id)
		}
	}
	if len(ending) == 0 {
		return problem.Missing("there is no session %s: see nightjar session list", which)
	}
	entry := store.Activity{At: p.Now().UTC(), Kind: "session-revoked", Detail: "session " + which + " of " + ending[0].Name}
	switch {
	case len(ending) > 1 || ending[0].id != which:
		entry.Detail = fmt.Sprintf("all of %s: %d", ending[0].Name, len(ending))
	case actor.Of(ctx).Credential == ending[0].Credential:
		entry.Kind, entry.Detail = "sign-out", ""
	}
	if err := p.Records.Apply(ctx, ids, journal.Entries(ctx, entry)); err != nil {
		return err
	}
	for _, c := range ending {
		p.drop(c)
	}
	return nil
}
