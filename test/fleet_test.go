package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"nightjar/api/model"
)

// convoy is a fleet of processes that takes programs.
type convoy struct {
	*pair
	dir     string
	outward string // where kiosk calls
}

const convoySize = 6

func startConvoy(t *testing.T) *convoy {
	addr := freeBase(t)
	c := &convoy{pair: &pair{data: t.TempDir()}, dir: t.TempDir()}
	c.service = start(t, "Console and API", "serve", "--listen", addr, "--data", c.data)
	c.mesh = newMesh(t, c.service, addr)
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "lamp") }))
	t.Cleanup(app.Close)
	c.outward = "127.0.0.1:" + strings.Split(freeBase(t), ":")[1]
	state := t.TempDir()
	// Those that take over are no children of the test: it ends whatever is registered then.
	t.Cleanup(func() {
		f, err := c.api.Fleet(context.Background())
		if err != nil {
			return
		}
		for _, m := range f.Proxies {
			if m.Build != "" {
				syscall.Kill(m.PID, syscall.SIGTERM)
			}
		}
	})
	run := func(args ...string) {
		cmd := exec.Command(binary, append([]string{"proxy", "--server", addr, "--state", state, "--drain", "2s"}, args...)...)
		cmd.Dir = ".."
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		go cmd.Wait()
	}
	for i := range convoySize {
		site := []string{"north", "south"}[i%2]
		run("--service", "lamp", "--version", "v1", "--site", site, "--name", fmt.Sprintf("lamp-%d", i), "--app", strings.TrimPrefix(app.URL, "http://"))
	}
	run("--service", "kiosk", "--version", "v1", "--site", "south", "--name", "kiosk-a", "--outbound", c.outward)
	eventually(t, "the fleet", func() bool { return len(c.builds()) == 1 && c.builds()[c.only()] == convoySize+1 })
	return c
}

// builds is how many proxies run each program.
func (c *convoy) builds() map[string]int {
	f, err := c.api.Fleet(c.t.Context())
	if err != nil {
		c.t.Fatal(err)
	}
	out := map[string]int{}
	for _, p := range f.Proxies {
		if p.Build != "" && follows(p) {
			out[p.Build]++
		}
	}
	return out
}

func (c *convoy) only() (hash string) {
	for hash = range c.builds() {
	}
	return hash
}

// script is a program that runs another one, after some lines of shell.
func (c *convoy) script(name, lines, program string) string {
	c.t.Helper()
	path := filepath.Join(c.dir, name)
	if err := os.WriteFile(path, []byte("#!/bin/bash\n"+lines+"\nexec "+program+" \"$@\"\n"), 0o755); err != nil {
		c.t.Fatal(err)
	}
	return path
}

// TestFleetUpgrades: the fleet takes a program in waves, without a failed request; one that
// cannot start, fails, leaks or ends is stopped in the first wave, taken back, and said why.
func TestFleetUpgrades(t *testing.T) {
	t.Parallel()
	c := startConvoy(t)
	first := c.only()
	stop := load(t, c.outward, "lamp", "/")
	next := c.script("next", "", binary)
	out := c.must(0, "fleet", "upgrade", "--program", next, "--waves", "20%,60%,100%", "--each", "1s")
	for _, want := range []string{"wave 1 of 3: 2 of 2", "wave 2 of 3: 3 of 3", "wave 3 of 3: 2 of 2", "completed: all 7 proxies"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
	second := c.only()
	if c.builds()[second] != convoySize+1 || second == first {
		t.Errorf("the fleet runs %v", c.builds())
	}
	// All go back, when a person says so.
	l, err := c.api.Upgrades(t.Context())
	if err != nil || len(l.Upgrades) != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	if _, err := c.api.TakeBackUpgrade(t.Context(), l.Upgrades[0].Number); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the way back", func() bool {
		l, err := c.api.Upgrades(t.Context())
		return err == nil && l.Upgrades[0].Ended != nil && c.builds()[first] == convoySize+1
	})
	if sent, bad := stop(); len(bad) > 0 || sent < 100 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}

	wrong := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(500) }))
	defer wrong.Close()
	for _, bad := range []struct{ name, program, why string }{
		{"it cannot start", c.script("crashes", "exit 3", binary), "start: "},
		{"it answers 500", c.script("fails", `args=()
while [ $# -gt 0 ]; do
	if [ "$1" = --app ]; then args+=(--app `+strings.TrimPrefix(wrong.URL, "http://")+`); shift 2; else args+=("$1"); shift; fi
done
set -- "${args[@]}"`, binary), "success: "},
		{"it leaks", c.script("leaks", "export FAULT=leaks", faulty), "memory: "},
		{"it ends", c.script("ends", "export FAULT=ends", faulty), "restarts: "},
	} {
		stop := load(t, c.outward, "lamp", "/")
		out, _, code := c.run("fleet", "upgrade", "--program", bad.program, "--waves", "50%,100%", "--each", "20s")
		stop()
		if code != 1 || !strings.Contains(out, bad.why) || strings.Contains(out, "wave 2") {
			t.Errorf("%s: exit %d\n%s", bad.name, code, out)
		}
		if bad.why == "restarts: " { // nothing starts those again here
			break
		}
		eventually(t, bad.name+": the way back", func() bool { return c.builds()[first] == convoySize+1 })
	}
}

