package control

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/follows"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/test/repos"
)

// text is a rule file that sends a share to v2 of a service.
func text(service string, v2 int) string {
	return fmt.Sprintf("services:\n  %s:  # of the pier\n    versions: [v1, v2]\n    instances: [{at: \"http://h:1\", version: v1}, {at: \"http://h:2\", version: v2}]\n"+
		"    routes: [{name: all, send: {v1: %d, v2: %d}}]\n", service, 100-v2, v2)
}

// followed is a service whose bundle follows a repository.
func followed(t *testing.T, q model.FollowRequest, files map[string]string) (*clock, *repos.Repo, string) {
	t.Helper()
	t.Setenv("GIT_CONFIG_GLOBAL", "/dev/null")
	dir, repo := t.TempDir(), repos.New(t, files)
	k := reopen(t, dir)
	if q.URL == "" {
		q.URL = repo.Bare
	}
	if q.Bundle == "" {
		q.Bundle = model.MainBundle
	}
	if _, err := k.Follows.Add(as(t, "mona"), q); err != nil {
		t.Fatal(err)
	}
	return k, repo, dir
}

// look looks, and holds what follows to a state. The result is in force.
func (k *clock) look(bundle, state, why string) model.Follow {
	k.t.Helper()
	f, err := k.Follows.Look(k.t.Context(), bundle, follows.Options{})
	if err != nil || f.State != state || !strings.Contains(f.Why, why) {
		k.t.Fatalf("%s is %s: %q, %v; want %s: %q", bundle, f.State, f.Why, err, state, why)
	}
	return f
}

// sends is what a route sends to, as the text in force says.
func (k *clock) sends(service string) string {
	return rules.SendText(k.Revisions.Current().Written.Route(service, "all").Send, service)
}

func (k *clock) want(what string, got, want any) {
	k.t.Helper()
	if fmt.Sprint(got) != fmt.Sprint(want) {
		k.t.Errorf("%s: %v; want %v", what, got, want)
	}
}

