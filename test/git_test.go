package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/test/repos"
)

// ferryRepo is a repository with the rules of the sample, as a mesh has them in force, with
// quick stages of its release, and a trial that a slow machine passes too.
func ferryRepo(t *testing.T, m *mesh) *repos.Repo {
	t.Helper()
	var rev model.Revision
	if err := json.Unmarshal([]byte(m.must(0, "rules", "show", "-o", "json")), &rev); err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer("each: 30s", "each: 2s", "every: 5s", "every: 1s", "p99 <= 400ms", "p99 <= 20s", "success >= 98%", "success >= 90%").Replace(rev.Bundles["main"][0].Text)
	return repos.New(t, map[string]string{"rules/ferry.yaml": text, "README": "The ferry line"})
}

// change changes words in the rules of a repository, and pushes that.
func change(r *repos.Repo, message string, words ...string) string {
	text, _ := os.ReadFile(filepath.Join(r.Work, "rules/ferry.yaml"))
	return r.Commit("Mara Lind", message, map[string]string{"rules/ferry.yaml": strings.NewReplacer(words...).Replace(string(text))})
}

// TestGit: rules come from a repository, over HTTP with a password. Commits are in force
// seconds after a push; mistakes, drift and a repository that is away are said in the
// terminal and in the console; a proposal from the console is merged by git.
func TestGit(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	repo := ferryRepo(t, m)
	url := repo.HTTP("sesame", nil)
	dir := t.TempDir()
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) { t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) }
	var hook string
	push := func() { // as the repository's host does
		t.Helper()
		resp, err := http.Post(hook, "application/json", strings.NewReader("{}"))
		if err != nil || resp.StatusCode != http.StatusAccepted {
			t.Fatal(resp, err)
		}
		resp.Body.Close()
	}
	inForce := func(words string) {
		m.t.Helper()
		eventually(m.t, words+" in force", func() bool { out, _, _ := m.run("rules", "show"); return strings.Contains(out, words) })
	}

	step("a bundle follows a branch", func(t *testing.T) {
		if out := m.must(1, "follow", "add", "main", "--repo", url, "--path", "rules", "--key", write(t, dir, "wrong", "wrong")); !strings.Contains(out, "unreachable") || !strings.Contains(out, "refuses the key") {
			t.Errorf("a wrong key: %s", out)
		}
		out := m.must(0, "follow", "add", "main", "--repo", url, "--path", "rules/", "--every", "5s", "--key", write(t, dir, "key", "sesame\n"))
		at := strings.Index(out, "Hook: ")
		if at < 0 || !strings.Contains(out, "in step") || !strings.Contains(out, "The first rules") {
			t.Fatal(out)
		}
		hook = strings.TrimSpace(out[at+len("Hook: "):])
		if info, err := os.Stat(filepath.Join(m.data, "follow-keys", "main")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("the file of the key: %v, %v", info, err)
		}
		m.must(2, "follow", "add", "main")
	})
	step("a commit is in force within seconds", func(t *testing.T) {
		id := change(repo, "A tenth for v2", "send: {v1: 85, v2: 15}", "send: {v1: 88, v2: 12}")
		push()
		inForce("{v1: 88, v2: 12}")
		if out := m.must(0, "rules", "log", "--limit", "1"); !strings.Contains(out, "Mara Lind") || !strings.Contains(out, id[:10]) || !strings.Contains(out, "A tenth for v2") {
			t.Errorf("log: %s", out)
		}
		b.visit("/rules")
		b.says("[data-test=source-state]", "in step")
		b.says("[data-test=source-commit]", id[:10]+" by Mara Lind, “A tenth for v2”")
	})
	step("a commit with a mistake is refused", func(t *testing.T) {
		change(repo, "Too much", "{v1: 88, v2: 12}", "{v1: 93, v2: 12}")
		if out := m.must(1, "follow", "now", "main"); !strings.Contains(out, "refused") || !strings.Contains(out, "rules/ferry.yaml:24:15: mistake weights") || !strings.Contains(out, "A tenth for v2") {
			t.Errorf("now: %s", out)
		}
		b.says("[data-test=source-state]", "refused")
		b.says("[data-test=source-findings]", "the weights add to 105, not to 100")
		change(repo, "Mended", "{v1: 93, v2: 12}", "{v1: 93, v2: 7}")
		push()
		inForce("{v1: 93, v2: 7}")
	})
	step("a split during the night is put back, and said", func(t *testing.T) {
		if out := m.must(0, "split", "sailings", "v1=50", "v2=50"); !strings.Contains(out, "takes this back") {
			t.Errorf("split: %s", out)
		}
		if out := m.must(0, "follow", "list"); !strings.Contains(out, "drifted") || !strings.Contains(out, "v1 50, v2 50") {
			t.Errorf("list: %s", out)
		}
		inForce("{v1: 93, v2: 7}")
		if out := m.must(0, "activity"); !strings.Contains(out, "put back what branch main says: Mended") || !strings.Contains(out, "main is drifted") {
			t.Errorf("activity: %s", out)
		}
	})
	step("a proposal from the console is merged by git", func(t *testing.T) {
		b.visit("/rules")
		b.edit("{v1: 93, v2: 7}", "{v1: 70, v2: 30}")
		b.says("[data-test=saving]", "draft saved")
		b.says("[data-test=follow-note]", "follows branch main")
		b.do(chromedp.SendKeys(chromedp.CSS("[data-test=message]"), "Thirty for v2"))
		b.click("propose")
		b.says("[data-test=proposed]", "is pushed as branch nightjar/main-1")
		b.says("[data-test=proposals]", "all requests")
		repo.Git("fetch", "-q", "origin")
		if diff := repo.Git("diff", "--stat", "origin/main", "origin/nightjar/main-1"); !strings.Contains(diff, "1 insertion(+), 1 deletion(-)") {
			t.Errorf("the proposal: %s", diff)
		}
		repo.Git("merge", "-q", "-m", "Reviewed", "origin/nightjar/main-1")
		repo.Git("push", "-q", "origin", "HEAD:main")
		push()
		inForce("{v1: 70, v2: 30}")
		b.says("[data-test=proposal-1]", "merged")
	})
	step("the repository is away, and comes back", func(t *testing.T) {
		if err := os.Rename(repo.Bare, repo.Bare+"-away"); err != nil {
			t.Fatal(err)
		}
		if out := m.must(1, "follow", "now", "main"); !strings.Contains(out, "unreachable") {
			t.Errorf("away: %s", out)
		}
		m.must(0, "split", "sailings", "v1=40", "v2=60")
		time.Sleep(6 * time.Second) // longer than between two looks
		inForce("{v1: 40, v2: 60}")
		b.says("[data-test=source-why]", "there is no repository")
		os.Rename(repo.Bare+"-away", repo.Bare)
		inForce("{v1: 70, v2: 30}")
	})
	step("teams look and propose for their bundles alone", func(t *testing.T) {
		tokens := map[string]string{}
		for _, role := range []string{"viewer", "editor"} {
			tokens[role] = strings.TrimSpace(m.must(0, "token", "create", role, "--role", role))
		}
		tokens["mona"] = strings.TrimSpace(m.must(0, "token", "create", "mona", "--role", "editor", "--team", "money"))
		for _, c := range []struct {
			who  string
			code int
			args []string
		}{
			{"viewer", 4, []string{"follow", "now", "main"}}, {"viewer", 4, []string{"rules", "propose", "-m", "x"}}, {"editor", 0, []string{"follow", "now", "main"}},
			{"editor", 4, []string{"follow", "stop", "main"}}, {"editor", 4, []string{"follow", "add", "x", "--repo", "/x"}},
			{"mona", 4, []string{"follow", "now", "main"}}, {"mona", 4, []string{"rules", "propose", "-m", "x"}},
		} {
			if out, errs, code := runAs(t, tokens[c.who], "", append(c.args, "--server", m.web)...); code != c.code {
				t.Errorf("%s %v: exit %d: %s%s", c.who, c.args, code, out, errs)
			}
		}
		for who, want := range map[string]int{"viewer": 1, "mona": 0} {
			l, err := clientOf(t, m.web, client.Token(tokens[who])).Follows(t.Context())
			if err != nil || len(l.Follows) != want || want > 0 && l.Follows[0].Hook != "" {
				t.Errorf("%s sees %+v, %v", who, l.Follows, err)
			}
		}
	})
	step("it stops, and what is in force stays", func(t *testing.T) {
		m.must(0, "follow", "stop", "main")
		inForce("{v1: 70, v2: 30}")
		if resp, err := http.Post(hook, "", nil); err != nil || resp.StatusCode != http.StatusNotFound {
			t.Errorf("the hook: %v, %v", resp, err)
		}
		for _, d := range []string{"git", "follow-keys"} {
			if left, _ := os.ReadDir(filepath.Join(m.data, d)); len(left) > 0 {
				t.Errorf("%v is left", left)
			}
		}
	})
}