// TestFleetUpgradesAreChecked: what makes no sense is refused, and an upgrade of a site leaves
// the others alone.
func TestFleetUpgradesAreChecked(t *testing.T) {
	t.Parallel()
	c := startConvoy(t)
	first := c.only()
	next := c.script("next", "", binary)
	for _, bad := range []struct {
		args []string
		why  string
	}{
		{nil, "name the program"},
		{[]string{"--program", "/nowhere"}, "no such file"},
		{[]string{"--program", c.dir}, "not a file that can be run"},
		{[]string{"--program", next, "--waves", "50%,20%"}, "not a share above the one before"},
		{[]string{"--program", next, "--waves", "50%"}, "the last wave is 100%"},
		{[]string{"--program", next, "--each", "1ms"}, "not a time from 1s"},
		{[]string{"--program", next, "--site", "west"}, "no proxy takes this program"},
		{[]string{"--program", binary}, "or all have it"},
	} {
		if _, errs, code := c.run(append([]string{"fleet", "upgrade"}, bad.args...)...); code == 0 || !strings.Contains(errs, bad.why) {
			t.Errorf("%v: exit %d: %s", bad.args, code, errs)
		}
	}
	f, err := os.Open(next)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	p, err := c.api.UploadProgram(t.Context(), f, -1)
	if err != nil {
		t.Fatal(err)
	}
	// What somebody has changed on its way is not run.
	kept := filepath.Join(c.data, "programs", p.Hash)
	if err := os.WriteFile(kept, []byte("#!/bin/sh\nexit 0\n"+strings.Repeat("#", int(p.Size)-17)), 0o600); err != nil {
		t.Fatal(err)
	}
	u, err := c.api.StartUpgrade(t.Context(), model.UpgradeRequest{Hash: p.Hash, Name: "next", Waves: []string{"100%"}, Each: "1s"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.api.StartUpgrade(t.Context(), model.UpgradeRequest{Hash: p.Hash}); err == nil || !strings.Contains(err.Error(), "is under way") {
		t.Errorf("two at once: %v", err)
	}
	eventually(t, "its end", func() bool {
		l, err := c.api.Upgrades(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		u = l.Upgrades[0]
		return u.Ended != nil
	})
	if u.State != model.UpgradeTakenBack || !strings.Contains(u.Why, "another one than was signed") || c.builds()[first] != convoySize+1 {
		t.Errorf("it is %s: %s; %v", u.State, u.Why, c.builds())
	}
	c.must(0, "fleet", "upgrade", "--program", c.script("north", "# north", binary), "--site", "north", "--waves", "100%", "--each", "1s")
	if c.builds()[first] != convoySize/2+1 {
		t.Errorf("at one site: %v", c.builds())
	}

	// The same sites give their requests away and take them back.
	d, err := c.api.DrainSite(t.Context(), "north", "")
	if err != nil || len(d.Stays) > 0 {
		t.Errorf("%+v, %v", d, err)
	}
	stop := load(t, c.outward, "lamp", "/")
	counted := func(seconds int) (north, south uint64) {
		l, err := c.api.Sites(t.Context(), seconds, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, tr := range l.Traffic {
			if tr.To == "north" {
				north += tr.Figures.Requests
			} else {
				south += tr.Figures.Requests
			}
		}
		return north, south
	}
	eventually(t, "the drain reaches the caller's proxy", func() bool {
		north, south := counted(1)
		return north == 0 && south > 0
	})
	time.Sleep(2 * time.Second)
	if north, south := counted(2); north > 0 || south == 0 {
		t.Errorf("%d requests went to a site that is drained, %d to the other", north, south)
	}
	if sent, bad := stop(); len(bad) > 0 || sent < 20 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
	if _, err := c.api.ResumeSite(t.Context(), "north", ""); err != nil {
		t.Error(err)
	}
}
