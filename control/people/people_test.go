package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/control/actor"
	"nightjar/control/journal"
	"nightjar/store"
)

// kit is people with a clock of the test.
type kit struct {
	*People
	store *store.Store
	at    atomic.Int64 // seconds since 1970
}

func newKit(t testing.TB) *kit {
	t.Helper()
	st, err := store.Open(t.TempDir(), "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	k := &kit{store: st}
	k.at.Store(time.Date(2026, 11, 30, 6, 0, 0, 0, time.UTC).Unix())
	k.open(t)
	return k
}

func (k *kit) open(t testing.TB) {
	t.Helper()
	p, err := Open(context.Background(), Config{Records: k.store, Journal: journal.New(k.store), Now: k.now})
	if err != nil {
		t.Fatal(err)
	}
	k.People = p
}

func (k *kit) now() time.Time              { return time.Unix(k.at.Load(), 0) }
func (k *kit) pass(d time.Duration)        { k.at.Add(int64(d.Seconds())) }
func (k *kit) isGood(token string) bool    { _, err := k.Token(token, "10.0.0.9"); return err == nil }
func (k *kit) isSigned(secret string) bool { _, err := k.Session(secret); return err == nil }

func (k *kit) token(t testing.TB, name string, life time.Duration) string {
	t.Helper()
	text, _, err := k.CreateToken(t.Context(), Wanted{Name: name, Role: Editor, For: life})
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// TestLife: credentials end when they run out, sessions with their token at the latest;
// a restart changes nothing of that, and secrets are nowhere in the records.
func TestLife(t *testing.T) {
	k := newKit(t)
	long, short := k.token(t, "mara", 0), k.token(t, "nils", time.Hour)
	byLong, _, err := k.SignInByToken(t.Context(), long, "browser")
	if err != nil {
		t.Fatal(err)
	}
	byShort, s, err := k.SignInByToken(t.Context(), short, "browser")
	if err != nil || s.Expires.Sub(k.now()) != time.Hour {
		t.Fatalf("a session of a token for an hour: %+v, %v", s, err)
	}
	k.pass(59 * time.Minute)
	k.open(t)
	if !k.isGood(long) || !k.isGood(short) || !k.isSigned(byLong) || !k.isSigned(byShort) {
		t.Error("something ended too early")
	}
	who, _ := k.Token(short, "")
	k.pass(2 * time.Minute)
	if k.isGood(short) || k.isSigned(byShort) || !k.isSigned(byLong) {
		t.Error("what ran out is good, or what did not is not")
	}
	if who.Expires.After(k.now()) {
		t.Error("who has a credential is not told when it ends")
	}
	if err := k.Tidy(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := k.Tokens(); len(got) != 2 || got[0].Used.IsZero() {
		t.Errorf("tokens that ran out just now are listed, with their use: %+v", got)
	}
	k.pass(12 * time.Hour)
	if k.isSigned(byLong) || !k.isGood(long) {
		t.Error("a session lasts longer than 12 hours, or its token ends with it")
	}
	k.pass(15 * 24 * time.Hour)
	if err := k.Tidy(t.Context()); err != nil {
		t.Fatal(err)
	}
	k.open(t)
	if len(k.Tokens()) != 1 || len(k.Sessions("")) != 0 {
		t.Errorf("what ran out long ago is kept: %v, %v", k.Tokens(), k.Sessions(""))
	}
	if used := k.Tokens()[0].Used; used.IsZero() {
		t.Error("the use of a token is forgotten at a restart")
	}
	tokens, _ := k.store.AccessTokens(t.Context())
	_, secret, _ := splitToken(long)
	if text := fmt.Sprint(tokens); strings.Contains(text, secret) || !strings.Contains(text, hashOf(secret)) {
		t.Errorf("the records: %s", text)
	}
}

// TestRevoked: a revoked token ends its sessions, those that came of them by a link, links
// that wait, and everything that is done by any of them, at once and after a restart.
func TestRevoked(t *testing.T) {
	k := newKit(t)
	token := k.token(t, "mara", 0)
	first, _, err := k.SignInByToken(t.Context(), token, "")
	if err != nil {
		t.Fatal(err)
	}
	who, _ := k.Session(first)
	code, _, err := k.Link(who, 0)
	if err != nil {
		t.Fatal(err)
	}
	waiting, _, _ := k.Link(who, 0)
	second, _, err := k.SignInByLink(t.Context(), code, "")
	if err != nil {
		t.Fatal(err)
	}
	byLink, _ := k.Session(second)
	if byLink.Name != "mara" || byLink.Role != Editor {
		t.Errorf("by a link: %+v", byLink)
	}
	if err := k.RevokeToken(t.Context(), "mara"); err != nil {
		t.Fatal(err)
	}
	for _, w := range []Who{who, byLink} {
		if w.Ended.Err() == nil {
			t.Error("what is done by it goes on")
		}
	}
	if _, _, err := k.SignInByLink(t.Context(), waiting, ""); !errors.As(err, &Failed{}) {
		t.Errorf("a link that waited: %v", err)
	}
	if _, _, err := k.SignIn(t.Context(), who, "late", ""); !errors.As(err, &Failed{}) {
		t.Errorf("a session that begins at the same time: %v", err)
	}
	for range 2 {
		if k.isGood(token) || k.isSigned(first) || k.isSigned(second) {
			t.Error("it is good after it was revoked")
		}
		k.open(t)
	}
	if err := k.RevokeToken(t.Context(), "mara"); err == nil {
		t.Error("it is revoked twice")
	}
}

// TestLimits: names, roles, times and numbers of credentials.
func TestLimits(t *testing.T) {
	k := newKit(t)
	for _, w := range []Wanted{
		{Name: "", Role: Viewer}, {Name: "a b", Role: Viewer}, {Name: "mara@ferry.example", Role: Viewer}, {Name: strings.Repeat("x", 64), Role: Viewer},
		{Name: "x"}, {Name: "x", Role: "captain"}, {Name: "x", Role: Anyone}, {Name: "x", Role: Viewer, For: time.Second}, {Name: "x", Role: Viewer, For: -1}, {Name: "x", Role: Viewer, For: 500 * 24 * time.Hour},
	} {
		if _, _, err := k.CreateToken(t.Context(), w); err == nil {
			t.Errorf("%+v is made", w)
		}
	}
	token := k.token(t, "mara", 0)
	if _, _, err := k.CreateToken(t.Context(), Wanted{Name: "mara", Role: Admin}); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("a second mara: %v", err)
	}
	oldest, _, _ := k.SignInByToken(t.Context(), token, "")
	for range sessionsOf {
		k.pass(time.Second)
		if _, _, err := k.SignInByToken(t.Context(), token, strings.Repeat("long", 100)+"\x00"); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(k.Sessions("mara")); n != sessionsOf || k.isSigned(oldest) {
		t.Errorf("%d sessions, the oldest is good: %v", n, k.isSigned(oldest))
	}
	if p := k.Sessions("mara")[0].Program; len(p) > 120 || strings.Contains(p, "\x00") {
		t.Errorf("the program: %q", p)
	}
	guest := Who{Name: "vera", Role: Viewer, Credential: "token x"}
	first, _, _ := k.Link(guest, 24*time.Hour)
	var last string
	for range maxLinks {
		k.pass(time.Second)
		code, _, err := k.Link(guest, 24*time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		last = code
	}
	if _, _, err := k.Link(Who{Name: "root", Role: Admin, Credential: Local}, 0); err != nil {
		t.Errorf("one person has taken the links of all: %v", err)
	}
	if _, _, err := k.SignInByLink(t.Context(), first, ""); err == nil {
		t.Error("the first of too many links of one person is good")
	}
	if _, _, err := k.SignInByLink(t.Context(), last, ""); err != nil {
		t.Errorf("the last of them: %v", err)
	}
	for i := len(k.Sessions("")); i < maxSessions; i++ { // past the store: a row each takes long
		k.add(ofSession(store.Session{ID: fmt.Sprint(i), Hash: fmt.Sprint(i), Name: fmt.Sprint(i), Expires: k.now().Add(time.Hour)}))
	}
	other := k.token(t, "nils", 0)
	if _, _, err := k.SignInByToken(t.Context(), other, ""); err == nil || !strings.Contains(err.Error(), "as many as there may be") {
		t.Errorf("a session over the limit of all: %v", err)
	}
	if _, _, err := k.SignInByToken(t.Context(), token, ""); err != nil || len(k.Sessions("")) != maxSessions {
		t.Errorf("the oldest of mara does not make room for her next: %v, %d", err, len(k.Sessions("")))
	}
	k.pass(2 * time.Hour)
	k.Tidy(t.Context())
	if _, _, err := k.SignInByToken(t.Context(), other, ""); err != nil {
		t.Errorf("sessions that ran out still count: %v", err)
	}
}

// TestFloods: attempts from anywhere cannot fill the log, nor the memory, and shut nobody
// out; a flood is summed up when it is over.
func TestFloods(t *testing.T) {
	k := newKit(t)
	good := k.token(t, "mara", 0)
	bad := "nightjar-token-" + strings.Repeat("a", idLetters) + "-" + strings.Repeat("b", 43)
	many := 0
	for i := range 20_000 {
		_, err := k.Token(bad, fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255))
		if f := (Failed{}); errors.As(err, &f) && f.Many {
			many++
		}
	}
	for i := range 1000 { // one machine that has all addresses of its network
		k.Token("x", fmt.Sprintf("2001:db8::%x", i))
	}
	if !k.isGood(good) || many < 19_000 {
		t.Errorf("a good token: %v; %d of 20000 were too many", k.isGood(good), many)
	}
	if n := len(k.attempts.by); n > maxTried+2 {
		t.Errorf("%d places are remembered", n)
	}
	k.pass(2 * window)
	if err := k.Tidy(t.Context()); err != nil || len(k.attempts.by) != 0 {
		t.Errorf("%v; %d places after it is over", err, len(k.attempts.by))
	}
	if err := k.Journal.Write(t.Context()); err != nil {
		t.Fatal(err)
	}
	list, err := k.store.Activity(t.Context(), store.ActivityFilter{Kind: "sign-in-failed", Limit: 200})
	if err != nil || len(list) > noteBurst+notesEach*3 {
		t.Errorf("%d entries, %v", len(list), err)
	}
	found := false
	for _, e := range list {
		found = found || strings.Contains(e.Detail, "attempts within a minute")
	}
	if !found {
		t.Errorf("no entry sums up: %+v", list[0])
	}
	for range 100 {
		k.Refuse(actor.With(t.Context(), actor.Actor{Name: "mara", Credential: "token x"}), "publish", "needs the role editor")
	}
	k.Journal.Write(t.Context())
	list, _ = k.store.Activity(t.Context(), store.ActivityFilter{Kind: "refused", Limit: 200})
	if len(list) == 0 || len(list) > 2 || list[0].Result != store.ResultRefused || list[0].Who != "mara" {
		t.Errorf("refused: %+v", list)
	}
}

// BenchmarkSession is the check of a session among ten thousand.
func BenchmarkSession(b *testing.B) {
	k := newKit(b)
	var secret string
	for i := range 10_000 {
		secret = newSecret()
		k.add(ofSession(store.Session{ID: fmt.Sprint(i), Hash: hashOf(secret), Name: "mara", Role: "editor", Expires: k.now().Add(time.Hour)}))
	}
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if !k.isSigned(secret) {
				b.Fatal("it is not good")
			}
		}
	})
}
