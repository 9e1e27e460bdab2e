package test

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/test/browser"
	"nightjar/test/provider"
)

// TestPeople: an admin invites a viewer and an editor; each may do in the terminal and in
// the console what their role lets them, and what they did has their name. A revoked
// token ends what is done by it.
func TestPeople(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	server := []string{"--server", m.web}
	as := func(token string, want int, args ...string) string {
		t.Helper()
		out, errs, code := runAs(t, token, "", append(args, server...)...)
		if code != want {
			t.Errorf("nightjar %v: exit %d, want %d: %s%s", args, code, want, out, errs)
		}
		return out + errs
	}
	invite := func(name, role string) string {
		t.Helper()
		return strings.TrimSpace(as(m.token, 0, "token", "create", name, "--role", role, "--for", "30d"))
	}
	viewer, editor := invite("vera", "viewer"), invite("edda", "editor")
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) { t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) }

	step("without a token nobody gets in", func(t *testing.T) {
		for _, args := range [][]string{{"services"}, {"split", "fares", "v1=50", "v2=50"}, {"doctor"}, {"requests"}} {
			if out := as("", 4, args...); !strings.Contains(out, "sign in first") {
				t.Errorf("%v: %s", args, out)
			}
		}
		for _, bad := range []string{"x", viewer + "x", strings.Replace(viewer, "a", "b", 1)} {
			if bad != viewer {
				as(bad, 4, "services")
			}
		}
	})
	step("a viewer looks, and is told what they may not", func(t *testing.T) {
		if out := as(viewer, 0, "who"); !strings.HasPrefix(out, "vera, viewer, until ") || !strings.Contains(out, "by token ") {
			t.Errorf("who: %s", out)
		}
		as(viewer, 0, "services")
		as(viewer, 0, "explain", "GET", "http://sailings/sailings/today")
		for _, args := range [][]string{{"split", "fares", "v1=50", "v2=50"}, {"call", "http://fares/", "-n", "1"}, {"token", "list"}, {"ca", "rotate"}, {"drill", "start", "--service", "fares", "--fail", "1%", "--for", "1s"}} {
			if out := as(viewer, 4, args...); !strings.Contains(out, "vera is a viewer, and this needs an ") {
				t.Errorf("%v: %s", args, out)
			}
		}
		if out := as(m.token, 0, "activity", "--about", "people", "--who", "vera", "-o", "wide"); !strings.Contains(out, "refused") || !strings.Contains(out, "needs the role editor") || !strings.Contains(out, "127.0.0.1") {
			t.Errorf("what was refused: %s", out)
		}
	})
	step("an editor changes rules, under their name, and nobody else's tokens", func(t *testing.T) {
		as(editor, 0, "split", "fares", "v1=70", "v2=30", "--message", "more of v2")
		if out := as(viewer, 0, "rules", "log"); !strings.Contains(out, "edda") {
			t.Errorf("log: %s", out)
		}
		as(editor, 4, "token", "create", "friend", "--role", "admin")
	})
	step("signing in keeps a token, and signing out forgets it", func(t *testing.T) {
		config := t.TempDir()
		command := func(stdin string, args ...string) (string, int) {
			cmd := exec.CommandContext(t.Context(), binary, append(args, server...)...)
			cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
			cmd.Stdin = strings.NewReader(stdin)
			out, _ := cmd.CombinedOutput()
			return string(out), cmd.ProcessState.ExitCode()
		}
		if out, code := command("", "sign-in"); code != 2 || !strings.Contains(out, "there is no token") {
			t.Errorf("without a token: %d %s", code, out)
		}
		if out, code := command("nonsense\n", "sign-in"); code != 4 || !strings.Contains(out, "no access token") {
			t.Errorf("with nonsense: %d %s", code, out)
		}
		if out, code := command(viewer+"\n", "sign-in"); code != 0 || !strings.Contains(out, "as vera, viewer") {
			t.Errorf("signed in: %d %s", code, out)
		}
		file := filepath.Join(config, "nightjar", "sign-ins.json")
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("the file: %v, %v", info, err)
		}
		if out, code := command("", "who"); code != 0 || !strings.HasPrefix(out, "vera") {
			t.Errorf("who: %d %s", code, out)
		}
		if _, code := command("", "sign-out"); code != 0 {
			t.Error("not signed out")
		}
		if out, code := command("", "who"); code != 4 {
			t.Errorf("after signing out: %d %s", code, out)
		}
		os.WriteFile(file, []byte("{"), 0o600)
		if out, code := command("", "who"); code != 1 || !strings.Contains(out, "Remove it, and sign in again") {
			t.Errorf("with a broken file: %d %s", code, out)
		}
	})
	step("the console asks who is there", func(t *testing.T) {
		b.click("who")
		b.click("sign-out")
		b.until("document.querySelector('[data-test=sign-in]')")
		b.visit("/services/fares?tab=routes")
		b.enter("[data-test=token]", "nonsense")
		b.click("sign-in-go")
		b.says("[data-test=sign-in-error]", "no access token")
		b.enter("[data-test=token]", viewer)
		b.click("sign-in-go")
		b.until("document.querySelector('[data-test=who]')?.innerText.includes('vera')")
		b.until("location.pathname === '/services/fares' && document.querySelector('[data-test=route-all]')")
		if b.now("document.querySelector('[data-test=handle-0], [data-test=edit-all], [data-test=add-route]')") {
			t.Error("a viewer can move weights")
		}
		b.visit("/rules")
		b.says("[data-test=needs-editor]", "to edit and publish rules")
		b.until("document.querySelector('.cm-content')?.getAttribute('aria-readonly') === 'true'")
		b.visit("/people")
		b.says("[data-test='table-sessions']", "vera (here)")
		if b.now("document.querySelector('[data-test=new-token]')") {
			t.Error("a viewer can make tokens")
		}
	})
	step("a revoked token ends what is done by it", func(t *testing.T) {
		follow := exec.CommandContext(t.Context(), binary, append([]string{"requests"}, server...)...)
		follow.Env = append(os.Environ(), "NIGHTJAR_TOKEN="+viewer)
		said := &strings.Builder{}
		follow.Stderr = said
		if err := follow.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, "it follows", func() bool {
			l, err := m.api.AccessTokens(t.Context())
			return err == nil && len(l.Tokens) == 3
		})
		time.Sleep(time.Second)
		as(m.token, 0, "token", "revoke", "vera")
		begun := time.Now()
		ended := make(chan error, 1)
		go func() { ended <- follow.Wait() }()
		b.until("document.querySelector('[data-test=sign-in]')")
		console := time.Since(begun)
		select {
		case <-ended:
		case <-time.After(patience):
			t.Fatal("the command goes on")
		}
		if took := time.Since(begun); took > 2*time.Second || console > 2*time.Second || follow.ProcessState.ExitCode() != 4 || !strings.Contains(said.String(), "was revoked") {
			t.Errorf("the command ended after %s, exit %d, saying %s; the console after %s", took, follow.ProcessState.ExitCode(), said, console)
		}
		as(viewer, 4, "who")
	})
	step("an admin makes and revokes tokens in the console", func(t *testing.T) {
		b.signIn(m.api)
		b.visit("/people")
		b.says("[data-test='table-tokens']", "edda")
		b.click("new-token")
		b.enter("[data-test=token-name]", "not a name")
		b.click("token-make")
		b.says("[data-test=token-error]", "cannot be the name of a token")
		b.enter("[data-test=token-name]", "mara")
		b.click("token-make")
		b.says("[data-test=made-token]", "nightjar-token-")
		text, err := browser.Text(b.ctx, "[data-test=made-token] code")
		if err != nil {
			t.Fatal(err)
		}
		as(text, 0, "who")
		b.click("token-close")
		b.click("revoke-mara")
		b.click("act-confirm")
		b.until("!document.querySelector('[data-test=revoke-mara]')")
		as(text, 4, "who")
		l, err := m.api.Sessions(t.Context())
		if err != nil || len(l.Sessions) == 0 {
			t.Fatal(l, err)
		}
		as(m.token, 0, "session", "end", l.Sessions[0].ID)
		b.until("document.querySelector('[data-test=sign-in]')")
		as(m.token, 0, "session", "list")
	})
	step("the activity of people is whole", func(t *testing.T) {
		b.signIn(m.api)
		b.visit("/activity?verify=yes&about=people")
		b.says("[data-test=chain]", "Nothing was changed")
		b.says("[data-test=activity]", "access-token-revoked")
		b.clickOn("[...document.querySelectorAll('[data-test=activity] [role=row]')].find((r) => r.textContent.includes('access-token-revoked'))")
		b.says("[data-test=entry]", "Credential")
		file := filepath.Join(t.TempDir(), "activity.jsonl")
		text := as(m.token, 0, "activity", "export")
		write(t, filepath.Dir(file), filepath.Base(file), text)
		if out := as("", 0, "activity", "verify", file); !strings.Contains(out, "follow each other") {
			t.Errorf("verify: %s", out)
		}
		write(t, filepath.Dir(file), filepath.Base(file), strings.Replace(text, `"who":"edda"`, `"who":"vera"`, 1))
		if out := as("", 1, "activity", "verify", file); !strings.Contains(out, "was changed") {
			t.Errorf("verify what was changed: %s", out)
		}
		as(m.token, 0, "activity", "verify")
		if out := as(m.token, 0, "activity", "--what", "split", "--since", "1h", "-o", "json"); !strings.Contains(out, `"who": "edda"`) {
			t.Errorf("what: %s", out)
		}
		as(m.token, 2, "activity", "--since", "yesterday")
	})
}

