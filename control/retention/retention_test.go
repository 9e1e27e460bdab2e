package retention

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/rules"
	"nightjar/store"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// old is records of each kind at a time; n makes their numbers.
func old(n uint, at time.Time, isOver bool) []store.Change {
	state := map[bool]string{true: store.NoticeDelivered, false: store.NoticeWaiting}[isOver]
	return []store.Change{
		store.SaveEffect{Revision: n, Summary: map[string]int{"worse": 1}, Effect: "body"},
		store.AddTrial{Trial: store.Trial{Number: n, Name: "t", State: map[bool]string{true: "met", false: "running"}[isOver], Began: at}},
		store.SaveRelease{Release: store.Release{Number: n, Name: "r", IsOver: isOver, Began: at}, Run: map[string]string{"by": "mate"}},
		store.AddJudgements{Release: n, Judgements: []any{map[string]int{"look": 1}}},
		store.AddReleaseEvents{Release: n, Events: []any{map[string]string{"kind": "started"}}},
		store.AddNotices{{Release: n, URL: "http://127.0.0.1:9", Due: at, State: state}},
		store.AddDrill{Drill: store.Drill{Number: n, Began: at, Ends: at.Add(time.Minute)}},
		store.AddActivity{{At: at, Who: "mate", Kind: "publish", Detail: "one"}},
		store.SaveDraft{Draft: store.Draft{Bundle: "main", By: at.String(), Version: 1, At: at}},
	}
}