// TestPipeline: docs/pipeline.md by the scripts of examples/pipeline, from the hook of a real
// repository. A change is checked, forecast and tried by a push, merged, in force, and
// released; what fails ends the pipeline with the exit code of its step.
func TestPipeline(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	repo := ferryRepo(t, m)
	token := strings.TrimSpace(m.must(0, "token", "create", "pipeline", "--role", "editor"))
	pipeline, err := filepath.Abs("../examples/pipeline/pipeline.sh")
	if err != nil {
		t.Fatal(err)
	}
	bin, results := t.TempDir(), t.TempDir()
	if err := os.Symlink(binary, filepath.Join(bin, "nightjar")); err != nil {
		t.Fatal(err)
	}
	env := append(repos.Env(), "PATH="+bin+":"+os.Getenv("PATH"), "NIGHTJAR_SERVER="+m.web, "NIGHTJAR_TOKEN="+token,
		"PIPELINE="+pipeline, "TRIAL=morning-rush", "OUT="+results)
	run := func(want int, name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Env, c.Dir = env, repo.Work
		out, _ := c.CombinedOutput()
		if code := c.ProcessState.ExitCode(); code != want {
			t.Fatalf("%s %v: exit %d, want %d: %s", name, args, code, want, out)
		}
		return string(out)
	}
	result := func(name string, into any) {
		t.Helper()
		if err := json.Unmarshal([]byte(read(t, filepath.Join(results, name))), into); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	m.must(0, "follow", "add", "main", "--repo", repo.Bare, "--path", "rules", "--every", "1h")
	time.Sleep(10 * time.Second) // of traffic, for the forecast
	hook := read(t, "../examples/pipeline/post-receive")
	if err := os.WriteFile(filepath.Join(repo.Bare, "hooks/post-receive"), []byte(hook), 0o755); err != nil {
		t.Fatal(err)
	}

	repo.Git("checkout", "-q", "-b", "wrong")
	text := read(t, filepath.Join(repo.Work, "rules/ferry.yaml"))
	write(t, filepath.Join(repo.Work, "rules"), "ferry.yaml", strings.Replace(text, "send: {v1: 85, v2: 15}", "send: {v1: 85, v2: 25}", 1))
	repo.Git("commit", "-qam", "Wrong")
	if out := run(0, "git", "push", "-q", "origin", "wrong"); !strings.Contains(out, "remote: check: exit code 1") || strings.Contains(out, "forecast") {
		t.Errorf("a mistake: %s", out)
	}
	var sarif struct {
		Runs []struct{ Results []struct{ RuleID string } }
	}
	if result("check.sarif", &sarif); !strings.Contains(fmt.Sprint(sarif), "{weights}") {
		t.Errorf("%+v", sarif)
	}

	write(t, filepath.Join(repo.Work, "rules"), "ferry.yaml", strings.Replace(text, "send: {v1: 85, v2: 15}", "send: {v1: 84, v2: 16}", 1))
	repo.Git("commit", "-qam", "A little more for v2")
	if out := run(0, "git", "push", "-q", "origin", "wrong:more"); !strings.Contains(out, "remote: check: passed") || !strings.Contains(out, "remote: forecast: passed") || !strings.Contains(out, "remote: trial: passed") {
		t.Fatalf("what is right: %s", out)
	}
	var forecast model.Forecast
	var trial model.Trial
	result("forecast.json", &forecast)
	result("trial.json", &trial)
	if len(forecast.Rows) == 0 || trial.State != "met" || !strings.Contains(read(t, filepath.Join(results, "trial.xml")), "<testsuite") {
		t.Errorf("results: %d rows, trial %s", len(forecast.Rows), trial.State)
	}
	if out := run(0, "git", "push", "-q", "origin", "wrong:main"); !strings.Contains(out, "in step") || !strings.Contains(out, "A little more for v2") {
		t.Errorf("merged: %s", out)
	}

	run(0, pipeline, "release", "sailings-to-v2")
	lines := strings.Split(strings.TrimSpace(read(t, filepath.Join(results, "release.jsonl"))), "\n")
	if last := lines[len(lines)-1]; !strings.Contains(last, "completed") {
		t.Errorf("the release: %s", last)
	}
	m.must(0, "follow", "now", "main")
	if out := m.must(0, "rules", "proposals"); !strings.Contains(out, "the end of release sailings-to-v2") {
		t.Errorf("proposals: %s", out)
	}
	env = append(env, "MESSAGE=Half of the fares")
	write(t, filepath.Join(repo.Work, "rules"), "ferry.yaml", strings.Replace(text, "send: {v1: 90, v2: 10}", "send: {v1: 50, v2: 50}", 1))
	run(0, pipeline, "propose", "rules")
	var p model.Proposal
	if result("proposal.json", &p); p.State != model.ProposalOpen || p.By != "pipeline" {
		t.Errorf("%+v", p)
	}
	if out := m.must(0, "rules", "proposals", "--withdraw", fmt.Sprint(p.Number)); !strings.Contains(out, "gone   "+p.Branch) {
		t.Errorf("withdrawn: %s", out)
	}
	run(0, pipeline, "publish", "rules")
	var published model.Published
	if result("published.json", &published); published.Revision == 0 || len(published.Notes) != 1 {
		t.Errorf("%+v", published)
	}
	if out := run(2, pipeline); !strings.Contains(out, "pipeline.sh verify DIRECTORY") {
		t.Errorf("usage: %s", out)
	}
	env = append(env, "NIGHTJAR_SERVER=http://127.0.0.1:1")
	run(3, pipeline, "release", "sailings-to-v2")
}
