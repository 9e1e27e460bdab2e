package control

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/outbox"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
)

const releasing = `# kept
services:
  s:
    versions: [v1, v2]
    routes:
      - {name: crew, when: {path: /crew}, send: v2}
      - name: all     # the one that counts
        send: {v1: 80, v2: 20}   # for now
  other: {versions: [v1]}
releases:
  r: {service: s, route: all, from: v1, to: v2, stages: [10, 100], each: 10s, judge: {every: 5s, least: 20}, on-success: make-default%s}
  late: {service: s, route: all, from: v2, to: v1, stages: [100]}
`

// stage lets time pass: every second so many requests of both versions, of which
// some of the new one fail.
func (k *clock) stage(seq *uint64, seconds, v1, v2, bad int) {
	k.t.Helper()
	for range seconds {
		k.now = k.now.Add(time.Second)
		*seq++
		revision := k.Revisions.Current().Revision.Number
		of := func(version string, n, bad int) wire.Series {
			return wire.Series{Revision: revision, Service: "s", Version: version, RouteOf: "s", Route: "all", Counts: stats.Counts{OK: uint64(n - bad), Failed: uint64(bad), Tries: uint64(n), Latency: []stats.Bin{{Bucket: 99, N: uint64(n)}}}}
		}
		d := delta(*seq, of("v1", v1, 0), of("v2", v2, bad))
		app := func(version string, copies bool, n uint64) wire.Series {
			return wire.Series{App: true, Copy: copies, Service: "s", Version: version, Counts: stats.Counts{OK: n, Tries: n, Latency: []stats.Bin{{Bucket: 99, N: n}}}}
		}
		d.Series = append(d.Series, app("v2", true, 5), app("v1", false, 50), app("v2", false, 9))
		k.Count("p", d)
		if err := k.Releases.Step(k.t.Context()); err != nil {
			k.t.Fatal(err)
		}
	}
}

func (k *clock) release(name string) model.Release {
	k.t.Helper()
	r, err := k.Releases.Get(k.t.Context(), name)
	if err != nil {
		k.t.Fatal(err)
	}
	return r
}

func (k *clock) started(text string) *clock {
	k.t.Helper()
	k.mustPublish(fmt.Sprintf(releasing, text))
	k.register("s1", "s", "v1")
	k.register("s2", "s", "v2")
	if _, err := k.Releases.Start(as(k.t, "mate"), model.StartReleaseRequest{Name: "r"}); err != nil {
		k.t.Fatal(err)
	}
	return k
}

func (k *clock) sent(route string) string {
	return rules.SendText(k.Revisions.Current().Rules.Route("s", route).Send, "s")
}

