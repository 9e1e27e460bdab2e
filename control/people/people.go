// Package people is who may use the service: the credentials of people and of programs
// that act for them, what they may do, and who is signed in.
//
// There are three kinds of credentials: the socket of the service's machine, an access
// token, and a session of the console, which a token, a link or a provider of
// identities began. All of them are checked in memory.
package people

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/store"
)

const (
	usualLife = 90 * 24 * time.Hour
	maxLife   = 400 * 24 * time.Hour
	maxTokens = 1000

	// WriteEvery is how often it is noted when credentials were last used.
	WriteEvery = 30 * time.Second
	writeTime  = 10 * time.Second
)

// Records is what people need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	AccessTokens(ctx context.Context) ([]store.AccessToken, error)
	Sessions(ctx context.Context) ([]store.Session, error)
}

// Config is what People needs.
type Config struct {
	Records Records
	Journal *journal.Journal
	Now     func() time.Time
}

// People are those who may use the service. It is safe for concurrent use.
type People struct {
	Config
	attempts attempts // to sign in
	refusals attempts // of acts that a role does not allow

	// The credentials, by the hash of their secret. Checks read without a lock.
	known sync.Map // string to *credential

	changing sync.Mutex // held while credentials change
	tokens   map[string]*credential
	sessions map[string]*credential
	links    map[string]link // by the hash of their code
}

// Who is somebody whose credential was checked.
type Who struct {
	Name       string
	Role       Role
	Teams      []string
	Credential string          // local, token ID or session ID
	Of         string          // token that a session came from, over other sessions; empty: none
	Expires    time.Time       // when the credential ends; zero: it does not
	Ended      context.Context // is done when the credential was revoked; nil: it cannot be
}

// credential is a token or a session.
type credential struct {
	Who
	id      string
	hash    string
	by      string
	address string
	program string
	created time.Time
	used    atomic.Int64 // nanoseconds since 1970; 0: never
	noted   int64        // used, as it is in the store
	end     context.CancelFunc
}

// Local is the credential of those who reach the service by the socket of its machine.
const Local = "local"

// Open reads the credentials that are in force.
func Open(ctx context.Context, cfg Config) (*People, error) {
	p := &People{Config: cfg, tokens: map[string]*credential{}, sessions: map[string]*credential{}, links: map[string]link{}}
	p.attempts, p.refusals = newAttempts(cfg.Now), newAttempts(cfg.Now)
	tokens, err := cfg.Records.AccessTokens(ctx)
	if err != nil {
		return nil, err
	}
	sessions, err := cfg.Records.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tokens {
		p.add(ofToken(t))
	}
	for _, s := range sessions {
		p.add(ofSession(s))
	}
	return p, nil
}

func ofToken(t store.AccessToken) *credential {
	c := &credential{id: t.ID, hash: t.Hash, by: t.By, created: t.Created}
	c.Who = Who{
		Name: t.Name, Role: Role(t.Role), Teams: t.Teams,
		Credential: "token " + t.ID, Of: "token " + t.ID, Expires: t.Expires,
	}
	c.setUsed(t.Used)
	return c
}

func (c *credential) setUsed(at time.Time) {
	if !at.IsZero() {
		c.noted = at.UnixNano()
		c.used.Store(c.noted)
	}
}

// lastUsed is when the credential was last used; zero: never.
func (c *credential) lastUsed() time.Time {
	if n := c.used.Load(); n != 0 {
		return time.Unix(0, n).UTC()
	}
	return time.Time{}
}

func (c *credential) isSession() bool { return c.Credential == "session "+c.id }

// add puts a credential into force. The caller holds changing, or is the only one.
func (p *People) add(c *credential) {
	c.Ended, c.end = context.WithCancel(context.Background())
	if c.isSession() {
		p.sessions[c.id] = c
	} else {
		p.tokens[c.id] = c
	}
	p.known.Store(c.hash, c)
}

// drop ends a credential, and all that is done by it. The caller holds changing.
func (p *People) drop(c *credential) {
	p.known.Delete(c.hash)
	delete(p.tokens, c.id)
	delete(p.sessions, c.id)
	c.end()
}

// find is the credential with a secret, when it is good now.
func (p *People) find(secret string) (*credential, bool) {
	v, isKnown := p.known.Load(hashOf(secret))
	if !isKnown {
		return nil, false
	}
	c, now := v.(*credential), p.Now()
	if !now.Before(c.Expires) {
		return nil, false
	}
	// One write a second, so that requests do not share a line of the cache.
	if n := now.UnixNano(); n-c.used.Load() > int64(time.Second) {
		c.used.Store(n)
	}
	return c, true
}