// TestOldRecordsGo: what is older than its time is archived and goes; what is needed
// stays, and so does everything that is younger.
func TestOldRecordsGo(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	var changes []store.Change
	const revisions = 500
	for n := uint(1); n <= revisions; n++ { // half of them two years old
		at := noon.AddDate(-2, 0, 0)
		if n > revisions/2 {
			at = noon.AddDate(0, 0, -1)
		}
		rev := store.Revision{Number: n, Kind: "publish", Author: "mate", At: at, Bundles: store.Bundles{"main": {{Name: "a", Text: "t"}}}}
		switch n {
		case 260: // its text is that of an old one
			rev.Base, rev.Bundles = 7, nil
		case 5:
			rev.Message = "an old message"
		}
		changes = append(changes, store.AddRevision{Revision: rev})
	}
	changes = append(changes, old(1, noon.AddDate(-2, 0, 0), true)...)
	changes = append(changes, old(2, noon.AddDate(-2, 0, 0).Add(time.Second), false)...)
	changes = append(changes, old(revisions, noon.AddDate(0, 0, -1), true)...)
	changes = append(changes, store.SaveDraft{Draft: store.Draft{Bundle: "main", By: "cook", Base: 9, Version: 1, At: noon, Files: []rules.File{}}},
		store.AddOverlay{Overlay: store.Overlay{Release: 1, Revision: 3, Text: "{}"}})
	if err := st.Apply(ctx, changes...); err != nil {
		t.Fatal(err)
	}
	archive := filepath.Join(dir, "archive")
	r := &Retention{Records: st, Archive: archive, Now: func() time.Time { return noon }}
	for range 2 { // the second time there is nothing to do
		if err := r.Step(ctx); err != nil {
			t.Fatal(err)
		}
	}

	list, err := st.Revisions(ctx, 0, 1000)
	var kept []uint
	for _, rev := range list {
		kept = append(kept, rev.Number)
	}
	if err != nil || len(kept) != revisions/2+2 || !slices.Contains(kept, 7) || !slices.Contains(kept, 9) || slices.Contains(kept, 8) {
		t.Errorf("%d revisions stay, the oldest %v; %v", len(kept), kept[len(kept)-3:], err)
	}
	if rev, err := st.Revision(ctx, 260); err != nil || rev.Bundles["main"][0].Text != "t" {
		t.Errorf("a revision lost its text: %+v, %v", rev, err)
	}
	if err := st.Effect(ctx, 1, new(string)); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the effect of a revision that went: %v", err)
	}
	var trials, releases []uint
	st.Trials(ctx, 0, 10, func(one store.Trial, _ func(any) error) error { trials = append(trials, one.Number); return nil })
	st.Releases(ctx, store.ReleaseQuery{Limit: 10}, func(one store.Release, _ func(any) error) error {
		releases = append(releases, one.Number)
		return nil
	})
	if want := []uint{revisions, 2}; !slices.Equal(trials, want) || !slices.Equal(releases, want) {
		t.Errorf("trials %v and releases %v stay, want %v: those that run, and the new", trials, releases, want)
	}
	for release, want := range map[uint]int{1: 0, 2: 1, revisions: 1} {
		n := 0
		count := func(func(any) error) error { n++; return nil }
		err := errors.Join(st.Judgements(ctx, release, 10, count), st.ReleaseEvents(ctx, release, 10, count))
		notices, nerr := st.NoticesOf(ctx, release, 10)
		if err != nil || nerr != nil || n != 2*want || len(notices) != want {
			t.Errorf("release %d has %d judgements and events and %d notices; %v, %v", release, n, len(notices), err, nerr)
		}
	}
	drills, _ := st.Drills(ctx, 10)
	activity, _ := st.Activity(ctx, store.ActivityFilter{Limit: 10})
	drafts, _ := st.Drafts(ctx)
	if len(drills) != 1 || len(activity) != 1 || len(drafts) != 2 {
		t.Errorf("%d drills, %d entries, %d drafts stay", len(drills), len(activity), len(drafts))
	}

	text, err := os.ReadFile(filepath.Join(archive, "2026-11.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]int{}
	for line := range strings.Lines(string(text)) {
		var row struct {
			Record  string
			Number  uint
			Message string
			Bundles map[string][]rules.File
		}
		if err := json.Unmarshal([]byte(line), &row); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		if found[row.Record]++; row.Message != "" && (row.Number != 5 || row.Bundles["main"][0].Text != "t") {
			t.Errorf("archived: %+v", row)
		}
	}
	want := map[string]int{"revisions": revisions/2 - 2, "effects": 2, "trials": 1, "releases": 1, "release_events": 1, "judgements": 1, "drills": 2, "activity": 2, "drafts": 2}
	for record, n := range want {
		if found[record] != n {
			t.Errorf("%d %s are archived, want %d", found[record], record, n)
		}
	}
}

// TestNothingGoesUnarchived: records that cannot be archived stay.
func TestNothingGoesUnarchived(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Apply(ctx, old(1, noon.AddDate(-2, 0, 0), true)...); err != nil {
		t.Fatal(err)
	}
	archive := filepath.Join(dir, "archive")
	if err := os.WriteFile(archive, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	r := &Retention{Records: st, Archive: archive, Now: func() time.Time { return noon }}
	if err := r.Step(ctx); err == nil || !strings.Contains(err.Error(), "archived") {
		t.Errorf("the archive is a file, and it says %v", err)
	}
	if list, _ := st.Activity(ctx, store.ActivityFilter{Limit: 10}); len(list) != 1 {
		t.Error("what could not be archived is gone")
	}
}

func TestParseTimes(t *testing.T) {
	got, err := ParseTimes(map[string]string{"revisions": "90d", "trials": "forever"})
	if err != nil || got[store.KeptRevisions] != 90*day || got[store.KeptTrials] != Forever || got[store.KeptDrills] != 400*day {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []map[string]string{{"sails": "1d"}, {"trials": "90"}, {"trials": "0d"}, {"trials": "-1d"}, {"trials": "x"}} {
		if _, err := ParseTimes(bad); err == nil || !strings.Contains(err.Error(), "choose from") && !strings.Contains(err.Error(), "such as 90d") {
			t.Errorf("%v: %v", bad, err)
		}
	}
}
