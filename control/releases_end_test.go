package control

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
)

// TestManyReleasesEndAtOnce: releases are over when they are, however long it takes to
// write all their ends into the rules. Until its end is written, a completed release
// keeps its requests, also across a restart; and a person who publishes its route
// comes first.
func TestManyReleasesEndAtOnce(t *testing.T) {
	const many, filler = 20, 400
	var text strings.Builder
	text.WriteString("services:\n")
	for i := range many + filler { // the filler makes each end take long to write
		fmt.Fprintf(&text, "  s%d: {versions: [v1, v2], instances: [{at: \"http://h:1\", version: v1}, {at: \"http://h:2\", version: v2}], routes: [{name: all, send: v1}]}\n", i)
	}
	text.WriteString("releases:\n")
	for i := range many {
		fmt.Fprintf(&text, "  r%d: {service: s%d, from: v1, to: v2, stages: [100], each: 5s, judge: {every: 5s, least: 20}, on-success: make-default}\n", i, i)
	}
	dir, seq := t.TempDir(), uint64(0)
	k := reopen(t, dir)
	k.mustPublish(text.String())
	for i := range many {
		if _, err := k.Releases.Start(as(t, "mate"), model.StartReleaseRequest{Name: fmt.Sprint("r", i)}); err != nil {
			t.Fatal(err)
		}
	}
	step := func(seconds int) {
		t.Helper()
		for range seconds {
			k.now = k.now.Add(time.Second)
			seq++
			d := delta(seq)
			for i := range many {
				name := fmt.Sprint("s", i)
				for _, v := range []string{"v1", "v2"} {
					d.Series = append(d.Series, wire.Series{Revision: k.Revisions.Current().Revision.Number, Service: name, Version: v, RouteOf: name, Route: "all", Counts: stats.Counts{OK: 50, Tries: 50}})
				}
			}
			k.Count("p", d)
			if err := k.Releases.Step(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
	}
	// written is how many ends are in the text of the rules, and sent how many new
	// versions get all requests.
	counted := func() (written, sent int) {
		now := k.Revisions.Current()
		for i := range many {
			name := fmt.Sprint("s", i)
			if rules.SendText(now.Written.Route(name, "all").Send, name) == "v2" {
				written++
			}
			if s := rules.SendText(now.Rules.Route(name, "all").Send, name); s == "v2" || s == "v1 0, v2 100" {
				sent++
			}
		}
		return written, sent
	}
	for range 20 {
		if step(1); k.release("r0").IsOver() {
			break
		}
	}
	for i := range many {
		if r := k.release(fmt.Sprint("r", i)); r.State != model.ReleaseCompleted {
			t.Errorf("with the others over, %s is %s", r.Name, r.State)
		}
	}
	if written, sent := counted(); written == many || sent != many {
		t.Fatalf("right after: %d of %d ends are written, %d new versions get all requests", written, many, sent)
	}
	if _, err := k.Releases.Start(t.Context(), model.StartReleaseRequest{Name: "r19"}); err == nil {
		t.Error("a release starts again before its end is written")
	}

	k, seq = reopenAt(t, dir, k.now.Add(time.Minute), nil), 0 // as after a kill
	if written, sent := counted(); written == many || sent != many {
		t.Errorf("after a restart: %d of %d ends are written, %d new versions get all requests", written, many, sent)
	}
	changed := strings.Replace(k.Revisions.Current().Revision.Bundles[model.MainBundle][0].Text, "  s19: {versions: [v1, v2]", "  s19: {versions: [v1, v2, v3]", 1)
	changed = changed[:strings.Index(changed, "  s19:")] + strings.Replace(changed[strings.Index(changed, "  s19:"):], "send: v1", "send: {v1: 50, v2: 50}", 1)
	if p := k.mustPublish(changed); len(p.Withdrawn) != 1 || p.Withdrawn[0] != "r19" {
		t.Errorf("a publish over an end that is not written withdraws %v", p.Withdrawn)
	}
	for range 4 * many {
		step(1)
	}
	if written, _ := counted(); written != many-1 {
		t.Errorf("at last %d of %d ends are written", written, many-1)
	}
	if got := rules.SendText(k.Revisions.Current().Rules.Route("s19", "all").Send, "s19"); got != "v1 50, v2 50" {
		t.Errorf("a person published 50 and 50, in force is %s", got)
	}
}
