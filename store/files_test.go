package store

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestOneProcessADirectory: whoever comes second gets nothing, and is told who was
// first; after the first has ended it gets all.
func TestOneProcessADirectory(t *testing.T) {
	dir := t.TempDir()
	first := openStore(t, dir)
	for range 2 { // a refused process takes nothing with it
		_, err := Open(dir, "second")
		var taken InUse
		if !errors.As(err, &taken) || !strings.Contains(err.Error(), "process "+strconv.Itoa(os.Getpid())+" (test)") || !strings.Contains(err.Error(), "--data") {
			t.Fatalf("the second says: %v", err)
		}
	}
	if err := first.Apply(t.Context(), probe{}); err != nil {
		t.Errorf("the first writes: %v", err)
	}
	first.Close()
	openStore(t, dir)
}

// TestFilesAreRemoved: nothing is said to be stored, and the service is not ready, once
// the files that it writes to are not those that the next process finds.
func TestFilesAreRemoved(t *testing.T) {
	remove := func(name string) func(string) error {
		return func(dir string) error { return os.Remove(filepath.Join(dir, name)) }
	}
	for what, harm := range map[string]func(dir string) error{
		"log":       remove(DatabaseFile + "-wal"),
		"index":     remove(DatabaseFile + "-shm"),
		"database":  remove(DatabaseFile),
		"lock":      remove("lock"),
		"directory": os.RemoveAll,
		"moved":     func(dir string) error { return os.Rename(dir, dir+"-elsewhere") },
		"replaced": func(dir string) error {
			text, err := os.ReadFile(filepath.Join(dir, DatabaseFile))
			if err != nil {
				return err
			}
			return errors.Join(os.Remove(filepath.Join(dir, DatabaseFile)), os.WriteFile(filepath.Join(dir, DatabaseFile), text, 0o600))
		},
	} {
		dir, ctx := filepath.Join(t.TempDir(), "data"), t.Context()
		s := openStore(t, dir)
		if err := errors.Join(s.Apply(ctx, probe{}), s.Ready(ctx)); err != nil {
			t.Fatalf("%s: before: %v", what, err)
		}
		if err := harm(dir); err != nil {
			t.Fatal(err)
		}
		var gone FilesGone
		if err := s.Apply(ctx, AddActivity{{Who: "mate"}}); !errors.As(err, &gone) {
			t.Errorf("%s: a write says %v", what, err)
		}
		if err := s.Ready(ctx); !errors.As(err, &gone) || !strings.Contains(err.Error(), map[bool]string{true: "start the service again", false: "restore a backup"}[what == "lock"]) {
			t.Errorf("%s: ready says %v", what, err)
		}
		if list, err := s.Activity(ctx, ActivityFilter{Limit: 10}); err == nil && len(list) != 0 {
			t.Errorf("%s: what was refused is there: %v", what, list)
		}
	}
}

// TestTheDiskTakesNothing: a failed write makes the service not ready, until one
// succeeds again.
func TestTheDiskTakesNothing(t *testing.T) {
	s, ctx := openStore(t, t.TempDir()), t.Context()
	pages := func(n string) {
		if err := s.write.Exec("PRAGMA max_page_count = " + n).Error; err != nil {
			t.Fatal(err)
		}
	}
	pages("1") // as many as there are: the next one does not fit
	large := AddActivity{{Detail: strings.Repeat("x", 100_000)}}
	if err := s.Apply(ctx, large); !errors.Is(err, ErrDisk) {
		t.Fatalf("a full disk says %v", err)
	}
	if s.broken.Load() == nil {
		t.Error("the failure was forgotten")
	}
	pages("1000000")
	if err := errors.Join(s.Ready(ctx), s.Apply(ctx, large)); err != nil || s.broken.Load() != nil {
		t.Errorf("with room again: %v", err)
	}
}
