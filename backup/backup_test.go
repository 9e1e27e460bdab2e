package backup

import (
	"archive/tar"
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/rules"
	"nightjar/store"
)

func revision(n uint) store.Change {
	return store.AddRevision{Revision: store.Revision{Number: n, Kind: "publish", Author: "mate", At: time.Now(),
		Bundles: store.Bundles{"main": {{Name: "a.yaml", Text: strings.Repeat("# ferry\n", 50)}}}}}
}

// records makes a data directory with some revisions.
func records(t *testing.T) (dir string, st *store.Store) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "data")
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	for n := uint(1); n <= 5; n++ {
		if err := st.Apply(t.Context(), revision(n)); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{"authority/roots/a.key": "secret", "notify.key": "k", "follow-keys/main": "sesame", "archive/2026-10.jsonl": "{}\n", "join": "left out"} {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	return dir, st
}

// TestThereAndBack: a backup that is made while others write holds one moment, all of
// it; what is restored is what was there.
func TestThereAndBack(t *testing.T) {
	dir, st := records(t)
	stop := make(chan struct{})
	var writing sync.WaitGroup
	writing.Go(func() {
		for n := uint(6); ; n++ {
			select {
			case <-stop:
				return
			default:
				if err := st.Apply(t.Context(), revision(n), store.AddActivity{{Who: "mate", At: time.Now(), Kind: "publish", Detail: fmt.Sprint(n)}}); err != nil {
					t.Error(err)
				}
			}
		}
	})
	for i := range 5 {
		file, to := filepath.Join(t.TempDir(), "b.tar"), filepath.Join(t.TempDir(), "new", "data")
		made, err := Make(t.Context(), dir, file, "test")
		if err != nil {
			t.Fatal(err)
		}
		got, err := Restore(t.Context(), file, to)
		if err != nil || got.Records != made.Records || made.Records.Mesh != st.Mesh() || made.Records.Revision < 5 || time.Since(made.Records.At) > time.Hour {
			t.Fatalf("backup %d: made %+v, restored %+v, %v", i, made.Records, got.Records, err)
		}
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("others can read it: %v, %v", info.Mode(), err)
		}
		again, err := store.Open(to, "test")
		if err != nil {
			t.Fatal(err)
		}
		rev, err := again.Revision(t.Context(), 0)
		activity, aerr := again.Activity(t.Context(), store.ActivityFilter{Limit: 100_000})
		if err != nil || aerr != nil || rev.Number != made.Records.Revision || len(rev.Bundles["main"]) != 1 || len(activity) != int(rev.Number)-5+1 {
			t.Errorf("backup %d of revision %d: revision %d, %d entries, %v %v", i, made.Records.Revision, rev.Number, len(activity), err, aerr)
		}
		if activity[0].Kind != "records-restored" {
			t.Errorf("the newest entry is %+v", activity[0])
		}
		again.Close()
		for name, want := range map[string]string{"authority/roots/a.key": "secret", "notify.key": "k", "follow-keys/main": "sesame", "archive/2026-10.jsonl": "{}\n"} {
			if text, err := os.ReadFile(filepath.Join(to, name)); err != nil || string(text) != want {
				t.Errorf("%s: %q, %v", name, text, err)
			}
		}
		if _, err := os.Stat(filepath.Join(to, "join")); !errors.Is(err, fs.ErrNotExist) {
			t.Error("the join file of another start came along")
		}
	}
	close(stop)
	writing.Wait()
	if left, _ := filepath.Glob(filepath.Join(filepath.Dir(dir), ".nightjar-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestRefusals: nothing is overwritten, nothing is half restored, and each error says
// what is wrong.
func TestRefusals(t *testing.T) {
	dir, _ := records(t)
	file := filepath.Join(t.TempDir(), "b.tar")
	if _, err := Make(t.Context(), dir, file, "test"); err != nil {
		t.Fatal(err)
	}
	mustFail := func(what string, err error, words string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want something with %q", what, err, words)
		}
	}
	_, err := Make(t.Context(), dir, file, "test")
	mustFail("over an older one", err, "there already")
	_, err = Make(t.Context(), t.TempDir(), filepath.Join(t.TempDir(), "b"), "test")
	mustFail("of nothing", err, "--data")
	_, err = Restore(t.Context(), file, dir)
	mustFail("into a directory with files", err, "not empty")

	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// change rewrites the entries of the archive.
	change := func(with func(h *tar.Header, body []byte) []byte) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for r := tar.NewReader(bytes.NewReader(whole)); ; {
			h, err := r.Next()
			if err != nil {
				break
			}
			body := new(bytes.Buffer)
			body.ReadFrom(r)
			text := with(h, body.Bytes())
			if h.Size = int64(len(text)); h.Typeflag != tar.TypeReg {
				h.Size, text = 0, nil
			}
			if err := w.WriteHeader(h); err != nil {
				t.Fatal(err)
			}
			w.Write(text)
		}
		w.Close()
		return b.Bytes()
	}
	contents := func(edit func(*Contents)) []byte {
		return change(func(h *tar.Header, body []byte) []byte {
			if h.Name == contentsName {
				var c Contents
				json.Unmarshal(body, &c)
				edit(&c)
				body, _ = json.Marshal(c)
			}
			return body
		})
	}
	for what, bad := range map[string]struct {
		text  []byte
		words string
	}{
		"nothing":        {nil, "no backup of Nightjar"},
		"other text":     {[]byte(strings.Repeat("x", 2000)), "no backup of Nightjar"},
		"half of it":     {whole[:len(whole)/2], "cannot be restored"},
		"a later format": {contents(func(c *Contents) { c.Format = 9; c.Program = "v9" }), "use the program v9"},
		"another name":   {contents(func(c *Contents) { c.Files[1].Name = "../evil" }), "does not belong"},
		"no database":    {contents(func(c *Contents) { c.Files = nil }), "no database"},
		"too many":       {contents(func(c *Contents) { c.Files = make([]File, maxFiles+1) }), "files"},
		"a changed byte": {change(func(h *tar.Header, b []byte) []byte {
			if h.Name == "notify.key" {
				b[0]++
			}
			return b
		}), "damaged"},
		"a link": {change(func(h *tar.Header, b []byte) []byte {
			if h.Name == "notify.key" {
				h.Typeflag, h.Linkname = tar.TypeSymlink, "/etc/passwd"
			}
			return b
		}), "does not belong"},
		"a path upwards": {change(func(h *tar.Header, b []byte) []byte {
			if h.Name == "notify.key" {
				h.Name = "../../evil"
			}
			return b
		}), "does not belong"},
	} {
		file, to := filepath.Join(t.TempDir(), "bad"), filepath.Join(t.TempDir(), "data")
		if err := os.WriteFile(file, bad.text, 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := Restore(t.Context(), file, to)
		mustFail(what, err, bad.words)
		if _, err := os.Stat(to); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: something was restored", what)
		}
	}
}

// TestRulesSurvive is a check of the text itself: rules come back byte for byte.
func TestRulesSurvive(t *testing.T) {
	dir, st := records(t)
	want := []rules.File{{Name: "ferry.yaml", Text: "# ☂\nservices: {}\n\n"}}
	if err := st.Apply(t.Context(), store.AddRevision{Revision: store.Revision{Number: 6, At: time.Now(), Bundles: store.Bundles{"main": want}}}); err != nil {
		t.Fatal(err)
	}
	file, to := filepath.Join(t.TempDir(), "b.tar"), filepath.Join(t.TempDir(), "data")
	_, err := Make(t.Context(), dir, file, "test")
	if err == nil {
		_, err = Restore(t.Context(), file, to)
	}
	if err != nil {
		t.Fatal(err)
	}
	again, err := store.Open(to, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if rev, err := again.Revision(t.Context(), 0); err != nil || rev.Bundles["main"][0] != want[0] {
		t.Errorf("%+v, %v", rev.Bundles, err)
	}
}

// TestEarlierSchemas: a backup of the records of every earlier program is restored, and
// is up to date then. The first seven numbered their schema in SQLite's user_version.
func TestEarlierSchemas(t *testing.T) {
	files, err := filepath.Glob("../store/migrations/*.sql")
	if err != nil || len(files) < 11 {
		t.Fatal(files, err)
	}
	for version := 1; version <= len(files); version++ {
		dir, to, file := t.TempDir(), filepath.Join(t.TempDir(), "data"), filepath.Join(t.TempDir(), "b.tar")
		db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, store.DatabaseFile))
		if err != nil {
			t.Fatal(err)
		}
		steps := []string{}
		for _, name := range files[:version] {
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			steps = append(steps, string(text))
		}
		steps = append(steps, `INSERT INTO revisions (number, kind, bundle, author, message, at, bundles) VALUES (5, 'publish', 'main', 'mate', 'old', '2026-11-23 22:40:00+00:00', '{"main":[{"name":"a","text":"t"}]}')`)
		if version <= 7 {
			steps = append(steps, fmt.Sprintf("PRAGMA user_version = %d", version))
		} else {
			steps = append(steps, "CREATE TABLE goose_db_version (id INTEGER PRIMARY KEY AUTOINCREMENT, version_id INTEGER NOT NULL, is_applied INTEGER NOT NULL, tstamp TIMESTAMP DEFAULT (datetime('now')))")
			for v := range version + 1 {
				steps = append(steps, fmt.Sprintf("INSERT INTO goose_db_version (version_id, is_applied) VALUES (%d, 1)", v))
			}
		}
		for _, step := range steps {
			if _, err := db.Exec(step); err != nil {
				t.Fatalf("schema %d: %v: %s", version, err, step)
			}
		}
		db.Close()
		c, err := Make(t.Context(), dir, file, "test")
		if err == nil {
			_, err = Restore(t.Context(), file, to)
		}
		if err != nil || c.Records.Schema != int64(version) || c.Records.Revision != 5 {
			t.Fatalf("schema %d: %+v, %v", version, c.Records, err)
		}
		st, err := store.Open(to, "test")
		if err != nil {
			t.Fatal(err)
		}
		if rev, err := st.Revision(t.Context(), 0); err != nil || rev.Bundles["main"][0].Text != "t" || st.Mesh() == "" {
			t.Errorf("schema %d: %+v, %v", version, rev, err)
		}
		st.Close()
	}
}
