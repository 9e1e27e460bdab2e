package signon

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
	"golang.org/x/time/rate"

	"nightjar/control/people"
	"nightjar/control/problem"
	"nightjar/store"
)

// CallbackPath is where the provider sends browsers back to.
const CallbackPath = "/sign-on/callback"

const (
	maxDevices = 1000
	// awaitTime is how long one call waits for somebody to allow a device.
	awaitTime = 45 * time.Second
	// retryAfter is how long a provider that did not respond is left alone.
	retryAfter = 2 * time.Second
)

// SignOn signs people in by one provider. It is safe for concurrent use.
type SignOn struct {
	*Config
	People *people.People
	Now    func() time.Time

	finding sync.Mutex // guards what follows
	found   *oidc.Provider
	failed  error
	tried   time.Time

	begun   *rate.Limiter // devices, each of which is a call of the provider
	mu      sync.Mutex    // guards devices
	devices map[string]*device
}

// New makes one.
func New(cfg *Config, p *people.People, now func() time.Time) *SignOn {
	return &SignOn{Config: cfg, People: p, Now: now, begun: rate.NewLimiter(5, 20), devices: map[string]*device{}}
}

// away means that the provider does not respond, or not as it must.
func (s *SignOn) away(err error) error {
	return problem.NotReady{Why: fmt.Sprintf("%s does not answer as a provider of identities: %v. Try again, or sign in "+
		"with an access token", s.Provider(), err)}
}

// Refused means that a provider vouches for somebody who may not in, or not rightly.
type Refused struct {
	Code string // one of the codes
	Why  string
}

func (e Refused) Error() string { return e.Why }

// Codes of refusals, which the console has words for.
const (
	CodeExpired = "expired" // it took too long, or another sign-in began meanwhile
	CodeDenied  = "denied"  // the provider says no
	CodeInvalid = "invalid" // what the provider says does not hold
	CodeNoRole  = "no-role" // no group of the person has a role
)

func refuse(code, format string, args ...any) error {
	return Refused{code, fmt.Sprintf(format, args...)}
}

// clientIn is a context in which the provider is called.
func (s *SignOn) clientIn(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, s.client)
}

// provider finds out about the provider, once it responds.
func (s *SignOn) provider(ctx context.Context) (*oidc.Provider, error) {
	s.finding.Lock()
	defer s.finding.Unlock()
	if s.found != nil {
		return s.found, nil
	}
	if s.failed != nil && s.Now().Sub(s.tried) < retryAfter {
		return nil, s.away(s.failed)
	}
	ctx, stop := context.WithTimeout(s.clientIn(context.WithoutCancel(ctx)), callTime)
	defer stop()
	s.found, s.failed = oidc.NewProvider(ctx, s.Issuer)
	if s.tried = s.Now(); s.failed != nil {
		s.found = nil
		return nil, s.away(s.failed)
	}
	return s.found, nil
}

func (s *SignOn) config(p *oidc.Provider) *oauth2.Config {
	at := p.Endpoint()
	at.AuthStyle = oauth2.AuthStyleInHeader // one that is tried out would use up the code
	var says struct {
		Methods []string `json:"token_endpoint_auth_methods_supported"`
	}
	isListed := p.Claims(&says) == nil && len(says.Methods) > 0
	if s.secret == "" || isListed && !slices.Contains(says.Methods, "client_secret_basic") {
		at.AuthStyle = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{
		ClientID:     s.Config.Client,
		ClientSecret: s.secret,
		Endpoint:     at,
		RedirectURL:  s.URL + CallbackPath,
		Scopes:       append([]string{oidc.ScopeOpenID, "email", "profile"}, s.Scopes...),
	}
}

// Begin begins the sign-in of a browser: target is where it has to go, kept what it has to
// bring back, which nobody else may know.
func (s *SignOn) Begin(ctx context.Context) (target, kept string, err error) {
	p, err := s.provider(ctx)
	if err != nil {
		return "", "", err
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	target = s.config(p).AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier))
	return target, strings.Join([]string{state, nonce, verifier}, "."), nil
}

// Return is what a browser brings back from the provider.
type Return struct {
	State, Code, Error, Issuer string
	Kept                       string // see Begin; empty: it brings nothing
	Program                    string // as it calls itself
}

// Finish ends the sign-in of a browser.
func (s *SignOn) Finish(ctx context.Context, r Return) (secret string, session store.Session, err error) {
	parts := strings.Split(r.Kept, ".")
	if len(parts) != 3 || subtle.ConstantTimeCompare([]byte(parts[0]), []byte(r.State)) != 1 {
		return "", session, refuse(CodeExpired, "the sign-in was not begun here, or too long ago: begin again")
	}
	if r.Issuer != "" && r.Issuer != s.Issuer { // RFC 9207
		return "", session, refuse(CodeInvalid, "the answer is of %q, not of %s", short(r.Issuer), s.Issuer)
	}
	if r.Error != "" || r.Code == "" {
		return "", session, refuse(CodeDenied, "%s says: %s", s.Provider(), short(cmp.Or(r.Error, "no code")))
	}
	p, err := s.provider(ctx)
	if err != nil {
		return "", session, err
	}
	token, err := s.config(p).Exchange(s.clientIn(ctx), r.Code, oauth2.VerifierOption(parts[2]))
	if err != nil {
		return "", session, s.exchangeFailed(err)
	}
	return s.signIn(ctx, p, token, parts[1], r.Program)
}

