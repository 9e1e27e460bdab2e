package signon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/control/journal"
	"nightjar/control/people"
	"nightjar/control/problem"
	"nightjar/store"
	"nightjar/test/provider"
)

type kit struct {
	*SignOn
	provider *provider.Provider
	ahead    atomic.Int64 // seconds that the clock is ahead
}

const console = "http://127.0.0.1:7600"

func newKit(t *testing.T) *kit {
	t.Helper()
	k := &kit{provider: provider.Start()}
	t.Cleanup(k.provider.Close)
	file := filepath.Join(t.TempDir(), "sign-on.yaml")
	if err := os.WriteFile(file, []byte(k.provider.Config(console)), 0o600); err != nil {
		t.Fatal(err)
	}
	cfg, err := Read(file)
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.TempDir(), "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	now := func() time.Time { return time.Now().Add(time.Duration(k.ahead.Load()) * time.Second) }
	p, err := people.Open(t.Context(), people.Config{Records: st, Journal: journal.New(st), Now: now})
	if err != nil {
		t.Fatal(err)
	}
	k.SignOn = New(cfg, p, now)
	return k
}

// visit goes to the provider, as a browser does, and returns what it brings back.
func (k *kit) visit(t *testing.T) Return {
	t.Helper()
	target, kept, err := k.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	browser := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := browser.Get(target)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	back, err := url.Parse(resp.Header.Get("Location"))
	if err != nil || !strings.HasPrefix(back.String(), console+CallbackPath) {
		t.Fatalf("it leads to %s: %d %s", back, resp.StatusCode, text)
	}
	q := back.Query()
	return Return{State: q.Get("state"), Code: q.Get("code"), Error: q.Get("error"), Kept: kept}
}

// TestSignOn: who the provider vouches for is signed in, with the role of their groups;
// nobody else is, whatever the provider or a browser says.
func TestSignOn(t *testing.T) {
	k := newKit(t)
	secret, s, err := k.Finish(t.Context(), k.visit(t))
	if err != nil || s.Name != "mara@ferry.example" || s.Role != "editor" || s.Expires.Sub(s.Created) != 12*time.Hour {
		t.Fatalf("%+v, %v", s, err)
	}
	if who, err := k.People.Session(secret); err != nil || who.Name != s.Name {
		t.Errorf("the session: %+v, %v", who, err)
	}
	used := k.visit(t)
	if _, _, err := k.Finish(t.Context(), used); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		change func(*provider.Provider)
		back   func(*Return)
		code   string
	}{
		{"a code that was used", nil, func(r *Return) { r.Code = used.Code }, CodeDenied},
		{"another state", nil, func(r *Return) { r.State += "x" }, CodeExpired},
		{"a browser that began nothing", nil, func(r *Return) { r.Kept = "" }, CodeExpired},
		{"what another browser began", nil, func(r *Return) { r.Kept = used.Kept }, CodeExpired},
		{"another verifier", nil, func(r *Return) { r.Kept += "x" }, CodeDenied},
		{"another nonce kept", nil, func(r *Return) { p := strings.Split(r.Kept, "."); r.Kept = p[0] + ".x." + p[2] }, CodeInvalid},
		{"another issuer in the answer", nil, func(r *Return) { r.Issuer = "https://evil.example" }, CodeInvalid},
		{"a provider that says no", func(p *provider.Provider) { p.Deny = true }, nil, CodeDenied},
		{"another issuer", func(p *provider.Provider) { p.Lie = map[string]any{"iss": "https://evil.example"} }, nil, CodeInvalid},
		{"another audience", func(p *provider.Provider) { p.Lie = map[string]any{"aud": "shop"} }, nil, CodeInvalid},
		{"several audiences, made for another", func(p *provider.Provider) {
			p.Lie = map[string]any{"aud": []string{"nightjar", "shop"}, "azp": "shop"}
		}, nil, CodeInvalid},
		{"another nonce", func(p *provider.Provider) { p.Lie = map[string]any{"nonce": "x"} }, nil, CodeInvalid},
		{"no nonce", func(p *provider.Provider) { p.Lie = map[string]any{"nonce": ""} }, nil, CodeInvalid},
		{"a token that ran out", func(p *provider.Provider) { p.Lie = map[string]any{"exp": time.Now().Add(-time.Minute).Unix()} }, nil, CodeInvalid},
		{"a key that it does not publish", func(p *provider.Provider) { p.Forged = true }, nil, CodeInvalid},
		{"no group with a role", func(p *provider.Provider) { p.Claims["groups"] = []string{"cooks"} }, nil, CodeNoRole},
		{"no groups", func(p *provider.Provider) { delete(p.Claims, "groups") }, nil, CodeNoRole},
		{"groups that are no list", func(p *provider.Provider) { p.Claims["groups"] = 7 }, nil, CodeNoRole},
	} {
		k := newKit(t)
		if c.change != nil {
			k.provider.Change(c.change)
		}
		back := k.visit(t)
		if c.back != nil {
			c.back(&back)
		}
		_, s, err := k.Finish(t.Context(), back)
		var no Refused
		if !errors.As(err, &no) || no.Code != c.code {
			t.Errorf("%s: %+v, %v", c.name, s, err)
		}
		if n := len(k.People.Sessions("")); n != 0 {
			t.Errorf("%s: %d sessions", c.name, n)
		}
	}
}