// TestFollow: commits are put in force, mistakes are refused and named, what is changed
// otherwise is put back, and the repository may be away.
func TestFollow(t *testing.T) {
	var mu sync.Mutex
	var events []string
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		b, _ := io.ReadAll(q.Body)
		mu.Lock()
		defer mu.Unlock()
		for _, kind := range []string{"in-step", "behind", "refused", "drifted", "unreachable"} {
			if strings.Contains(string(b), `"type":"nightjar.follow.`+kind+`"`) {
				events = append(events, kind)
			}
		}
		if strings.Contains(string(b), `"hook"`) {
			t.Error("an event has the hook address")
		}
	}))
	defer receiver.Close()
	k, repo, dir := followed(t, model.FollowRequest{Path: "rules", Notify: []string{receiver.URL}},
		map[string]string{"rules/a.yaml": text("s", 0), "README": "1"})
	now := k.Revisions.Current().Revision
	k.want("first", fmt.Sprint(now.Number, now.Kind, now.Author, now.Message, now.Commit == repo.Git("rev-parse", "HEAD")), "1commitMara LindThe first rulestrue")

	repo.Commit("Tove", "Not of the rules", map[string]string{"README": "2"})
	k.look("main", model.InStep, "")
	k.want("revision after another path", k.Revisions.Current().Revision.Number, 1)
	repo.Commit("release/x", "Ten percent\n\nmore", map[string]string{"rules/a.yaml": text("s", 10)})
	k.look("main", model.InStep, "")
	now = k.Revisions.Current().Revision
	k.want("author and message", now.Author+" "+now.Message+" "+k.sends("s"), "release/x Ten percent v1 90, v2 10")
	list, _ := k.Journal.List(t.Context(), model.ActivityFilter{What: "commit", Limit: 1})
	k.want("who acted", list[0].Who, "follow/main")

	bad := repo.Commit("Eve", "Too much", map[string]string{"rules/a.yaml": strings.Replace(text("s", 10), "v1: 90", "v1: 95", 1)})
	f := k.look("main", model.Refused, "by Eve, “Too much”: the weights add to 105")
	k.want("refused", fmt.Sprint(f.Newest.ID == bad, f.Commit.Subject, f.Findings[0].At, k.sends("s")), "trueTen percentrules/a.yaml:5:32v1 90, v2 10")
	if _, err := k.Revisions.Split(as(t, "tim"), "s", "all", []model.Weight{{Target: "v1", Weight: "100"}}, revisions.Publication{Author: "tim"}); err != nil {
		t.Fatal(err)
	}
	k.look("main", model.Refused, "Too much") // a refused commit, and drift from the last good one
	k.want("after drift", k.sends("s"), "v1 90, v2 10")
	repo.Commit("Eve", "Right", map[string]string{"rules/a.yaml": text("s", 20)})
	k.look("main", model.InStep, "")
	k.want("mended", k.sends("s"), "v1 80, v2 20")

	k.Revisions.Split(as(t, "tim"), "s", "all", []model.Weight{{Target: "v1", Weight: "100"}}, revisions.Publication{Author: "tim"})
	k.want("notes", strings.Contains(fmt.Sprint(k.Follows.Notes(7, func(string) bool { return true })), "Bundle main follows branch main: the next look, within 30s, takes this back"), true)
	if f, _ := k.Follows.Get(t.Context(), "main"); f.State != model.Drifted || len(f.Differences) != 1 || f.Differences[0].After != "v1" {
		t.Errorf("right after a split: %s %+v", f.State, f.Differences)
	}
	if err := os.Rename(repo.Bare, repo.Bare+"-away"); err != nil {
		t.Fatal(err)
	}
	k.look("main", model.Unreachable, "there is no repository")
	k.want("while the repository is away, what people do stays", k.sends("s"), "v1")
	k = reopen(t, dir) // as after a kill
	if f, _ := k.Follows.Get(t.Context(), "main"); f.State != model.Unreachable {
		t.Errorf("before it has looked again, it says %s", f.State)
	}
	k.look("main", model.Unreachable, "there is no repository")
	os.Rename(repo.Bare+"-away", repo.Bare)
	k.look("main", model.InStep, "")
	now = k.Revisions.Current().Revision
	k.want("put back", k.sends("s")+" "+now.Author+" "+now.Message, "v1 80, v2 20 follow/main put back what branch main says: Right")
	last := now.Number
	k = reopen(t, dir)
	k.look("main", model.InStep, "")
	k.want("a restart makes no revision", k.Revisions.Current().Revision.Number, last)

	repo.Commit("Eve", "No rules", map[string]string{"rules/a.yaml": "", "rules/b": "b"})
	k.look("main", model.Refused, "has no rule files at rules")
	repo.Commit("Eve", "Still none", map[string]string{"rules/b": "c"})
	k.look("main", model.Refused, "Still none")
	repo.Git("checkout", "-q", "--orphan", "new")
	repo.Commit("Eve", "Anew", map[string]string{"rules/c.yaml": text("s", 30)})
	k.look("main", model.InStep, "")
	k.want("history written anew", k.sends("s"), "v1 70, v2 30")
	for range 20 {
		k.now = k.now.Add(time.Second)
		k.Outbox.Deliver(t.Context())
		k.Outbox.Wait()
	}
	mu.Lock()
	defer mu.Unlock()
	k.want("events", strings.Join(events, " "), "in-step refused in-step drifted unreachable in-step refused refused in-step")
	if err := k.Follows.Stop(as(t, "mona"), "main"); err != nil {
		t.Fatal(err)
	}
	k.want("stopped", fmt.Sprint(len(k.Follows.List(t.Context())), k.sends("s")), "0v1 70, v2 30")
	if left, _ := os.ReadDir(dir + "/git"); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}

// TestFollowReport: with report, what people change stays until the branch has a commit.
func TestFollowReport(t *testing.T) {
	k, repo, _ := followed(t, model.FollowRequest{Drift: model.DriftReport}, map[string]string{"a.yaml": text("s", 0)})
	k.Revisions.Split(as(t, "tim"), "s", "all", []model.Weight{{Target: "v2", Weight: "100"}}, revisions.Publication{Author: "tim"})
	for range 2 {
		k.look("main", model.Drifted, "1 difference from commit")
	}
	k.want("it stays", k.sends("s"), "v2")
	repo.Commit("Tove", "A picture", map[string]string{"pier.png": "1"})
	k.look("main", model.Drifted, "1 difference from commit")
	repo.Commit("Tove", "Half", map[string]string{"a.yaml": text("s", 50)})
	k.look("main", model.InStep, "")
	k.want("the branch comes first", k.sends("s"), "v1 50, v2 50")
	k.mustPublish(strings.Replace(text("s", 50), "# of the pier", "# of the harbour", 1))
	k.look("main", model.Drifted, "differs")
}

