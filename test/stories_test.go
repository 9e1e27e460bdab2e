package test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
)

// TestStories plays the sample mesh through the command line, in the order in
// which a person would.
func TestStories(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")

	t.Run("the sample is in force", func(t *testing.T) {
		if out := m.must(0, "services"); !strings.Contains(out, fmt.Sprintf("Revision %d in force in 12 of 12 proxies", m.revision())) {
			t.Errorf("services:\n%s", out)
		}
		if got := m.call(200, "http://sailings/sailings/today"); answers(got) != "v1=170 v2=30" || got.Versions[0].Verdict != model.ShareAsExpected {
			t.Errorf("85/15 over 200: %s", answers(got))
		}
	})
	t.Run("a cohort by header, and nobody else", func(t *testing.T) {
		if got := m.call(40, "http://sailings/sailings/today", "-H", "x-crew: yes"); answers(got) != "v3=40" {
			t.Errorf("crew: %s", answers(got))
		}
		if got := m.call(100, "http://sailings/sailings/today", "-H", "x-crew: no", "--from", "kiosk"); answers(got) != "v1=85 v2=15" {
			t.Errorf("others: %s", answers(got))
		}
	})
	t.Run("weights are between versions, whatever their instances", func(t *testing.T) {
		got := m.call(200, "http://berths/berths/free")
		if answers(got) != "v1=100 v2=100" || got.Instances["berths-v1-a"] != 50 || got.Instances["berths-v1-b"] != 50 {
			t.Errorf("berths: %s, %v", answers(got), got.Instances)
		}
	})
	t.Run("shifting under load fails no request", func(t *testing.T) {
		stop := load(t, m.outbound(""), "berths", "/berths/free")
		for _, split := range []string{"v1=100", "v2=100", "v1=85 v2=15", "v1=30 v2=70", "v1=0 v2=100", "v1=33.333 v2=66.667", "v1=50 v2=50"} {
			out := m.must(0, append([]string{"split", "berths"}, strings.Fields(split)...)...)
			if !strings.Contains(out, "in force in all 12 connected proxies") {
				t.Errorf("split %s: %s", split, out)
			}
		}
		if got := m.call(100, "http://berths/berths/free"); got.Versions[0].Verdict != model.ShareAsExpected {
			t.Errorf("after the last: %s", answers(got))
		}
		if sent, bad := stop(); len(bad) > 0 || sent < 20 {
			t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
		}
	})
	t.Run("explain names the file and line", func(t *testing.T) {
		out := m.must(0, "explain", "GET", "http://tickets.ferry.example/sailings/today", "-H", "x-crew: yes")
		for _, want := range []string{"enters at the gateway front-door", "skipped", "expected path /, found /sailings/today", `header x-crew is "yes"`, "sailings/v3", "100.0%",
			"examples/ferry/rules.yaml:14"} {
			if !strings.Contains(out, want) {
				t.Errorf("lacks %q:\n%s", want, out)
			}
		}
	})
	t.Run("three mistakes in one run, and nothing is published", func(t *testing.T) {
		dir := t.TempDir()
		write(t, dir, "a.yaml", "services:\n  sailings:\n    versions: [v1, v2]\n    routes:\n      - {name: r, when: {path: /a}, send: {v1: 80, v2: 15}}\n      - {name: s, send: v7}\n")
		write(t, dir, "b.yaml", "services:\n  sailings: {versions: [v1]}\n")
		write(t, dir, "notes.txt", "not rules")
		before := m.must(0, "rules", "log")
		out := m.must(1, "rules", "publish", dir)
		for _, want := range []string{"weights: the weights add to 95", "unknown-version: service sailings declares no version v7", "declared-twice: service sailings", "a.yaml:5:43", "b.yaml:2:3", "nothing was published", " ^\n"} {
			if !strings.Contains(out, want) {
				t.Errorf("lacks %q:\n%s", want, out)
			}
		}
		if out := m.must(1, "rules", "check", dir, "-o", "json"); !strings.Contains(out, `"mistakes": 3`) {
			t.Errorf("check: %s", out)
		}
		if after := m.must(0, "rules", "log"); after != before {
			t.Errorf("the log changed:\n%s", after)
		}
	})
	t.Run("a file that is saved and not published is told everywhere", func(t *testing.T) {
		file := write(t, t.TempDir(), "rules.yaml", strings.Replace(m.must(0, "rules", "show"), "timeout: 26s", "timeout: 27s", 1))
		if out := m.must(1, "rules", "diff", file); !strings.Contains(out, "services.sailings.timeout") {
			t.Errorf("diff:\n%s", out)
		}
		m.must(0, "rules", "check", file)
		if out := m.must(0, "services"); strings.Contains(out, "Not published") {
			t.Errorf("a check that nobody wanted remembered:\n%s", out)
		}
		other := write(t, t.TempDir(), "pipeline.yaml", "services: {}\n")
		if _, errs, code := m.run("rules", "check", other, "--remember"); code != 2 || !strings.Contains(errs, "nothing was remembered") {
			t.Errorf("files of something else: exit %d\n%s", code, errs)
		}
		m.must(0, "rules", "check", file, "--remember")
		if out := m.must(0, "services"); !strings.Contains(out, "rules.yaml of bundle main") || !strings.Contains(out, "1 difference (services.sailings.timeout changed)") {
			t.Errorf("services:\n%s", out)
		}
		m.must(0, "rules", "publish", file, "--message", "a second more")
		if out := m.must(0, "rules", "diff", file); !strings.Contains(out, "the same as revision") {
			t.Errorf("diff:\n%s", out)
		}
		if out := m.must(0, "services"); strings.Contains(out, "Not published") {
			t.Errorf("services:\n%s", out)
		}
	})
	t.Run("an empty bundle is plain balancing, and restoring brings the rules back", func(t *testing.T) {
		if _, errs, code := m.answering("n\n", "rules", "remove", "main"); code != 1 || !strings.Contains(errs, "services.sailings") || !strings.Contains(errs, "Nothing was removed") {
			t.Errorf("asked, and no: exit %d\n%s", code, errs)
		}
		if _, errs, code := m.answering("y\n", "rules", "remove", "main"); code != 0 {
			t.Errorf("asked, and yes: exit %d\n%s", code, errs)
		}
		if got := m.call(90, "http://berths/berths/free"); answers(got) != "v1=60 v2=30" {
			t.Errorf("plain: %s", answers(got))
		}
		if out := m.must(0, "rules", "restore", "1"); !strings.Contains(out, "in force in all 12") {
			t.Errorf("restore:\n%s", out)
		}
		if got := m.call(100, "http://sailings/sailings/today"); answers(got) != "v1=85 v2=15" {
			t.Errorf("restored: %s", answers(got))
		}
	})
	t.Run("what cannot be answered says why", func(t *testing.T) {
		got := m.call(4, "http://ghost/")
		if got.Reasons["no-route"] != 4 || got.Status["404"] != 4 || got.Explanation.Refusal == nil {
			t.Errorf("ghost: %v %v", got.Reasons, got.Status)
		}
		got = m.call(1, "http://tickets.ferry.example/nowhere")
		if got.Reasons["no-route"] != 1 || !strings.Contains(got.Sample.Body, "no route of gateway front-door") {
			t.Errorf("nowhere: %v", got.Sample)
		}
	})
	t.Run("figures add up", func(t *testing.T) {
		m.call(50, "http://tides/tides/next")
		eventually(t, "telemetry of tides", func() bool {
			v, err := m.api.Mesh(t.Context(), 60)
			if err != nil {
				t.Fatal(err)
			}
			for _, s := range v.Services {
				if s.Name == "tides" && s.Figures.Requests >= 50 {
					return s.Figures.P50MS > 0 && *s.Figures.Success == 1 && s.Versions[0].Figures.Requests == s.Figures.Requests
				}
			}
			return false
		})
	})
	t.Run("wrong words", func(t *testing.T) {
		for _, c := range []struct {
			code int
			args string
			want string
		}{
			{2, "servces", "nearest: serve, services"},
			{2, "services nope", "there is no service nope: name one of berths"},
			{2, "services -o xml", "expected one of table"},
			{2, "split sailings v1=80 v2=15", "add to 95"},
			{2, "split sailings v1", "expected VERSION=PERCENT"},
			{2, "split kiosk v1=100", "kiosk has no routes"},
			{2, "split sailings v1=100 --route timetabel", "nearest: timetable"},
			{1, "split sailings v1=50 v9=50 --route timetable", "declares no version v9"},
			{2, "rules check /does/not/exist", "no such file"},
			{2, "rules show 0", "lists the revisions"},
			{2, "rules restore 999", "there is no revision 999"},
			{2, "rules publish", "FILE|DIRECTORY"},
			{2, "rules remove mian --yes", "name main"},
			{2, "explain GET ftp://x/", "is not a URL to call"},
			{2, "call http://sailings/ --from nobody", "has no proxy to call from"},
			{2, "call http://sailings/ -n 1000000", "at most 100000"},
			{2, "call http://sailings/ -H nonsense", "expected NAME: VALUE"},
			{1, "rules publish examples/ferry --expect 1", "was published meanwhile (yours is based on 1)"},
		} {
			out, errs, code := m.run(strings.Fields(c.args)...)
			want := c.code
			if strings.Contains(c.args, "--expect") {
				want = 2
			}
			if code != want || !strings.Contains(out+errs, c.want) {
				t.Errorf("%s: exit %d, want %d and %q:\n%s%s", c.args, code, want, c.want, out, errs)
			}
		}
		if _, errs, code := runIn(t, "", "services", "--server", "127.0.0.1:1"); code != 3 || !strings.Contains(errs, "start one with") {
			t.Errorf("no service: exit %d\n%s", code, errs)
		}
		if out, errs, code := runIn(t, "services: {s: {versions: [v1], routes: [{name: a, send: v2}]}}", "rules", "check", "-", "--server", "127.0.0.1:1"); code != 1 || !strings.Contains(out, "standard-input:1:57") || !strings.Contains(errs, "without a service") {
			t.Errorf("check alone: exit %d\n%s%s", code, out, errs)
		}
	})
	t.Run("a second one on the same ports says so", func(t *testing.T) {
		if _, errs, code := runIn(t, "", "demo", "--listen", m.addr); code != 1 || !strings.Contains(errs, m.addr+" is in use") {
			t.Errorf("exit %d: %s", code, errs)
		}
		base := freeBase(t)
		host, port, _ := net.SplitHostPort(base)
		n, _ := strconv.Atoi(port)
		taken, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(n+80)))
		if err != nil {
			t.Fatal(err)
		}
		defer taken.Close()
		if _, errs, code := runIn(t, "", "demo", "--listen", base); code != 1 || !strings.Contains(errs, taken.Addr().String()+", which is in use") {
			t.Errorf("the gateway's port: exit %d: %s", code, errs)
		}
	})
}

func write(t *testing.T, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestInterrupt: Ctrl-C in the middle of traffic ends the demo with exit code 0.
func TestInterrupt(t *testing.T) {
	t.Parallel()
	addr := freeBase(t)
	m := newMesh(t, start(t, "Five things to try", "demo", "--listen", addr), addr)
	if out := m.must(0, "rules", "log"); !strings.Contains(out, "the night ferry line") {
		t.Errorf("the sample's rules were not published:\n%s", out)
	}
	eventually(t, "traffic", func() bool {
		v, err := m.api.Mesh(t.Context(), 10)
		return err == nil && len(v.Links) > 4
	})
	began := time.Now()
	m.cmd.Process.Signal(os.Interrupt)
	eventually(t, "the end", m.ended)
	if code := m.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("exit %d\n%s", code, m.said())
	}
	t.Logf("ended after %v", time.Since(began).Round(time.Millisecond))
}