// TestSignOn: people sign in by a provider of identities, in the console and in a terminal,
// with the role of their groups; a provider that is away is said so.
func TestSignOn(t *testing.T) {
	t.Parallel()
	p := provider.Start()
	t.Cleanup(p.Close)
	addr, dir := freeBase(t), t.TempDir()
	file := write(t, dir, "sign-on.yaml", p.Config("http://"+addr))
	m := newMesh(t, start(t, "Console and API", "serve", "--listen", addr, "--data", t.TempDir(), "--sign-on", file), addr)
	b := openTab(t, m)
	b.click("who")
	b.click("sign-out")
	b.until("document.querySelector('[data-test=sign-on]')")
	at := func(path string) { b.do(chromedp.Navigate("http://" + addr + path)) }
	p.Change(func(p *provider.Provider) { p.Away = true })
	at("/sign-on")
	b.says("[data-test=sign-in-error]", "does not respond")
	p.Change(func(p *provider.Provider) { p.Away = false })
	time.Sleep(2 * time.Second)
	at("/people")
	b.until("document.querySelector('[data-test=sign-on]')")
	b.click("sign-on")
	b.until("document.querySelector('[data-test=who]')?.innerText.includes('mara@ferry.example')")
	b.until("location.pathname === '/'")
	at("/people")
	b.says("[data-test='table-sessions']", "mara@ferry.example (here)")

	config := t.TempDir()
	command := func(args ...string) *exec.Cmd {
		cmd := exec.CommandContext(t.Context(), binary, append(args, "--server", m.web)...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
		return cmd
	}
	in := command("sign-in", "--browser")
	asked, err := in.StderrPipe()
	if err == nil {
		err = in.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	line, err := bufio.NewReader(asked).ReadString('\n')
	if err != nil || !strings.Contains(line, "/allow?code=TIDE-7600 in a browser") {
		t.Fatalf("it says %q, %v", line, err)
	}
	p.Change(func(p *provider.Provider) { p.Allowed = true })
	if err := in.Wait(); err != nil {
		t.Fatal(err)
	}
	out, err := command("who").CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), "mara@ferry.example, editor, until") {
		t.Errorf("who: %s, %v", out, err)
	}
	m.must(0, "session", "end", "mara@ferry.example")
	b.until("document.querySelector('[data-test=sign-in]')")
	if out, err := command("who").CombinedOutput(); err == nil {
		t.Errorf("after the sessions were ended: %s", out)
	}
	p.Change(func(p *provider.Provider) { p.Claims["groups"] = []string{"cooks"} })
	b.click("sign-on")
	b.says("[data-test=sign-in-error]", "no group of yours has a role here")
	if out := m.must(0, "activity", "--what", "sign-in"); !strings.Contains(out, "sign-in-failed") || !strings.Contains(out, "they are in: cooks") {
		t.Errorf("activity: %s", out)
	}
	if out := m.must(2, "sign-in", "--browser", "--token-file", "none"); !strings.Contains(out, "--token-file") {
		t.Errorf("a file that is not there: %s", out)
	}
}