// TestFollowInOrder: a commit that needs what another bundle does not offer yet is right
// once it does.
func TestFollowInOrder(t *testing.T) {
	k, _, _ := followed(t, model.FollowRequest{Bundle: "timetable"}, map[string]string{
		"a.yaml": "services:\n  sailings: {versions: [v1], routes: [{name: all, send: tides/v1}]}\n"})
	k.look("timetable", model.Refused, "tides")
	k.mustPublish("services:\n  tides: {versions: [v1]}\n")
	k.look("timetable", model.InStep, "")
}

// TestReleasesPropose: what a release writes at its end stays in force, and is proposed, until
// the branch has it, decides otherwise, or the proposal is gone.
func TestReleasesPropose(t *testing.T) {
	release := "releases:\n  r: {service: s, from: v1, to: v2, stages: [100], each: 5s, judge: {every: 5s, least: 20}, on-success: make-default}\n"
	for _, end := range []string{"merged", "squashed", "otherwise", "gone", "withdrawn"} {
		t.Run(end, func(t *testing.T) {
			k, repo, _ := followed(t, model.FollowRequest{}, map[string]string{"a.yaml": text("s", 0) + release})
			if _, err := k.Releases.Start(as(t, "tim"), model.StartReleaseRequest{Name: "r"}); err != nil {
				t.Fatal(err)
			}
			k.Releases.Step(t.Context())
			k.look("main", model.InStep, "") // what a release changes besides the text is no drift
			if _, err := k.Releases.Act(as(t, "tim"), "r", model.ActFinish, model.ReleaseAction{}); err != nil {
				t.Fatal(err)
			}
			for range 10 {
				k.now = k.now.Add(time.Second)
				k.Releases.Step(t.Context())
			}
			k.want("at its end", k.sends("s"), "v2")
			f := k.look("main", model.InStep, "With what release r wrote, which the branch has not got yet")
			if len(f.Proposals) != 1 || f.Edits[0].Proposal != f.Proposals[0].Number || f.Proposals[0].By != "release/r" {
				t.Fatalf("%+v", f)
			}
			repo.Commit("Tove", "Something else", map[string]string{"b.yaml": text("tides", 5)})
			k.look("main", model.InStep, "")
			k.want("after another commit", k.sends("s")+" "+k.sends("tides"), "v2 v1 95, v2 5")
			repo.Git("fetch", "-q", "origin")
			branch := "origin/" + f.Proposals[0].Branch
			state, sends := model.ProposalMerged, "v2"
			switch end {
			case "merged":
				repo.Git("merge", "-q", "-m", "Merged", branch)
				repo.Git("push", "-q", "origin", "HEAD:main")
			case "squashed":
				repo.Git("merge", "-q", "--squash", branch)
				repo.Commit("Tove", "Squashed", nil)
				repo.Git("push", "-q", "origin", ":"+f.Proposals[0].Branch)
			case "otherwise":
				repo.Commit("Tove", "Otherwise", map[string]string{"a.yaml": text("s", 40)})
				state, sends = model.ProposalOpen, "v1 60, v2 40"
			case "gone":
				repo.Git("push", "-q", "origin", ":"+f.Proposals[0].Branch)
				state, sends = model.ProposalGone, "v1 100, v2 0"
				k.Follows.Look(t.Context(), "main", follows.Options{})
			case "withdrawn":
				if _, err := k.Follows.Withdraw(as(t, "tim"), "main", f.Proposals[0].Number); err != nil {
					t.Fatal(err)
				}
				state, sends = model.ProposalGone, "v1 100, v2 0"
			}
			f = k.look("main", model.InStep, "")
			k.want("at last", fmt.Sprint(f.Proposals[0].State, len(f.Edits), f.Why, k.sends("s")), fmt.Sprint(state, 0, "", sends))
		})
	}
}

