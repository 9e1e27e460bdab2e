package test

import (
	"bufio"
	"io"
	"net/http"
	"os/exec"
	"strings"
	"testing"

	"nightjar/api/model"
	"nightjar/core/release"
)

const eveningRelease = `releases:
  evening:
    service: fares
    from: v1
    to: v2
    stages: [20%, 100%]
    each: 4s
    hold-at: [20%]
    judge: {success-against-from: ">= -10%", least: 20, every: 2s}
    load: {to: fares, path: /fares/adult, rate: 50/s}
    on-success: make-default
`

const keyEnd = "\u0305" // the key, in the protocol's private code

// follow runs release start --follow into a pipe, and hands out its lines.
func (m *mesh) follow(t *testing.T, name string) (lines func(words string), end func() (string, int)) {
	t.Helper()
	cmd := m.signedIn(exec.CommandContext(t.Context(), binary, "release", "start", name, "--follow", "--server", m.web))
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	r := bufio.NewScanner(out)
	lines = func(words string) {
		t.Helper()
		for r.Scan() {
			said.WriteString(r.Text() + "\n")
			if strings.Contains(r.Text(), words) {
				return
			}
		}
		t.Fatalf("it did not say %q:\n%s", words, said.String())
	}
	return lines, func() (string, int) {
		for r.Scan() {
			said.WriteString(r.Text() + "\n")
		}
		cmd.Wait()
		return said.String(), cmd.ProcessState.ExitCode()
	}
}