// TestTamperedLog: what somebody changes in the records behind the back of the service is
// found.
func TestTamperedLog(t *testing.T) {
	t.Parallel()
	addr, data := freeBase(t), t.TempDir()
	m := startService(t, addr, data)
	m.must(0, "activity", "verify")
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "nightjar.db")+"?_busy_timeout=5000")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE activity SET who = 'somebody' WHERE kind = 'access-token-created'"); err != nil {
		t.Fatal(err)
	}
	if out := m.must(1, "activity", "verify"); !strings.Contains(out, "was changed") {
		t.Errorf("verify: %s", out)
	}
}

// TestAnyAddress: on an address that other machines reach, people and proxies connect by
// TLS at one port, and nothing is done without it.
func TestAnyAddress(t *testing.T) {
	t.Parallel()
	base := freeBase(t)
	_, port, _ := net.SplitHostPort(base)
	data := t.TempDir()
	p := start(t, "Other machines: nightjar sign-in", "serve", "--listen", "0.0.0.0:"+port, "--data", data, "--name", "nightjar.ferry.example")
	if out, errs, code := runIn(t, "", "who", "--server", base); code != 0 || !strings.Contains(out, "the user of the service's machine") {
		t.Errorf("by the socket: %d %s%s", code, out, errs)
	}
	token, _, _ := runIn(t, "", "token", "create", "mara", "--role", "editor", "--server", base)
	token = strings.TrimSpace(token)
	_, rest, _ := strings.Cut(p.said(), "--authority ")
	print := strings.Fields(rest)[0]
	secure := "https://" + base
	c := clientOf(t, secure, client.Token(token), client.Authority(print))
	if w, err := c.Who(t.Context()); err != nil || w.Name != "mara" {
		t.Errorf("by TLS: %+v, %v", w, err)
	}
	var gone *client.Unreachable
	for name, bad := range map[string]*client.Client{
		"no authority":      clientOf(t, secure, client.Token(token)),
		"another authority": clientOf(t, secure, client.Token(token), client.Authority(strings.Repeat("0", 64))),
		"another name":      clientOf(t, strings.Replace(secure, "127.0.0.1", "127.0.0.2", 1), client.Token(token), client.Authority(print)),
	} {
		if _, err := bad.Who(t.Context()); !errors.As(err, &gone) || !client.IsUntrusted(err) {
			t.Errorf("%s: %v", name, err)
		}
	}
	root, _, _ := runIn(t, "", "ca", "export", "--server", base)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(root))
	jar, _ := cookiejar.New(nil)
	h2 := &http.Client{Jar: jar, Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: pool, ServerName: "nightjar.ferry.example"}}}
	resp, err := h2.Post(secure+"/api/v1/sessions", "application/json", strings.NewReader(`{"token":"`+token+`"}`))
	if err != nil || resp.StatusCode != 201 || resp.ProtoMajor != 2 {
		t.Fatalf("signing in by HTTP/2: %v, %v", resp, err)
	}
	resp.Body.Close()
	for _, one := range resp.Cookies() {
		if !one.Secure || !one.HttpOnly || one.Name != "__Host-nightjar-"+port {
			t.Errorf("the cookie: %+v", one)
		}
	}
	if resp, err = h2.Get(secure + "/api/v1/who"); err != nil || resp.StatusCode != 200 {
		t.Errorf("with the cookie: %v, %v", resp, err)
	}
	resp.Body.Close()

	old, err := tls.Dial("tcp", base, &tls.Config{RootCAs: pool, ServerName: "nightjar.ferry.example", NextProtos: []string{"http/1.0"}})
	if err != nil {
		t.Fatalf("a caller that offers HTTP/1.0 alone: %v", err)
	}
	defer old.Close()
	fmt.Fprintf(old, "GET /api/v1/who HTTP/1.0\r\nAuthorization: Bearer %s\r\n\r\n", token)
	if b, err := io.ReadAll(old); err != nil || !strings.HasPrefix(string(b), "HTTP/1.0 200 ") || !strings.Contains(string(b), `"mara"`) {
		t.Errorf("by HTTP/1.0: %q, %v", b, err)
	}

	plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, c := range []struct {
		method, path, auth string
		status             int
	}{{"GET", "/people", "", 308}, {"GET", "/api/v1/who", "", 403}, {"POST", "/api/v1/sessions", "", 403}, {"GET", "/people", "Bearer " + token, 403}} {
		req, _ := http.NewRequest(c.method, "http://"+base+c.path, nil)
		if c.auth != "" {
			req.Header.Set("Authorization", c.auth)
		}
		resp, err := plain.Do(req)
		if err != nil || resp.StatusCode != c.status || c.status == 308 && resp.Header.Get("Location") != secure+"/people" {
			t.Errorf("plain %s %s: %v, %v", c.method, c.path, resp, err)
			continue
		}
		resp.Body.Close()
	}

	app := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(app.Close)
	start(t, "proxy ready", "proxy", "--server", base, "--service", "lamp", "--version", "v1", "--name", "lamp-a", "--app", strings.TrimPrefix(app.URL, "http://"))
	eventually(t, "the proxy is there", func() bool {
		f, err := c.Fleet(context.Background())
		return err == nil && strings.Contains(fmt.Sprint(f), "lamp-a")
	})
	var out model.JoinToken
	text, errs, code := runIn(t, "", "join-token", "create", "--service", "lamp", "--server", base, "-o", "json")
	if code == 0 || !strings.Contains(errs, "--reach") || json.Unmarshal([]byte(text), &out) == nil {
		t.Errorf("a join token for an address that nobody knows: %d %s%s", code, text, errs)
	}
	if _, errs, code := runIn(t, "", "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir(), "--tls-cert", "x"); code != 1 || !strings.Contains(errs, "belong together") {
		t.Errorf("half a certificate: %d %s", code, errs)
	}
}