// TestProposals: files, drafts, splits and revisions become branches with just their changes.
func TestProposals(t *testing.T) {
	k, repo, _ := followed(t, model.FollowRequest{Path: "rules"}, map[string]string{"rules/a.yaml": text("s", 0), "rules/b.yaml": text("t", 0), "c": "c"})
	propose := func(q model.ProposalRequest) (model.Proposal, error) {
		q.Message = "Because"
		return k.Follows.Propose(as(t, "tim@ferry.example"), "main", q)
	}
	diff := func(p model.Proposal) string {
		repo.Git("fetch", "-q", "origin")
		lines := []string{}
		for _, l := range strings.Split(repo.Git("diff", "-U0", "--format=", "origin/main", p.Commit), "\n") {
			if strings.HasPrefix(l, "+ ") || strings.HasPrefix(l, "- ") || strings.HasPrefix(l, "+++") {
				lines = append(lines, l)
			}
		}
		return strings.Join(lines, "|")
	}
	is := func(name string, q model.ProposalRequest, want string) {
		t.Helper()
		p, err := propose(q)
		if err != nil || p.State != model.ProposalOpen || p.Forecast == nil || len(p.Changes) == 0 {
			t.Errorf("%s: %+v, %v", name, p, err)
			return
		}
		k.want(name, diff(p), want)
	}
	const line = "    routes: [{name: all, send: {v1: %d, v2: %d}}]"
	became := func(file string, v2 int) string {
		return fmt.Sprintf("+++ b/rules/%s|-"+line+"|+"+line, file, 100, 0, 100-v2, v2)
	}
	is("split", model.ProposalRequest{Split: &model.SplitChange{Service: "s", Weights: []model.Weight{{Target: "v1", Weight: "75"}, {Target: "v2", Weight: "25"}}}}, became("a.yaml", 25))
	is("files", model.ProposalRequest{Files: []model.File{{Name: "/home/tim/b.yaml", Text: text("t", 7)}, {Name: "a.yaml", Text: text("s", 0)}}}, became("b.yaml", 7))
	k.Revisions.SaveDraft(as(t, "tim@ferry.example"), "main", model.DraftRequest{Files: []model.File{{Name: "rules/a.yaml", Text: text("s", 9)}, {Name: "rules/b.yaml", Text: text("t", 0)}}, Base: 1}, 0)
	is("draft", model.ProposalRequest{Draft: true}, became("a.yaml", 9))
	k.Revisions.Split(as(t, "tim"), "t", "", []model.Weight{{Target: "v1", Weight: "45"}, {Target: "v2", Weight: "55"}}, revisions.Publication{Author: "tim"})
	k.look("main", model.InStep, "")
	k.want("put back", k.sends("t"), "v1 100, v2 0")
	is("revision", model.ProposalRequest{Revision: 2}, became("b.yaml", 55))
	repo.Git("push", "-q", "origin", "HEAD:nightjar/main-40") // of an earlier service
	is("another", model.ProposalRequest{Files: []model.File{{Name: "b.yaml", Text: text("t", 8)}, {Name: "a.yaml", Text: text("s", 0)}}}, became("b.yaml", 8))
	f, _ := k.Follows.Get(t.Context(), "main")
	k.want("its branch", f.Proposals[0].Branch, "nightjar/main-41")
	_, err := propose(model.ProposalRequest{})
	k.want("nothing", strings.Contains(fmt.Sprint(err), "says this already"), true)
	_, err = propose(model.ProposalRequest{Files: []model.File{{Name: "a.yaml", Text: "services: 1"}}})
	k.want("mistakes", strings.Contains(fmt.Sprint(err), "mistake"), true)
	for _, name := range []string{"standard-input", "rules/.git/hooks.yaml", ".hidden.yaml"} {
		_, err = propose(model.ProposalRequest{Files: []model.File{{Name: name, Text: text("u", 1)}}})
		k.want(name, strings.Contains(fmt.Sprint(err), "cannot be a rule file of the repository"), true)
	}
	p, err := propose(model.ProposalRequest{Files: []model.File{{Name: "../../etc/u.yaml", Text: text("u", 1)}, {Name: "/rules/../a.yaml", Text: text("s", 0)}, {Name: "b.yaml", Text: text("t", 0)}}})
	k.want("names that lead elsewhere", fmt.Sprint(p.Files, err), "[rules/u.yaml] <nil>")
	_, err = propose(model.ProposalRequest{Draft: true, Revision: 1})
	k.want("two", strings.Contains(fmt.Sprint(err), "cannot be combined"), true)
	repo.Commit("Tove", "Both", map[string]string{"rules/a.yaml": text("s", 33)})
	k.look("main", model.InStep, "")
	_, err = propose(model.ProposalRequest{Draft: true})
	k.want("draft of what changed", strings.Contains(fmt.Sprint(err), "rules/a.yaml was changed on branch main"), true)
	repo.Commit("Tove", "Pushed just now", map[string]string{"rules/a.yaml": strings.Replace(text("s", 33), "pier", "quay", 1)})
	half := model.ProposalRequest{Split: &model.SplitChange{Service: "s", Weights: []model.Weight{{Target: "v1", Weight: "50"}, {Target: "v2", Weight: "50"}}}}
	_, err = propose(half)
	k.want("a commit that comes in between is not undone", strings.Contains(fmt.Sprint(err), "rules/a.yaml was changed on branch main"), true)
	is("once more", half, strings.Replace(became("a.yaml", 50), "v1: 100, v2: 0", "v1: 67, v2: 33", 1))
}

