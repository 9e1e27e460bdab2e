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
