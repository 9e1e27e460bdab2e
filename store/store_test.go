package store

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

func open2(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestRevisionsOutliveTheProcess(t *testing.T) {
	dir, ctx := filepath.Join(t.TempDir(), "new", "deep"), t.Context()
	s := open2(t, dir)
	if !s.Fresh() {
		t.Error("a new database is not fresh")
	}
	if _, err := s.Revision(ctx, 0); !errors.Is(err, ErrNotFound) {
		t.Errorf("of an empty database: %v", err)
	}
	at := time.Date(2026, 11, 23, 22, 40, 0, 123456789, time.UTC)
	for i, text := range []string{"one", "two ☂\n", ""} {
		r, err := s.AddRevision(ctx, Revision{Kind: "publish", Bundle: "main", Author: "mate", Message: "m", At: at,
			Bundles: Bundles{"main": {{Name: "a.yaml", Text: text}}, "crew": {}}})
		if err != nil || r.Number != uint(i+1) {
			t.Fatalf("revision %d: %d, %v", i+1, r.Number, err)
		}
	}
	s.Close()
	s = open2(t, dir)
	if s.Fresh() {
		t.Error("an old database is fresh")
	}
	r, err := s.Revision(ctx, 2)
	if err != nil || r.Bundles["main"][0].Text != "two ☂\n" || !r.At.Equal(at) || r.Author != "mate" {
		t.Errorf("revision 2: %+v, %v", r, err)
	}
	if r, _ := s.Revision(ctx, 0); r.Number != 3 {
		t.Errorf("the newest is %d", r.Number)
	}
	list, err := s.Revisions(ctx, 3, 1)
	if err != nil || len(list) != 1 || list[0].Number != 2 || list[0].Bundles != nil {
		t.Errorf("page: %+v, %v", list, err)
	}
	if _, err := s.Revision(ctx, 4); !errors.Is(err, ErrNotFound) {
		t.Errorf("revision 4: %v", err)
	}
}

// TestTimesOfAllZones: a clock that is hours ahead of UTC finds the same rows.
func TestTimesOfAllZones(t *testing.T) {
	s, ctx, noon := open2(t, t.TempDir()), t.Context(), time.Date(2026, 11, 23, 12, 0, 0, 0, time.FixedZone("", 5*3600))
	for minute := range 4 {
		if _, err := s.AddRevision(ctx, Revision{At: noon.Add(time.Duration(minute) * time.Minute)}); err != nil {
			t.Fatal(err)
		}
	}
	east := time.FixedZone("", 9*3600)
	for _, tt := range []struct {
		number        uint
		at            time.Duration
		before, after uint
	}{{1, 0, 0, 2}, {3, 0, 2, 4}, {4, 0, 3, 0}, {0, time.Minute, 2, 3}, {0, 90 * time.Second, 2, 3}, {0, -time.Second, 0, 1}, {0, time.Hour, 4, 0}} {
		before, after, err := s.Around(ctx, tt.number, noon.Add(tt.at).In(east))
		if err != nil || before.Number != tt.before || after.Number != tt.after {
			t.Errorf("around %d, %s: %d and %d, %v", tt.number, tt.at, before.Number, after.Number, err)
		}
	}
	if list, err := s.WithoutEffect(ctx, noon.Add(2*time.Minute).In(east), 10); err != nil || len(list) != 2 || list[0].Number != 3 {
		t.Errorf("since minute 2: %+v, %v", list, err)
	}
	for _, h := range []TrialHead{{Name: "over", State: "met"}, {Name: "runs", State: "running"}, {Name: "broke off", State: "interrupted"}} {
		h.Began = noon
		h, err := s.AddTrial(ctx, h)
		if err != nil {
			t.Fatal(err)
		}
		if h.Name == "over" {
			h.Ended = noon.Add(time.Minute)
			err = s.EndTrial(ctx, h, 1, 1)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for minute, want := range map[int]string{-1: "", 0: "over runs broke off", 1: "runs"} {
		from, names := noon.Add(time.Duration(minute)*time.Minute).In(east), []string{}
		list, err := s.TrialsBetween(ctx, "running", from, from.Add(time.Minute))
		for _, h := range list {
			names = append(names, h.Name)
		}
		if got := strings.Join(names, " "); err != nil || got != want {
			t.Errorf("trials in minute %d: %q, %v", minute, got, err)
		}
	}
}

func TestCheckedFilesAreReplaced(t *testing.T) {
	s, ctx := open2(t, t.TempDir()), t.Context()
	for n := range 2 {
		if err := s.SetChecked(ctx, Checked{Bundle: "main", Files: []rules.File{{Name: "a", Text: strings.Repeat("x", n)}}, By: "mate", At: time.Now(), Mistakes: n}); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.CheckedFiles(ctx)
	if err != nil || len(got) != 1 || got[0].Mistakes != 1 || got[0].Files[0].Text != "x" {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestReadersAndWritersTogether: many at once, and none is told that the
// database is locked.
func TestReadersAndWritersTogether(t *testing.T) {
	s, ctx := open2(t, t.TempDir()), t.Context()
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 20 {
				if _, err := s.AddRevision(ctx, Revision{Kind: "publish", At: time.Now()}); err != nil {
					t.Error(err)
				}
			}
		})
		all.Go(func() {
			for range 50 {
				if _, err := s.Revisions(ctx, 0, 10); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if r, err := s.Revision(ctx, 0); err != nil || r.Number != 160 {
		t.Errorf("the newest is %d, %v", r.Number, err)
	}
}

func TestWhatCannotBeOpened(t *testing.T) {
	dir := t.TempDir()
	s := open2(t, dir)
	if err := s.write.Exec("PRAGMA user_version = 99").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "use the newer program") {
		t.Errorf("a schema of the future: %v", err)
	}
	bad := t.TempDir()
	if err := os.WriteFile(filepath.Join(bad, "nightjar.db"), []byte(strings.Repeat("not a database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(bad); err == nil || !strings.Contains(err.Error(), "nightjar.db") {
		t.Errorf("no database: %v", err)
	}
	if _, err := Open(filepath.Join(bad, "nightjar.db", "sub")); err == nil {
		t.Error("a directory below a file was opened")
	}
}

func TestDrafts(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	s := open2(t, dir)
	save := func(by, text string, expect uint) (uint, error) {
		d, err := s.SaveDraft(ctx, Draft{Bundle: "main", By: by, Base: 7, Files: []rules.File{{Name: "a", Text: text}}, At: time.Now()}, expect)
		return d.Version, err
	}
	for _, c := range []struct {
		by, text string
		expect   uint
		version  uint
		err      error
	}{
		{"mate", "one", 0, 1, nil}, {"mate", "two", 1, 2, nil},
		{"mate", "late", 1, 0, ErrDraftChanged}, {"mate", "anew", 0, 0, ErrDraftChanged},
		{"cook", "soup", 3, 0, ErrDraftChanged}, {"cook", "soup", 0, 1, nil},
	} {
		if v, err := save(c.by, c.text, c.expect); err != c.err || err == nil && v != c.version {
			t.Errorf("%s %q on %d: version %d, %v", c.by, c.text, c.expect, v, err)
		}
	}
	s.Close()
	s = open2(t, dir)
	if d, err := s.Draft(ctx, "main", "mate"); err != nil || d.Files[0].Text != "two" || d.Base != 7 || d.Version != 2 {
		t.Errorf("kept: %+v, %v", d, err)
	}
	if list, err := s.Drafts(ctx); err != nil || len(list) != 2 || list[0].By != "cook" || list[0].Files != nil {
		t.Errorf("list: %+v, %v", list, err)
	}
	for range 2 {
		if err := s.DropDraft(ctx, "main", "mate"); err != nil {
			t.Error(err)
		}
	}
	if _, err := s.Draft(ctx, "main", "mate"); !errors.Is(err, ErrNotFound) {
		t.Errorf("dropped: %v", err)
	}
	// Many at once: every version is saved over by exactly one.
	var won sync.Map
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for v := range uint(20) {
				if n, err := save("all", "x", v); err == nil {
					if _, twice := won.LoadOrStore(n, true); twice {
						t.Errorf("version %d was saved twice", n)
					}
				} else if err != ErrDraftChanged {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
}

// TestMigrations: records of every earlier schema are there in the newest.
func TestMigrations(t *testing.T) {
	for version := 1; version <= len(migrations); version++ {
		dir := t.TempDir()
		db, err := open("file:" + filepath.Join(dir, "nightjar.db"))
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range append(migrations[:version:version],
			`INSERT INTO revisions (number, kind, bundle, author, message, at, bundles) VALUES (5, 'publish', 'main', 'mate', 'old', '2026-11-23 22:40:00+00:00', '{"main":[{"name":"a","text":"t"}]}')`,
			`INSERT INTO checked VALUES ('main', '[]', 'mate', '2026-11-23 22:40:00+00:00', 3)`, "PRAGMA user_version = "+string(rune('0'+version))) {
			if err := db.Exec(step).Error; err != nil {
				t.Fatal(err)
			}
		}
		if raw, err := db.DB(); err == nil {
			raw.Close()
		}
		s := open2(t, dir)
		r, err := s.Revision(t.Context(), 0)
		if err != nil || r.Number != 5 || r.Bundles["main"][0].Text != "t" || s.Fresh() {
			t.Errorf("from version %d: %+v, %v", version, r, err)
		}
		if checked, err := s.CheckedFiles(t.Context()); err != nil || checked[0].Mistakes != 3 {
			t.Errorf("from version %d: %+v, %v", version, checked, err)
		}
		if _, err := s.SaveDraft(t.Context(), Draft{Bundle: "b", By: "x", At: time.Now()}, 0); err != nil {
			t.Errorf("from version %d: %v", version, err)
		}
	}
}

// TestTelemetryAges: ten seconds become minutes after six hours and go after
// fourteen days, and nothing is lost on the way; series that nothing is of go too.
func TestTelemetryAges(t *testing.T) {
	s, ctx := open2(t, t.TempDir()), t.Context()
	const begin, hours = 1_800_000_000, 8
	mem := telemetry.New()
	seq := uint64(0)
	for at := int64(begin); at < begin+hours*3600; at += 10 {
		seq++
		name := "s"
		if at == begin {
			name = "short-lived"
		}
		mem.Count(&wire.Delta{Nonce: "n", Sequence: seq, Holds: 1, Caller: "kiosk", Series: []wire.Series{{Service: name, Counts: stats.Counts{OK: 3, Latency: []stats.Bin{{Bucket: 9, N: 3}}}}}}, time.Unix(at, 0))
		if seq%60 == 0 {
			if err := s.AddTelemetry(ctx, mem.Take(), at); err != nil {
				t.Fatal(err)
			}
		}
		if at%3600 == 0 {
			mem.Tidy(time.Unix(at, 0))
		}
	}
	now := int64(begin + hours*3600)
	all := func(from, to int64) (n uint64, rows int) {
		t.Helper()
		err := s.Telemetry(ctx, from, to, func(slot telemetry.Slot) error {
			rows++
			return mem.Read(slot.Sealed, func(_ *telemetry.Names, _ uint, c *stats.Counts) { n += c.OK })
		})
		if err != nil {
			t.Fatal(err)
		}
		return n, rows
	}
	want, rows := all(0, now)
	if want != 3*hours*360 || rows != hours*360 {
		t.Errorf("%d requests in %d rows", want, rows)
	}
	for more := true; more; {
		var err error
		if more, err = s.RollUp(ctx, now); err != nil {
			t.Fatal(err)
		}
	}
	if n, rows := all(0, now); n != want || rows != FineTime/10+(hours*3600-FineTime)/60 {
		t.Errorf("rolled up: %d requests in %d rows", n, rows)
	}
	if n, _ := all(begin+60, begin+120); n != 18 {
		t.Errorf("a minute has %d requests", n)
	}
	known, seen, first, err := s.TelemetryState(ctx)
	if err != nil || len(known) != 2 || seen["n"] != seq || first != begin {
		t.Errorf("%v %v %d %v", known, seen, first, err)
	}
	gone, err := s.PruneTelemetry(ctx, begin+CoarseTime+60)
	if err != nil || len(gone) != 1 || gone[0] != 0 {
		t.Errorf("gone: %v, %v", gone, err)
	}
	if n, _ := all(0, now); n != want-18 {
		t.Errorf("after fourteen days: %d requests, want %d", n, want-18)
	}
}