// TestFollowAsked: what cannot be followed is refused, and nothing is kept of it.
func TestFollowAsked(t *testing.T) {
	k := newClock(t)
	for want, q := range map[string]model.FollowRequest{
		"cannot be the name of a bundle": {Bundle: "../x", URL: "/srv/x"},
		"not where a repository is":      {Bundle: "x", URL: "ext::sh"},
		"write 5 to 86400 seconds":       {Bundle: "x", URL: "/srv/x", EverySeconds: 1},
		"write revert, or report":        {Bundle: "x", URL: "/srv/x", Drift: "ignore"},
		"where an event can be sent":     {Bundle: "x", URL: "/srv/x", Notify: []string{"file:///etc/passwd"}},
	} {
		if _, err := k.Follows.Add(as(t, "mona"), q); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v; want %q", q, err, want)
		}
	}
	if list := k.Follows.List(t.Context()); len(list) > 0 {
		t.Errorf("%+v", list)
	}
	if _, err := k.Follows.Look(t.Context(), "x", follows.Options{}); err == nil || !strings.Contains(err.Error(), "nightjar follow add x --repo URL") {
		t.Errorf("%v", err)
	}
	if k.Follows.Hook("") || k.Follows.Hook("guess") {
		t.Error("an address that nobody has is a hook")
	}
}