// exchangeFailed is why a provider gave no tokens.
func (s *SignOn) exchangeFailed(err error) error {
	var said *oauth2.RetrieveError
	if errors.As(err, &said) && said.Response.StatusCode < 500 {
		return refuse(CodeDenied, "%s says: %s", s.Provider(), short(cmp.Or(said.ErrorDescription, said.ErrorCode, said.Response.Status)))
	}
	return s.away(err)
}

// signIn begins a session of who an ID token is about. nonce is the one that it must have;
// empty: none.
func (s *SignOn) signIn(
	ctx context.Context,
	p *oidc.Provider,
	token *oauth2.Token,
	nonce, program string,
) (secret string, session store.Session, err error) {
	raw, isText := token.Extra("id_token").(string)
	if !isText {
		return "", session, refuse(CodeInvalid, "%s gave no ID token", s.Provider())
	}
	verifier := p.VerifierContext(s.clientIn(ctx), &oidc.Config{ClientID: s.Config.Client, Now: s.Now})
	id, err := verifier.Verify(s.clientIn(ctx), raw)
	if err != nil {
		return "", session, refuse(CodeInvalid, "the ID token does not hold: %v", err)
	}
	if nonce != "" && subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(nonce)) != 1 {
		return "", session, refuse(CodeInvalid, "the ID token is of another sign-in: its nonce is not ours")
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return "", session, refuse(CodeInvalid, "the ID token cannot be read: %v", err)
	}
	if len(id.Audience) > 1 && claims["azp"] != s.Config.Client { // Core 1.0, section 3.1.3.7
		return "", session, refuse(CodeInvalid, "the ID token is for several clients, and not made for Nightjar")
	}
	if _, isThere := claims[s.groups()]; !isThere && p.UserInfoEndpoint() != "" {
		s.more(ctx, p, token, id.Subject, claims)
	}
	groups := listOf(claims[s.groups()])
	name := s.nameOf(claims, id.Subject)
	role := s.roleOf(groups)
	if role == "" {
		return "", session, refuse(CodeNoRole, "%s signed in at %s, and no group of theirs has a role here (they are in: %s)",
			name, s.Provider(), short(cmp.Or(strings.Join(groups, ", "), "none")))
	}
	who := people.Who{Name: name, Role: role, Teams: s.teamsOf(role, groups), Of: "sign-on at " + s.Provider()}
	return s.People.SignIn(ctx, who, fmt.Sprintf("at %s, as %s", s.Provider(), role), program)
}

// more adds what the provider says of somebody beside the ID token.
func (s *SignOn) more(ctx context.Context, p *oidc.Provider, token *oauth2.Token, subject string, claims map[string]any) {
	info, err := p.UserInfo(s.clientIn(ctx), oauth2.StaticTokenSource(token))
	if err != nil || info.Subject != subject {
		return // they have no groups then
	}
	extra := map[string]any{}
	if info.Claims(&extra) != nil {
		return
	}
	for name, v := range extra {
		if _, isThere := claims[name]; !isThere {
			claims[name] = v
		}
	}
}

func (s *SignOn) groups() string { return cmp.Or(s.Groups, "groups") }

// nameOf is the name of somebody, which has an @ as names of tokens do not: a verified
// address, or else their name at the provider.
func (s *SignOn) nameOf(claims map[string]any, subject string) string {
	text := func(claim string) string {
		v, _ := claims[claim].(string)
		if v = strings.TrimSpace(v); len(v) > 100 || strings.ContainsFunc(v, isUnfit) {
			return ""
		}
		return v
	}
	isVerified := claims["email_verified"] != false && claims["email_verified"] != "false"
	var name string
	switch {
	case s.Name != "" && (s.Name != "email" || isVerified):
		name = text(s.Name)
	case s.Name == "" && isVerified:
		name = text("email")
	}
	if name == "" {
		name = cmp.Or(text("preferred_username"), short(subject))
	}
	if !strings.Contains(name, "@") {
		name += "@" + s.Provider()
	}
	return name
}

func isUnfit(r rune) bool { return r < ' ' || r == 0x7f || r == ' ' }

// listOf is a claim that is a list of texts, or one.
func listOf(v any) []string {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		out := []string{}
		for _, one := range v {
			if text, isText := one.(string); isText {
				out = append(out, text)
			}
		}
		return out
	}
	return nil
}

// short is what others say, cut to what a line can show.
func short(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, ""))
	if r := []rune(text); len(r) > 200 {
		text = string(r[:200]) + "…"
	}
	return text
}