// A release goes through kills at any moment: what it changed holds, and its end
// is written as a person would have written it.
func TestReleaseOutlivesTheService(t *testing.T) {
	dir, seq := t.TempDir(), uint64(0)
	k := reopen(t, dir).started("")
	if _, err := k.Releases.Start(t.Context(), model.StartReleaseRequest{Name: "late"}); err == nil || !strings.Contains(err.Error(), "release r is changing route all of s") {
		t.Errorf("a second release of the route: %v", err)
	}
	if _, err := k.Releases.Start(t.Context(), model.StartReleaseRequest{Name: "r"}); !errors.As(err, &problem.Busy{}) {
		t.Errorf("the same once more: %v", err)
	}
	var states []string
	for i := range 9 {
		k = reopenAt(t, dir, k.now.Add(time.Minute), nil) // with the store of the one before still open: as after a kill
		k.register("s2", "s", "v2")
		seq = 0
		k.stage(&seq, 6, 50, 50, 0)
		r := k.release("r")
		if now := string(r.State) + " " + r.Steps[max(r.Step, 0)].Name; len(states) == 0 || states[len(states)-1] != now {
			states = append(states, now)
		}
		if want := map[bool]string{true: "v1 90, v2 10", false: "v1 80, v2 20"}[r.Step == 0]; r.Step < 1 && k.sent("all") != want {
			t.Fatalf("life %d, %s: sends %s, want %s", i, r.State, k.sent("all"), want)
		}
	}
	if got := strings.Join(states, ", "); len(states) < 3 || !strings.HasPrefix(got, "judging 10%") {
		t.Errorf("killed again and again it went through %s", got)
	}
	k.stage(&seq, 40, 50, 50, 0)
	r := k.release("r")
	if r.State != model.ReleaseCompleted || k.sent("all") != "v2" {
		t.Fatalf("%s: %s; sends %s", r.State, r.Why, k.sent("all"))
	}
	text := k.Revisions.Current().Revision.Bundles[model.MainBundle][0].Text
	want := strings.Replace(fmt.Sprintf(releasing, ""), "send: {v1: 80, v2: 20}   # for now", "send: v2   # for now", 1)
	if text != want {
		t.Errorf("written:\n%s\nwant\n%s", text, want)
	}
	var authors []string
	list, err := k.Revisions.List(t.Context(), 0, 10)
	for _, rev := range list {
		authors = append(authors, rev.Kind+" "+rev.Author)
	}
	if got := strings.Join(authors, ", "); err != nil || got != "release release/r, release release/r, release release/r, publish mate" {
		t.Errorf("revisions: %s, %v", got, err)
	}
	// An earlier revision reads with what the release changed then.
	rev, err := k.Revisions.Revision(t.Context(), 2)
	rs, rerr := revisions.RulesOf(&rev)
	if err != nil || rerr != nil || rules.SendText(rs.Route("s", "all").Send, "s") != "v1 90, v2 10" || rev.Bundles[model.MainBundle][0].Text == text {
		t.Errorf("revision 2: %v, %v", err, rerr)
	}
	// The files that a person has do not know of it, and are told.
	rep, err := k.Revisions.Check(t.Context(), model.MainBundle, []rules.File{{Name: "a.yaml", Text: fmt.Sprintf(releasing, "")}})
	if err != nil || len(rep.Changes) != 1 || len(rep.Releases) != 1 || !rep.Releases[0].Written || rep.Releases[0].Changes[0].After != "v2" {
		t.Errorf("compared: %+v, %v", rep, err)
	}
	if _, err := k.Releases.Act(as(t, "cook"), "r", model.ActWithdraw, model.ReleaseAction{}); err != nil || k.sent("all") != "v1" {
		t.Errorf("taken back: %v, sends %s", err, k.sent("all"))
	}
}

func TestReleaseIsJudged(t *testing.T) {
	seq := uint64(0)
	k := newClock(t).started("")
	k.stage(&seq, 8, 50, 10, 0)
	look, err := k.Revisions.Check(t.Context(), model.MainBundle, []rules.File{{Name: "a.yaml", Text: fmt.Sprintf(releasing, "")}})
	if err != nil || len(look.Changes) != 0 || len(look.Releases) != 1 || look.Releases[0].Written || look.Releases[0].Changes[0].After != "v1 90, v2 10" {
		t.Errorf("while it runs: %+v, %v", look, err)
	}
	if j := k.release("r").Last; j == nil || j.From.Requests != 5*j.To.Requests || j.To.Requests%10 != 0 {
		t.Errorf("counted: %+v", j) // what the workloads' own side tells is no other request
	}
	// What followed an earlier revision is not of the stage.
	seq++
	late := wire.Series{Revision: 1, Service: "s", Version: "v2", RouteOf: "s", Route: "all", Counts: stats.Counts{Failed: 500, Tries: 500}}
	k.Count("p", delta(seq, late))
	k.stage(&seq, 3, 50, 10, 0)
	if r := k.release("r"); r.IsOver() || r.Bad > 0 {
		t.Errorf("judged by requests of before: %s: %s", r.State, r.Why)
	}
	for i := 0; i < 8 && !k.release("r").IsOver(); i++ {
		k.stage(&seq, 1, 50, 10, 5)
	}
	r := k.release("r")
	if r.State != model.ReleaseWithdrawn || r.By != release.ByJudge || !strings.Contains(r.Why, "missed in stage 10%") || k.sent("all") != "v1" {
		t.Fatalf("%s by %s: %s; sends %s", r.State, r.By, r.Why, k.sent("all"))
	}
	if r.Bad == 0 || r.Excess < float64(r.Bad)-1 || len(r.Judgements) < 2 || r.Judgements[len(r.Judgements)-1].Verdict != model.JudgementMissed {
		t.Errorf("cost %d, %v; %d judgements", r.Bad, r.Excess, len(r.Judgements))
	}
	was := r.Bad
	k.stage(&seq, 1, 0, 10, 10) // what was under way counts still
	k.stage(&seq, 5, 50, 0, 0)
	if r = k.release("r"); r.Bad <= was {
		t.Errorf("stragglers are not counted: %d", r.Bad)
	}
	if e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Revision: r.Revision, Settle: -1}); err != nil || e.Author != "release/r" {
		t.Errorf("effect: %+v, %v", e.Author, err)
	}
	// Copies are what a dark stage is judged by.
	k, seq = newClock(t).started(", dark: 10%"), 0
	k.stage(&seq, 8, 50, 10, 10) // what v2 answers by its weight counts for nothing
	if r := k.release("r"); r.State != model.ReleaseDark || r.Last == nil || r.Last.To.Requests == 0 || r.Last.To.Bad != 0 || r.Last.Share != 0.1 || r.Requests != 0 {
		t.Errorf("dark: %s, %+v, %d", r.State, r.Last, r.Requests)
	}
	if m := k.Revisions.Current().Rules.Route("s", "all").Mirror; m == nil || m.To.Version != "v2" || k.sent("all") != "v1 100, v2 0" {
		t.Errorf("dark: copies to %v, sends %s", m, k.sent("all"))
	}
}