// TestFollowConfigured: what stands in the service's configuration is followed from the start,
// keeps what it knows over a restart, and is changed there alone.
func TestFollowConfigured(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", "/dev/null")
	repo, dir := repos.New(t, map[string]string{"rules/a.yaml": text("s", 0)}), t.TempDir()
	file := func(text string) string {
		at := t.TempDir() + "/follows.yaml"
		os.WriteFile(at, []byte(text), 0o600)
		return at
	}
	for text, want := range map[string]string{
		"follows: [{bundle: a, repo: /x, every: often}]":             "follows[0].every: \"often\" is no time",
		"follows: [{bundle: a, repo: /x}, {bundle: a, repo: /y}]":    "follows[1].bundle: \"a\" is there twice",
		"follows: [{bundle: a, repo: /x, key-file: /nowhere/key}]":   "follows[0].key-file: open /nowhere/key",
		"follows: [{bundle: a, repository: /x}]":                     "repository",
		"follow: []":                                                 "follow",
		"follows: [" + strings.Repeat("{bundle: a},", 100_000) + "]": "expected at most 1048576",
	} {
		if _, err := follows.ReadConfig(file(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: %v; want %q", text, err, want)
		}
	}
	serve := func(text string) *clock {
		list, err := follows.ReadConfig(file(text))
		if err != nil {
			t.Fatal(err)
		}
		return reopenAt(t, dir, time.Now(), nil, func(c *Config) { c.Follows = list })
	}
	k := serve(fmt.Sprintf("follows: [{bundle: main, repo: %s, path: rules, every: 1m}]", repo.Bare))
	k.Follows.Step(t.Context())
	k.Follows.Wait()
	f := k.look("main", model.InStep, "")
	if !f.IsConfigured || f.EverySeconds != 60 {
		t.Errorf("%+v", f)
	}
	if err := k.Follows.Stop(as(t, "mona"), "main"); err == nil || !strings.Contains(err.Error(), "stands in the configuration") {
		t.Errorf("stopped: %v", err)
	}
	if _, err := k.Follows.Add(as(t, "mona"), model.FollowRequest{Bundle: "main", URL: "/x"}); err == nil || !strings.Contains(err.Error(), "stands in the configuration") {
		t.Errorf("added: %v", err)
	}
	k = serve(fmt.Sprintf("follows: [{bundle: main, repo: %s, path: rules, drift: report}]", repo.Bare))
	again := k.Follows.List(t.Context())[0]
	k.want("after a restart", fmt.Sprint(again.State, again.Revision, again.Drift, again.Hook == f.Hook), "in step1reporttrue")
	k = serve("follows: []")
	if list, _ := k.store.Follows(t.Context()); len(list)+len(k.Follows.List(t.Context())) > 0 || k.sends("s") != "v1 100, v2 0" {
		t.Errorf("taken out of the configuration: %+v", list)
	}
}

// TestFollowRegularly: bundles are looked at when their time has come, and when their hook
// address is called, which makes nobody look all the time.
func TestFollowRegularly(t *testing.T) {
	k, repo, _ := followed(t, model.FollowRequest{EverySeconds: 60}, map[string]string{"a.yaml": text("s", 0)})
	pass := func(seconds int) {
		k.now = k.now.Add(time.Duration(seconds) * time.Second)
		k.Follows.Step(t.Context())
		k.Follows.Wait()
	}
	pass(1)
	repo.Commit("Tove", "One", map[string]string{"a.yaml": text("s", 1)})
	pass(30)
	k.want("early", k.sends("s"), "v1 100, v2 0")
	pass(31)
	k.want("after a minute", k.sends("s"), "v1 99, v2 1")
	repo.Commit("Tove", "Two", map[string]string{"a.yaml": text("s", 2)})
	f, _ := k.Follows.Get(t.Context(), "main")
	secret := strings.TrimPrefix(f.Hook, "/hooks/")
	k.want("hook", k.Follows.Hook(secret), true)
	pass(0)
	k.want("after the hook", k.sends("s"), "v1 98, v2 2")
	repo.Commit("Tove", "Three", map[string]string{"a.yaml": text("s", 3)})
	for range 100 {
		k.Follows.Hook(secret)
		pass(0)
	}
	k.want("a second hook within the second waits", k.sends("s"), "v1 98, v2 2")
	pass(1)
	k.want("and is heard", k.sends("s"), "v1 97, v2 3")

	ending, end := context.WithCancel(t.Context()) // the service ends while it looks
	end()
	k.now = k.now.Add(61 * time.Second)
	k.Follows.Step(ending)
	k.Follows.Wait()
	if f, _ = k.Follows.Get(t.Context(), "main"); f.State != model.InStep {
		t.Errorf("at the end of the service: %s, %s", f.State, f.Why)
	}

	k.Follows.Ahead = func() uint { return 99 } // as with the records of a backup
	repo.Commit("Tove", "Four", map[string]string{"a.yaml": text("s", 4)})
	pass(61)
	if f, _ = k.Follows.Get(t.Context(), "main"); f.State != model.Behind || !strings.Contains(f.Why, "which are those of a backup") || f.Newest.Subject != "Four" {
		t.Errorf("%s: %s", f.State, f.Why)
	}
	k.look("main", model.InStep, "")
	k.want("once somebody asks for it", k.sends("s"), "v1 96, v2 4")
}

// TestFollowMuch: a commit of 2,000 services is in force within 3 s of the look, and looks
// at 50 repositories where nothing changes cost little.
func TestFollowMuch(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	var b strings.Builder
	b.WriteString("services:\n")
	for i := range 2000 {
		fmt.Fprintf(&b, "  s%d:\n    versions: [v1, v2]\n    routes: [{name: all, send: {v1: 90, v2: 10}}]\n", i)
	}
	k, repo, _ := followed(t, model.FollowRequest{}, map[string]string{"a.yaml": b.String()})
	repo.Commit("Tove", "All", map[string]string{"a.yaml": strings.ReplaceAll(b.String(), "v1: 90, v2: 10", "v1: 80, v2: 20")})
	began := time.Now()
	k.look("main", model.InStep, "")
	if took := time.Since(began); took > 3*time.Second {
		t.Errorf("2,000 services take %s", took)
	}

	const repositories, goal = 50, 0.05 // of a core
	for i := range repositories {
		if _, err := k.Follows.Add(as(t, "mona"), model.FollowRequest{Bundle: fmt.Sprint("b", i), URL: repo.Bare, Path: "other"}); err != nil {
			t.Fatal(err)
		}
	}
	before := processorTime(t)
	for i := range repositories { // as often as in half a minute
		k.Follows.Look(t.Context(), fmt.Sprint("b", i), follows.Options{})
	}
	if share := (processorTime(t) - before).Seconds() / 30; share > goal {
		t.Errorf("looking at %d repositories takes %.1f%% of a core", repositories, 100*share)
	}
}

// processorTime is what this process and those that it started have used.
func processorTime(t *testing.T) (sum time.Duration) {
	for _, who := range []int{syscall.RUSAGE_SELF, syscall.RUSAGE_CHILDREN} {
		var r syscall.Rusage
		if err := syscall.Getrusage(who, &r); err != nil {
			t.Fatal(err)
		}
		sum += time.Duration(r.Utime.Nano() + r.Stime.Nano())
	}
	return sum
}