func (m *mesh) release(t *testing.T, name string) model.Release {
	t.Helper()
	r, err := m.api.Release(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestReleases: a new version that goes bad is taken back with the number of
// requests that it cost; a person lets a good one through from the console.
func TestReleases(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	b := openTab(t, m)
	m.must(0, "rules", "publish", write(t, t.TempDir(), "evening.yaml", eveningRelease), "--bundle", "evening")
	m.must(0, "standin", "set", "fares/v2", "--errors", "0%") // the sample lets it fail now and then

	t.Run("a version that goes bad", func(t *testing.T) {
		b.t = t
		b.visit("/releases")
		b.says("[data-test=declared-evening]", "fares v1 to v2: 20%, 100%")
		b.click("start-evening")
		b.says("[role=dialog]", "20% for 4 s, then it holds; 100% for 4 s")
		b.click("act-confirm")
		b.says("[data-test=release] [data-test=state]", "held")
		b.says("[data-test=where]", "stage 20% has passed, and the plan holds here for a person")
		b.until("document.querySelectorAll('[data-test=\"step-20%\"] [data-test=tick-met]').length > 0")
		if out := m.must(0, "call", "http://fares/fares/adult", "-n", "200"); !strings.Contains(out, "20.0%  as expected") {
			t.Errorf("at 20%%: %s", out)
		}
		b.visit("/try")
		b.until("document.querySelector('input[aria-label=\"Errors of fares/v2\"]')")
		b.press("input[aria-label='Errors of fares/v2']", keyEnd, 1)
		b.visit("/releases/evening")
		m.run("call", "http://fares/fares/adult", "-n", "200") // held is judged, too
		b.says("[data-test=release] [data-test=state]", "withdrawn")
		b.says("[data-test=where]", "Withdrawn by judge")
		b.says("[data-test=where]", "success-against-from >= -10% missed in stage 20%")
		b.until("document.querySelectorAll('[data-test=\"step-20%\"] [data-test=tick-missed]').length === 1")
		r := m.release(t, "evening")
		if r.By != release.ByJudge || r.Bad == 0 || r.Bad >= r.Requests || r.Share != 0 {
			t.Errorf("%s by %s: %d of %d failed, share %v", r.State, r.By, r.Bad, r.Requests, r.Share)
		}
		if got := m.call(50, "http://fares/fares/adult"); answers(got) != "v1=50" {
			t.Errorf("after it: %s", answers(got))
		}
		if out := m.must(0, "rules", "show"); !strings.Contains(out, "{name: all, send: v1, timeout: 25s}") {
			t.Errorf("written:\n%s", out)
		}
	})
	t.Run("a person lets it through", func(t *testing.T) {
		b.t = t
		m.must(0, "standin", "set", "fares/v2", "--errors", "0%")
		lines, end := m.follow(t, "evening")
		lines("20% held by plan: stage 20% has passed")
		if out := m.must(2, "release", "start", "evening"); !strings.Contains(out, "is running already") {
			t.Errorf("started twice: %s", out)
		}
		b.visit("/")
		b.click("notices")
		b.says("[data-test^=release-notice]", "evening: fares v1 to v2, held, stage 20%")
		b.visit("/releases/evening")
		b.click("act-finish")
		b.says("[role=dialog]", "v2 replaces v1 at once")
		b.click("act-confirm")
		b.says("[data-test=where]", "Completed by console")
		out, code := end()
		if code != 0 || !strings.Contains(out, "100% completed by console: no reason given") || strings.Contains(out, "\x1b") {
			t.Errorf("exit %d:\n%s", code, out)
		}
		if out := m.must(0, "rules", "show"); !strings.Contains(out, "{name: all, send: v2, timeout: 25s}") {
			t.Errorf("written:\n%s", out)
		}
		if out := m.must(0, "rules", "log"); !strings.Contains(out, "release/evening  stage 20%: v2 gets 20% of what went to v1") || !strings.Contains(out, "completed: no reason given") {
			t.Errorf("log:\n%s", out)
		}
		b.visit("/")
		b.until("document.querySelectorAll('[data-test^=mark-release]').length >= 4")
	})
	t.Run("the way back", func(t *testing.T) {
		b.t = t
		b.visit("/releases/evening")
		b.click("act-withdraw")
		b.says("[role=dialog]", "All requests go to v1 again; the rules are changed too")
		b.click("act-confirm")
		b.says("[data-test=where]", "Withdrawn by console")
		if got := m.call(50, "http://fares/fares/adult"); answers(got) != "v1=50" {
			t.Errorf("taken back: %s", answers(got))
		}
	})
}

// TestReleaseAndKilledService: while the service is dead, proxies go on by the
// weights of the stage; afterwards the release goes on where it was.
func TestReleaseAndKilledService(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	text := `services: {lamp: {versions: [v1, v2], routes: [{name: all, send: v1}]}}
releases:
  night:
    service: lamp
    from: v1
    to: v2
    stages: [20%, 100%]
    each: 1m
    judge: {least: 20, every: 2s}
    load: {to: lamp, path: /, rate: 50/s}
    on-success: make-default
`
	if _, err := p.api.Publish(t.Context(), model.PublishRequest{Files: []model.File{{Name: "lamp.yaml", Text: text}}}, nil); err != nil {
		t.Fatal(err)
	}
	outbound := p.outbound("lamp")
	if _, err := p.api.StartRelease(t.Context(), model.StartReleaseRequest{Name: "night"}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "a judgement", func() bool { return p.release(t, "night").JudgementCount > 0 })
	stop := load(t, outbound, "lamp", "/")
	p.service.cmd.Process.Kill()
	eventually(t, "the end", p.service.ended)
	if sent, bad := stop(); len(bad) > 0 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
	new := 0
	for range 200 {
		req, _ := http.NewRequest("GET", "http://"+outbound+"/", nil)
		req.Host = "lamp"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if body, _ := io.ReadAll(resp.Body); string(body) == "v2" {
			new++
		}
		resp.Body.Close()
	}
	if new < 35 || new > 45 {
		t.Errorf("with the service away v2 got %d of 200", new)
	}
	p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
	r := p.release(t, "night")
	if r.Step != 0 || r.IsOver() {
		t.Errorf("after the restart: %s in step %d", r.State, r.Step)
	}
	eventually(t, "it says that the service was away", func() bool {
		return strings.Contains(p.must(0, "release", "show", "night"), "the time until now is not judged")
	})
	looks := r.JudgementCount
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(p.must(0, "release", "show", "night"))
		}
	})
	eventually(t, "it is judged again", func() bool { return p.release(t, "night").JudgementCount > looks+1 })
	fresh := func() uint64 { j := p.release(t, "night").Last; return j.NewTo.Requests + j.NewFrom.Requests }
	p.must(0, "release", "hold", "night", "-m", "a look")
	eventually(t, "no load while a person holds it", func() bool { return fresh() == 0 })
	p.must(0, "release", "resume", "night")
	eventually(t, "load again", func() bool { return fresh() > 0 })
	p.must(0, "release", "skip", "night")
	eventually(t, "100%", func() bool { r := p.release(t, "night"); return r.Step == 1 && r.State == model.ReleaseJudging })
	if got := p.call(20, "http://lamp/"); answers(got) != "v2=20" {
		t.Errorf("at 100%%: %s", answers(got))
	}
	p.must(0, "release", "skip", "night")
	if out := p.must(0, "rules", "show"); !strings.Contains(out, "{name: all, send: v2}") {
		t.Errorf("written:\n%s", out)
	}
}
