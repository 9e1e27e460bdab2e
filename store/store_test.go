package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

func openStore(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestRevisionsOutliveTheProcess(t *testing.T) {
	dir, ctx := filepath.Join(t.TempDir(), "new", "deep"), t.Context()
	s := openStore(t, dir)
	if !s.IsNew() {
		t.Error("a new database is not new")
	}
	if _, err := s.Revision(ctx, 0); !errors.Is(err, ErrNotFound) {
		t.Errorf("of an empty database: %v", err)
	}
	at := time.Date(2026, 11, 23, 22, 40, 0, 123456789, time.UTC)
	for i, text := range []string{"one", "two ☂\n", ""} {
		err := s.Apply(ctx, AddRevision{Revision{Number: uint(i + 1), Kind: "publish", Bundle: "main", Author: "mate", Message: "m", At: at,
			Bundles: Bundles{"main": {{Name: "a.yaml", Text: text}}, "crew": {}}}})
		if err != nil {
			t.Fatalf("revision %d: %v", i+1, err)
		}
	}
	s.Close()
	s = openStore(t, dir)
	if s.IsNew() {
		t.Error("an old database is new")
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

// TestPragmas: the settings in the address of the database act: a driver ignores
// those that it does not know, and a write would not survive a power failure.
func TestPragmas(t *testing.T) {
	s := openStore(t, t.TempDir())
	for name, want := range map[string]string{"journal_mode": "wal", "synchronous": "2", "busy_timeout": "5000", "foreign_keys": "1"} {
		var got string
		if err := s.write.Raw("PRAGMA " + name).Scan(&got).Error; err != nil || got != want {
			t.Errorf("%s is %s, want %s (%v)", name, got, want, err)
		}
	}
	if err := s.read.Exec("DELETE FROM activity").Error; err == nil {
		t.Error("the connections that read can write")
	}
}

// TestTimesOfAllZones: a clock that is hours ahead of UTC finds the same rows.
func TestTimesOfAllZones(t *testing.T) {
	s, ctx, noon := openStore(t, t.TempDir()), t.Context(), time.Date(2026, 11, 23, 12, 0, 0, 0, time.FixedZone("", 5*3600))
	for minute := range 4 {
		if err := s.Apply(ctx, AddRevision{Revision{Number: uint(minute + 1), At: noon.Add(time.Duration(minute) * time.Minute)}}); err != nil {
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
	if list, err := s.WithoutEffect(ctx, 0, noon.Add(2*time.Minute).In(east), 10); err != nil || len(list) != 2 || list[0].Number != 3 {
		t.Errorf("since minute 2: %+v, %v", list, err)
	}
	for i, name := range []string{"ended", "running", "interrupted"} {
		h := Trial{Number: uint(i + 1), Name: name, State: name, Began: noon}
		changes := []Change{AddTrial{h}}
		if name == "ended" {
			h.Ended = noon.Add(time.Minute)
			changes = append(changes, EndTrial{Trial: h, Summary: 1, Result: 1})
		}
		if err := s.Apply(ctx, changes...); err != nil {
			t.Fatal(err)
		}
	}
	for minute, want := range map[int]string{-1: "", 0: "ended running interrupted", 1: "running"} {
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
	s, ctx := openStore(t, t.TempDir()), t.Context()
	for n := range 2 {
		if err := s.Apply(ctx, SaveChecked{Checked{Bundle: "main", Files: []rules.File{{Name: "a", Text: strings.Repeat("x", n)}}, By: "mate", At: time.Now(), Mistakes: n}}); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.CheckedFiles(ctx)
	if err != nil || len(got) != 1 || got[0].Mistakes != 1 || got[0].Files[0].Text != "x" {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestReadersAndWritersTogether: many at once, and nobody gets "database is locked".
func TestReadersAndWritersTogether(t *testing.T) {
	s, ctx := openStore(t, t.TempDir()), t.Context()
	var all sync.WaitGroup
	for writer := range 8 {
		all.Go(func() {
			for i := range 20 {
				if err := s.Apply(ctx, AddRevision{Revision{Number: uint(1 + writer*20 + i), Kind: "publish", At: time.Now()}}); err != nil {
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

// TestAllOrNothing: of several changes of which one fails, none is there.
func TestAllOrNothing(t *testing.T) {
	s, ctx := openStore(t, t.TempDir()), t.Context()
	one := AddRevision{Revision{Number: 1, At: time.Now()}}
	err := s.Apply(ctx, one, AddActivity{{Who: "mate"}}, one)
	if !isDuplicate(err) {
		t.Errorf("the same revision twice: %v", err)
	}
	if _, err := s.Revision(ctx, 0); !errors.Is(err, ErrNotFound) {
		t.Errorf("after a failure: %v", err)
	}
	if list, err := s.Activity(ctx, ActivityFilter{Limit: 10}); err != nil || len(list) != 0 {
		t.Errorf("after a failure: %+v, %v", list, err)
	}
}

// TestWrites: every statement that writes is in a file changes*.go, and allChanges lists
// every change.
func TestWrites(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil || len(files) < 5 {
		t.Fatal(files, err)
	}
	listed := map[string]bool{}
	for _, c := range allChanges {
		listed[strings.TrimPrefix(fmt.Sprintf("%T", c), "store.")] = true
	}
	writing := regexp.MustCompile(`\.(Create|CreateInBatches|Save|Updates?|Delete)\(|(?i:INSERT|UPDATE|DELETE) (INTO|FROM|\w+ SET)`)
	kind := regexp.MustCompile(`(?m)^func \(c (\w+)\) write\(`)
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		switch {
		case strings.HasSuffix(file, "_test.go"):
		case !strings.HasPrefix(file, "changes"):
			if found := writing.Find(text); found != nil {
				t.Errorf("%s writes: %s", file, found)
			}
		default:
			for _, k := range kind.FindAllSubmatch(text, -1) {
				if !listed[string(k[1])] {
					t.Errorf("allChanges lacks %s", k[1])
				}
				delete(listed, string(k[1]))
			}
		}
	}
	if len(listed) > 0 {
		t.Errorf("allChanges lists what does not exist, or twice: %v", listed)
	}
}

func TestWhatCannotBeOpened(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	if err := s.write.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(dir, "test"); err == nil || !strings.Contains(err.Error(), "start the newer program") {
		t.Errorf("a schema of the future: %v", err)
	}
	bad := t.TempDir()
	if err := os.WriteFile(filepath.Join(bad, "nightjar.db"), []byte(strings.Repeat("not a database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(bad, "test"); err == nil || !strings.Contains(err.Error(), "nightjar.db") {
		t.Errorf("no database: %v", err)
	}
	if _, err := Open(filepath.Join(bad, "nightjar.db", "sub"), "test"); err == nil {
		t.Error("a directory below a file was opened")
	}
}

func TestDrafts(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	s := openStore(t, dir)
	save := func(by, text string, version uint) error {
		return s.Apply(ctx, SaveDraft{Draft{Bundle: "main", By: by, Base: 7, Version: version, Files: []rules.File{{Name: "a", Text: text}}, At: time.Now()}})
	}
	for _, c := range []struct {
		by, text string
		version  uint
		err      error
	}{
		{"mate", "one", 1, nil}, {"mate", "two", 2, nil},
		{"mate", "late", 2, ErrDraftChanged}, {"mate", "anew", 1, ErrDraftChanged},
		{"cook", "soup", 4, ErrDraftChanged}, {"cook", "soup", 1, nil},
	} {
		if err := save(c.by, c.text, c.version); !errors.Is(err, c.err) {
			t.Errorf("%s %q as version %d: %v", c.by, c.text, c.version, err)
		}
	}
	s.Close()
	s = openStore(t, dir)
	if d, err := s.Draft(ctx, "main", "mate"); err != nil || d.Files[0].Text != "two" || d.Base != 7 || d.Version != 2 {
		t.Errorf("kept: %+v, %v", d, err)
	}
	if list, err := s.Drafts(ctx); err != nil || len(list) != 2 || list[0].By != "cook" || list[0].Files != nil {
		t.Errorf("list: %+v, %v", list, err)
	}
	for range 2 {
		if err := s.Apply(ctx, DeleteDraft{Bundle: "main", By: "mate"}); err != nil {
			t.Error(err)
		}
	}
	if _, err := s.Draft(ctx, "main", "mate"); !errors.Is(err, ErrNotFound) {
		t.Errorf("deleted: %v", err)
	}
	// Many at once: every version is saved over by exactly one.
	var won sync.Map
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for n := uint(1); n <= 20; n++ {
				if err := save("all", "x", n); err == nil {
					if _, twice := won.LoadOrStore(n, true); twice {
						t.Errorf("version %d was saved twice", n)
					}
				} else if !errors.Is(err, ErrDraftChanged) {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
}

// TestMigrations: records of every earlier schema are there in the newest. The
// first seven were numbered by SQLite's user_version.
func TestMigrations(t *testing.T) {
	const byUserVersion = 7
	files, err := filepath.Glob("migrations/*.sql")
	if err != nil || len(files) < byUserVersion {
		t.Fatal(files, err)
	}
	for version := 1; version <= byUserVersion; version++ {
		dir := t.TempDir()
		db, err := connect("file:" + filepath.Join(dir, "nightjar.db"))
		if err != nil {
			t.Fatal(err)
		}
		var steps []string
		for _, file := range files[:version] {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			steps = append(steps, string(text))
		}
		steps = append(steps,
			`INSERT INTO revisions (number, kind, bundle, author, message, at, bundles) VALUES (5, 'publish', 'main', 'mate', 'old', '2026-11-23 22:40:00+00:00', '{"main":[{"name":"a","text":"t"}]}')`,
			`INSERT INTO checked VALUES ('main', '[]', 'mate', '2026-11-23 22:40:00+00:00', 3)`,
			fmt.Sprintf("PRAGMA user_version = %d", version))
		if version >= 3 {
			steps = append(steps, `INSERT INTO drills VALUES (4, 'mate', '', '2026-11-23 22:40:00+00:00', '2026-11-23 22:41:00+00:00', '0001-01-01 00:00:00+00:00', '{"id":"drill-4","down":true}')`,
				`INSERT INTO activity VALUES (1, '2026-11-23 22:40:00+00:00', 'mate', 'drill-began', 's', '', '', 'drill-4')`)
		}
		for _, step := range steps {
			if err := db.Exec(step).Error; err != nil {
				t.Fatalf("%v: %s", err, step)
			}
		}
		if raw, err := db.DB(); err == nil {
			raw.Close()
		}
		for range 2 { // the second time there is nothing to do
			s := openStore(t, dir)
			r, err := s.Revision(t.Context(), 0)
			if err != nil || r.Number != 5 || r.Bundles["main"][0].Text != "t" || s.IsNew() {
				t.Errorf("from version %d: %+v, %v", version, r, err)
			}
			if checked, err := s.CheckedFiles(t.Context()); err != nil || checked[0].Mistakes != 3 {
				t.Errorf("from version %d: %+v, %v", version, checked, err)
			}
			if list, err := s.Drills(t.Context(), 5); err != nil || version >= 3 && (len(list) != 1 || !list[0].Spec.Down) {
				t.Errorf("from version %d: %+v, %v", version, list, err)
			}
			if list, err := s.Activity(t.Context(), ActivityFilter{Limit: 5}); err != nil || version >= 3 && (len(list) != 1 || list[0].Kind != "drill-started") {
				t.Errorf("from version %d: %+v, %v", version, list, err)
			}
			s.Close()
		}
	}
}

// TestTelemetryAges: ten seconds become minutes after six hours and go after
// fourteen days, and nothing is lost on the way; unused series go too.
func TestTelemetryAges(t *testing.T) {
	s, ctx := openStore(t, t.TempDir()), t.Context()
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
			if err := s.Apply(ctx, AddTelemetry{mem.Take(), at}); err != nil {
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
		var changes []Change
		var err error
		if changes, more, err = s.RollUps(ctx, now); err != nil {
			t.Fatal(err)
		}
		if err := s.Apply(ctx, changes...); err != nil {
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
	if err != nil || len(known) != 2 || seen["n"].Sequence != seq || first != begin {
		t.Errorf("%v %v %d %v", known, seen, first, err)
	}
	if err := s.Apply(ctx, PruneTelemetry{Before: begin + 60, Now: now}); err != nil {
		t.Fatal(err)
	}
	unused, err := s.UnusedSeries(ctx)
	if err != nil || len(unused) != 1 || unused[0] != 0 {
		t.Errorf("unused series: %v, %v", unused, err)
	}
	if err := s.Apply(ctx, DeleteSeries(unused)); err != nil {
		t.Fatal(err)
	}
	if known, _, _, err := s.TelemetryState(ctx); err != nil || len(known) != 1 {
		t.Errorf("series after they were deleted: %v, %v", known, err)
	}
	if n, _ := all(0, now); n != want-18 {
		t.Errorf("after fourteen days: %d requests, want %d", n, want-18)
	}
}

// TestReadersSeeOneMoment: whoever reads while minutes are made of ten seconds counts
// nothing twice and misses nothing.
func TestReadersSeeOneMoment(t *testing.T) {
	s, ctx, mem := openStore(t, t.TempDir()), t.Context(), telemetry.New()
	const begin, steps = 1_800_000_000, 700
	for i := range uint64(steps) {
		at := time.Unix(begin+int64(i)*10, 0)
		mem.Count(&wire.Delta{Nonce: "n", Sequence: i + 1, Holds: 1, Series: []wire.Series{{Service: "s", Counts: stats.Counts{OK: 1}}}}, at)
	}
	if err := s.Apply(ctx, AddTelemetry{mem.Take(), begin}); err != nil {
		t.Fatal(err)
	}
	var all uint64
	age := sync.OnceFunc(func() {
		for hasMore := true; hasMore; {
			var changes []Change
			var err error
			if changes, hasMore, err = s.RollUps(ctx, begin+10*FineTime); err != nil || len(changes) == 0 {
				t.Fatal(len(changes), err)
			}
			if err := s.Apply(ctx, changes...); err != nil {
				t.Fatal(err)
			}
			if err := s.Apply(ctx, changes[0]); !errors.Is(err, ErrTelemetryChanged) {
				t.Errorf("the same minute again: %v", err)
			}
		}
	})
	err := s.Telemetry(ctx, begin, begin+10*steps, func(slot telemetry.Slot) error {
		age()
		return mem.Read(slot.Sealed, func(_ *telemetry.Names, _ uint, c *stats.Counts) { all += c.OK })
	})
	if err != nil || all != steps {
		t.Errorf("%d requests, want %d; %v", all, steps, err)
	}
}

// TestNoticesKeepTheirOrder: a receiver that has to wait for an older notice gets no newer
// one; others are not held up.
func TestNoticesKeepTheirOrder(t *testing.T) {
	s, ctx, now := openStore(t, t.TempDir()), t.Context(), time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	add := func(url, event string, due time.Time) Notice {
		return Notice{Release: 1, URL: url, Event: event, Due: due, State: NoticeWaiting}
	}
	err := s.Apply(ctx, AddNotices{add("a", "started", now.Add(time.Minute)), add("b", "started", now), add("a", "held", now), add("b", "held", now), add("b", "late", now)})
	if err != nil {
		t.Fatal(err)
	}
	due := func(at time.Time) string {
		list, err := s.DueNotices(ctx, at, 2)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, n := range list {
			out = append(out, n.URL+":"+n.Event)
		}
		return strings.Join(out, " ")
	}
	if got := due(now); got != "b:started b:held" {
		t.Errorf("now: %s", got)
	}
	if got := due(now.Add(time.Minute)); got != "a:started b:started a:held b:held" {
		t.Errorf("a minute later: %s", got)
	}
}