// TestABreakIsNotJudged: a process that was stopped hears afterwards of what it
// missed, and judges none of it.
func TestABreakIsNotJudged(t *testing.T) {
	seq := uint64(0)
	k := newClock(t).started("")
	k.stage(&seq, 3, 50, 10, 0)
	k.now = k.now.Add(time.Minute)
	missed := func() {
		seq++
		d := delta(seq, wire.Series{Revision: k.Revisions.Current().Revision.Number, Service: "s", Version: "v2", RouteOf: "s", Route: "all", Counts: stats.Counts{Failed: 500, Tries: 500}})
		d.AgoMS = 30_000
		k.Count("p", d)
	}
	missed()
	k.stage(&seq, 1, 50, 10, 0)
	missed()
	k.stage(&seq, 5, 50, 10, 0)
	if r := k.release("r"); r.IsOver() || r.JudgementCount == 0 || r.Bad > 0 {
		t.Errorf("%s: %s; %d looks, %d failed", r.State, r.Why, r.JudgementCount, r.Bad)
	}
}

// TestRatesAreOfTheWholeTime: what is counted between two judgements is of all
// the seconds between them.
func TestRatesAreOfTheWholeTime(t *testing.T) {
	k := newClock(t)
	text := strings.Replace(fmt.Sprintf(releasing, ""), "least: 20}", "least: 20, expect: [rps >= 9, rps <= 11]}", 1)
	k.mustPublish(text)
	k.register("s2", "s", "v2")
	if _, err := k.Releases.Start(t.Context(), model.StartReleaseRequest{Name: "r"}); err != nil {
		t.Fatal(err)
	}
	seq := uint64(0)
	k.stage(&seq, 12, 90, 10, 0)
	r := k.release("r")
	if r.IsOver() || len(r.Judgements) < 2 || r.Judgements[1].Verdict != model.JudgementMet {
		t.Errorf("10 requests a second: %s: %s; %+v", r.State, r.Why, r.Judgements)
	}
}