// Failed means that a credential is not good.
type Failed struct {
	Why  string
	Many bool // there were too many of them
}

func (e Failed) Error() string { return e.Why }

// Token checks an access token, or a session in one word. address is where it comes from.
func (p *People) Token(text, address string) (Who, error) {
	if secret, isSession := strings.CutPrefix(strings.TrimSpace(text), sessionMark); isSession {
		return p.Session(secret)
	}
	id, secret, isToken := splitToken(text)
	if isToken {
		if c, ok := p.find(secret); ok && !c.isSession() && c.id == id {
			return c.Who, nil
		}
	}
	why := "this is no access token: copy all of it, it is one word that begins with " + tokenMark
	if isToken {
		why = "this access token is not good: it has run out, was revoked, or is of another service. " +
			"Ask an admin for another one (nightjar token create)"
	}
	return Who{}, p.fail(address, id, why)
}

// Session checks the secret of a session.
func (p *People) Session(secret string) (Who, error) {
	if c, ok := p.find(secret); ok && c.isSession() {
		return c.Who, nil
	}
	return Who{}, Failed{Why: "you are signed out: sign in again (nightjar sign-in)"}
}

// Deny logs that somebody could not sign in by a provider of identities.
func (p *People) Deny(address, why string) {
	if note, _ := p.attempts.failed(address, ""); note != "" {
		p.Journal.Add(context.Background(), store.Activity{
			At: p.Now().UTC(), Who: whoTried(address), Kind: "sign-in-failed", Detail: why, Address: address,
			Result: store.ResultFailed,
		})
	}
}

// fail counts a failed attempt to show a credential, and logs it.
func (p *People) fail(address, id, why string) error {
	note, isOver := p.attempts.failed(address, id)
	if note != "" {
		p.Journal.Add(context.Background(), store.Activity{
			At: p.Now().UTC(), Who: whoTried(address), Kind: "sign-in-failed", Detail: note,
			Address: address, Result: store.ResultFailed,
		})
	}
	if isOver {
		return Failed{Why: fmt.Sprintf("too many attempts failed: wait %s. A good credential is still accepted", window), Many: true}
	}
	return Failed{Why: why}
}

func whoTried(address string) string {
	if address == "" {
		return Local
	}
	return address
}

// Refuse logs that somebody tried what they may not: what in a word or two, and why.
func (p *People) Refuse(ctx context.Context, what, why string) {
	note, _ := p.refusals.failed(actor.Name(ctx)+": "+what, "")
	if note == "" {
		return
	}
	p.Journal.Add(ctx, store.Activity{
		At: p.Now().UTC(), Kind: "refused", Result: store.ResultRefused, Detail: what + " " + why,
	})
}

// Tidy forgets what has run out, and notes when credentials were last used.
func (p *People) Tidy(ctx context.Context) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	now := p.Now()
	p.refusals.tidy()
	for _, note := range p.attempts.tidy() {
		p.Journal.Add(ctx, store.Activity{
			At: now.UTC(), Who: whoTried(note.address), Kind: "sign-in-failed", Detail: note.text,
			Address: note.address, Result: store.ResultFailed,
		})
	}
	for hash, l := range p.links {
		if !now.Before(l.expires) {
			delete(p.links, hash)
		}
	}
	used := store.UsedCredentials{Tokens: map[string]time.Time{}, Sessions: map[string]time.Time{}}
	var over store.DeleteSessions
	changes := []store.Change{}
	for _, list := range []map[string]*credential{p.tokens, p.sessions} {
		for _, c := range list {
			switch {
			case now.Before(c.Expires):
				if n := c.used.Load(); n != c.noted {
					c.noted = n
					noted := used.Tokens
					if c.isSession() {
						noted = used.Sessions
					}
					noted[c.id] = c.lastUsed()
				}
			case c.isSession():
				over = append(over, c.id)
				p.drop(c)
			case now.Sub(c.Expires) > keptFor:
				changes = append(changes, store.DeleteAccessToken{ID: c.id})
				p.drop(c)
			}
		}
	}
	if len(changes)+len(over)+len(used.Tokens)+len(used.Sessions) == 0 {
		return nil
	}
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), writeTime)
	defer stop()
	return p.Records.Apply(ctx, append(changes, over, used)...)
}

// keptFor is how long a token that ran out is listed.
const keptFor = 14 * 24 * time.Hour