// TestNames: who signs in is called by a verified address or a name with an @, so that
// nobody can be taken for a token; the highest role of their groups holds.
func TestNames(t *testing.T) {
	k := newKit(t)
	host := k.Provider()
	k.Teams = map[string][]string{"timetable": {"timetable"}, "money": {"cash"}, "deck": {"crew", "timetable"}}
	teams := map[string]string{"admin": "[]", "viewer": "[deck]", "editor": "[deck timetable]", "": "[]"}
	for _, c := range []struct {
		claims map[string]any
		info   map[string]any
		name   string
		role   string
	}{
		{map[string]any{"sub": "7", "email": "mara@ferry.example", "groups": []string{"crew", "platform", "timetable"}}, nil, "mara@ferry.example", "admin"},
		{map[string]any{"sub": "7", "email": "mara@ferry.example", "email_verified": false, "preferred_username": "mara", "groups": "crew"}, nil, "mara@" + host, "viewer"},
		{map[string]any{"sub": "7", "email": "mara@ferry.example\nadmin", "groups": "crew"}, nil, "7@" + host, "viewer"},
		{map[string]any{"sub": "root", "groups": "timetable"}, nil, "root@" + host, "editor"},
		{map[string]any{"sub": "7"}, map[string]any{"sub": "7", "groups": []string{"platform"}, "email": "late@ferry.example"}, "late@ferry.example", "admin"},
		{map[string]any{"sub": "7"}, map[string]any{"sub": "8", "groups": []string{"platform"}}, "", ""},
	} {
		k.provider.Change(func(p *provider.Provider) { p.Claims, p.UserInfo = c.claims, c.info })
		_, s, err := k.Finish(t.Context(), k.visit(t))
		if got := fmt.Sprint(s.Teams); got != teams[c.role] {
			t.Errorf("%v: teams %s, want %s", c.claims, got, teams[c.role])
		}
		if s.Name != c.name || s.Role != c.role || (err == nil) != (c.role != "") {
			t.Errorf("%v: %s, %s, %v", c.claims, s.Name, s.Role, err)
		}
	}
}

// TestProviderIsAway: a provider that is away is said so, and found when it comes back; a
// key that it replaces is followed.
func TestProviderIsAway(t *testing.T) {
	k := newKit(t)
	k.provider.Change(func(p *provider.Provider) { p.Away = true })
	var later problem.NotReady
	if _, _, err := k.Begin(t.Context()); !errors.As(err, &later) || !strings.Contains(err.Error(), "access token") {
		t.Errorf("away: %v", err)
	}
	k.provider.Change(func(p *provider.Provider) { p.Away = false })
	if _, _, err := k.Begin(t.Context()); !errors.As(err, &later) {
		t.Errorf("it is asked again at once: %v", err)
	}
	k.ahead.Add(3)
	back := k.visit(t)
	k.provider.Change(func(p *provider.Provider) { p.Away = true })
	if _, _, err := k.Finish(t.Context(), back); !errors.As(err, &later) {
		t.Errorf("away in the middle: %v", err)
	}
	k.provider.Change(func(p *provider.Provider) { p.Away = false })
	for _, id := range []string{"second", "third"} {
		k.provider.Change(func(p *provider.Provider) { p.NewKey(id) })
		if _, _, err := k.Finish(t.Context(), k.visit(t)); err != nil {
			t.Errorf("after the key was replaced: %v", err)
		}
	}
}

// TestDevice: a command is signed in when somebody allows it, once.
func TestDevice(t *testing.T) {
	k := newKit(t)
	handle, auth, err := k.Device(t.Context())
	if err != nil || auth.UserCode != "TIDE-7600" {
		t.Fatal(auth, err)
	}
	short, stop := context.WithTimeout(t.Context(), 1500*time.Millisecond)
	defer stop()
	if _, _, err := k.Await(short, handle, "cli"); !errors.Is(err, ErrPending) {
		t.Errorf("before it is allowed: %v", err)
	}
	k.provider.Change(func(p *provider.Provider) { p.Allowed = true })
	secret, s, err := k.Await(t.Context(), handle, "cli")
	if err != nil || s.Name != "mara@ferry.example" || secret == "" {
		t.Fatalf("%+v, %v", s, err)
	}
	var no Refused
	for _, h := range []string{handle, "", "ghost"} {
		if _, _, err := k.Await(t.Context(), h, "cli"); !errors.As(err, &no) || no.Code != CodeExpired {
			t.Errorf("%q again: %v", h, err)
		}
	}
	handle, _, _ = k.Device(t.Context())
	k.provider.Change(func(p *provider.Provider) { p.Deny = true })
	if _, _, err := k.Await(t.Context(), handle, "cli"); !errors.As(err, &no) || no.Code != CodeDenied {
		t.Errorf("denied: %v", err)
	}
	for range 100 {
		_, _, err = k.Device(t.Context())
	}
	if !errors.As(err, new(problem.NotReady)) {
		t.Errorf("a flood: %v", err)
	}
}

// TestConfig: what is wrong with a configuration is said.
func TestConfig(t *testing.T) {
	good := "issuer: https://id.ferry.example\nclient: nightjar\nurl: https://nightjar.ferry.example:7600/\nroles: {viewer: [anyone]}\n"
	for text, want := range map[string]string{
		good:                   "",
		good + "colour: red\n": "colour",
		strings.Replace(good, "https://id", "http://id", 1):    "issuer: ",
		strings.Replace(good, "https://night", "night", 1):     "url: ",
		strings.Replace(good, "nightjar\nurl", "\"\"\nurl", 1): "client: ",
		strings.Replace(good, "{viewer: [anyone]}", "{}", 1):   "roles: nobody",
		strings.Replace(good, "viewer", "captain", 1):          "captain",
		strings.Replace(good, "viewer", "admin", 1):            "anyone would be an admin",
		good + "secret-file: /none\n":                          "secret-file: ",
		good + "ca-file: /none\n":                              "ca-file: ",
		"[":                                                    "sign-on.yaml",
	} {
		file := filepath.Join(t.TempDir(), "sign-on.yaml")
		os.WriteFile(file, []byte(text), 0o600)
		_, err := Read(file)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}