func TestPublishEndsARelease(t *testing.T) {
	seq := uint64(0)
	k := newClock(t).started("")
	k.stage(&seq, 3, 50, 10, 0)
	p := k.mustPublish(strings.Replace(fmt.Sprintf(releasing, ""), "other: {versions: [v1]}", "other: {versions: [v1, v2]}", 1))
	if len(p.Withdrawn) > 0 || k.release("r").IsOver() || k.sent("all") != "v1 90, v2 10" {
		t.Errorf("a publish beside it: %v, sends %s", p.Withdrawn, k.sent("all"))
	}
	k.stage(&seq, 3, 50, 10, 0)
	p = k.mustPublish(strings.Replace(fmt.Sprintf(releasing, ""), "v1: 80, v2: 20", "v1: 70, v2: 30", 1))
	r := k.release("r")
	if fmt.Sprint(p.Withdrawn) != "[r]" || r.State != model.ReleaseWithdrawn || r.By != release.ByPublish || !strings.Contains(r.Why, fmt.Sprintf("revision %d of mate changed route all of s", p.Revision)) || k.sent("all") != "v1 70, v2 30" {
		t.Errorf("a publish of its route: %v, %s: %s; sends %s", p.Withdrawn, r.State, r.Why, k.sent("all"))
	}
	k.stage(&seq, 5, 50, 10, 0)
	if k.sent("all") != "v1 70, v2 30" || k.Revisions.Current().Revision.Number != p.Revision {
		t.Error("the release changed something after its end")
	}
	for name, want := range map[string]string{"x": "there is no release x", "late": "was never started"} {
		if _, err := k.Releases.Act(t.Context(), name, model.ActHold, model.ReleaseAction{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestTextThatCannotBeWritten holds the release instead of losing its end.
func TestTextThatCannotBeWritten(t *testing.T) {
	seq := uint64(0)
	k := newClock(t)
	k.mustPublish(strings.Replace(fmt.Sprintf(releasing, ""), "send: {v1: 80, v2: 20}", "send: &x {v1: 80, v2: 20}", 1))
	k.register("s2", "s", "v2")
	if _, err := k.Releases.Start(t.Context(), model.StartReleaseRequest{Name: "r"}); err != nil {
		t.Fatal(err)
	}
	k.stage(&seq, 40, 50, 50, 0)
	if r := k.release("r"); r.State != model.ReleaseHeld || !strings.Contains(r.Why, "cannot be") || k.sent("all") != "v1 0, v2 100" {
		t.Errorf("%s: %s; sends %s", r.State, r.Why, k.sent("all"))
	}
	if r, err := k.Releases.Act(as(t, "mate"), "r", model.ActWithdraw, model.ReleaseAction{Why: "a hunch"}); err != nil || r.State != model.ReleaseHeld || !strings.Contains(r.Why, "a hunch; everything is with v1") || k.sent("all") != "v1 100, v2 0" {
		t.Errorf("withdrawn: %v, %s: %s; sends %s", err, r.State, r.Why, k.sent("all"))
	}
	k.stage(&seq, 10, 50, 0, 0)
	if _, err := k.Releases.Act(as(t, "mate"), "r", model.ActResume, model.ReleaseAction{}); !errors.As(err, &release.Refused{}) || k.sent("all") != "v1 100, v2 0" {
		t.Errorf("resumed: %v, sends %s", err, k.sent("all"))
	}
	k.mustPublish(fmt.Sprintf(releasing, "")) // the same by its meaning, and it can be written into
	if r, err := k.Releases.Act(as(t, "mate"), "r", model.ActWithdraw, model.ReleaseAction{}); err != nil || r.State != model.ReleaseWithdrawn || k.sent("all") != "v1" {
		t.Errorf("withdrawn once more: %v, %s; sends %s", err, r.State, k.sent("all"))
	}
}

// receiver is told of releases, and remembers.
type receiver struct {
	sync.Mutex
	got    []*http.Request
	bodies []string
	status int
	stuck  chan struct{} // nil: it answers at once
}

func (r *receiver) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	if r.stuck != nil {
		<-r.stuck
	}
	r.Lock()
	defer r.Unlock()
	b, _ := io.ReadAll(req.Body)
	r.got, r.bodies = append(r.got, req), append(r.bodies, string(b))
	w.WriteHeader(r.status)
}

func (r *receiver) answer(status int) {
	r.Lock()
	defer r.Unlock()
	r.status = status
}

func TestReceiversAreTold(t *testing.T) {
	flaky, gate := &receiver{status: 500}, &receiver{status: 403}
	one, two := httptest.NewServer(flaky), httptest.NewServer(gate)
	defer one.Close()
	defer two.Close()
	dir, seq := t.TempDir(), uint64(0)
	k := reopen(t, dir)
	public, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	k.Outbox.Key = key
	k.started(fmt.Sprintf(", notify: [{url: '%s/a?b=c', mode: binary}, {url: '%s/', gate: true}]", one.URL, two.URL))
	k.stage(&seq, 1, 50, 50, 0)
	k.eventually("the gate refused", func() bool { return k.release("r").State == model.ReleaseHeld })
	if r := k.release("r"); r.State != model.ReleaseHeld || r.By != release.ByGate || !strings.Contains(r.Why, "403") || r.Step != -1 {
		t.Fatalf("refused by a gate: %s by %s: %s", r.State, r.By, r.Why)
	}
	var asked struct {
		Type string
		Data struct {
			Event   model.ReleaseEvent
			Release model.Release
		}
	}
	if err := json.Unmarshal([]byte(gate.bodies[0]), &asked); err != nil || asked.Type != "nightjar.release.gate" || asked.Data.Event.Step != "10%" || asked.Data.Release.Name != "r" ||
		!strings.HasPrefix(gate.got[0].Header.Get("Content-Type"), "application/cloudevents+json") {
		t.Errorf("asked: %+v, %v", asked, err)
	}
	gate.answer(204)
	if _, err := k.Releases.Act(as(t, "mate"), "r", model.ActResume, model.ReleaseAction{}); err != nil {
		t.Fatal(err)
	}
	deliver := func() {
		t.Helper()
		if err := k.Outbox.Deliver(context.Background()); err != nil {
			t.Fatal(err)
		}
		k.Outbox.Wait()
	}
	deliver() // until the first that it does not take
	if len(flaky.got) != 1 {
		t.Fatalf("told %d times", len(flaky.got))
	}
	flaky.answer(200)
	// After a kill it is still to be told, and is.
	now := k.now
	k = reopenAt(t, dir, now.Add(time.Minute), key)
	deliver()
	if n := len(flaky.got); n < 5 || flaky.got[0].Header.Get("Ce-Id") != flaky.got[1].Header.Get("Ce-Id") || flaky.got[0].Header.Get("Ce-Id") == flaky.got[2].Header.Get("Ce-Id") {
		t.Errorf("told %d times after a kill", n)
	}
	told := len(flaky.got)
	if deliver(); len(flaky.got) != told {
		t.Errorf("told again what it took")
	}
	for i, req := range flaky.got {
		if req.Header.Get("Ce-Specversion") != "1.0" || !strings.HasPrefix(req.Header.Get("Ce-Type"), "nightjar.release.") || req.Header.Get("Ce-Id") == "" || !json.Valid([]byte(flaky.bodies[i])) {
			t.Errorf("event: %v", req.Header)
		}
		signed(t, public, req, flaky.bodies[i])
	}
	r := k.release("r")
	for _, n := range r.Notifications {
		if n.State == "given up" || n.State == "waiting" {
			t.Errorf("notice: %+v", n)
		}
	}
	// Nobody is told for ever.
	flaky.answer(500)
	if _, err := k.Releases.Act(as(t, "mate"), "r", model.ActHold, model.ReleaseAction{}); err == nil {
		for range outbox.MaxAttempts + 1 {
			k.now = k.now.Add(10 * time.Minute)
			deliver()
		}
		if n := k.release("r").Notifications; n[0].State != "delivered" || n[1].State != "given up" || n[1].Attempts != outbox.MaxAttempts {
			t.Errorf("told in vain: %+v", n[:2])
		}
		// One that does not answer holds up nobody else.
		stuck := make(chan struct{})
		flaky.stuck = stuck
		gate.answer(204)
		had := len(gate.got)
		if _, err := k.Releases.Act(as(t, "mate"), "r", model.ActResume, model.ReleaseAction{}); err != nil {
			t.Fatal(err)
		}
		for range 100 {
			if err := k.Outbox.Deliver(context.Background()); err != nil {
				t.Fatal(err)
			}
			if gate.Lock(); len(gate.got) > had {
				had = 0
			}
			if gate.Unlock(); had == 0 {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if had > 0 {
			t.Error("a receiver waits for another")
		}
		close(stuck)
		k.Outbox.Wait()
	} else {
		t.Error(err)
	}
}

// signed checks a signature as a receiver would (RFC 9421).
func signed(t *testing.T, key ed25519.PublicKey, req *http.Request, body string) {
	t.Helper()
	sum := sha256.Sum256([]byte(body))
	if got := req.Header.Get("Content-Digest"); got != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" {
		t.Errorf("digest %s", got)
	}
	params := strings.TrimPrefix(req.Header.Get("Signature-Input"), "nightjar=")
	names, _, _ := strings.Cut(strings.TrimPrefix(params, "("), ")")
	var base bytes.Buffer
	for name := range strings.FieldsSeq(names) {
		value := ""
		switch plain := strings.Trim(name, `"`); plain {
		case "@method":
			value = req.Method
		case "@target-uri":
			value = "http://" + req.Host + req.RequestURI
		default:
			value = req.Header.Get(plain)
		}
		fmt.Fprintf(&base, "%s: %s\n", name, value)
	}
	fmt.Fprintf(&base, "\"@signature-params\": %s", params)
	signature, err := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(req.Header.Get("Signature"), "nightjar="), ":"))
	if err != nil || !ed25519.Verify(key, base.Bytes(), signature) || !strings.Contains(names, "ce-type") {
		t.Errorf("the signature does not hold: %v of\n%s", err, base.String())
	}
}
