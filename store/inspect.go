package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Inspection describes a data directory without changing it.
type Inspection struct {
	Dir      string `json:"dir"`
	Exists   bool   `json:"exists"`
	HeldBy   string `json:"heldBy,omitempty"` // process that uses it; empty: none
	Mode     uint32 `json:"mode"`             // permissions
	Database int64  `json:"databaseBytes"`
	Log      int64  `json:"logBytes"` // write-ahead log of the database
	Archive  int64  `json:"archiveBytes"`
	Free     uint64 `json:"freeBytes"` // on its disk
	About    About  `json:"records"`
	Error    string `json:"error,omitempty"` // why the database cannot be read
}

// Inspect describes the data directory of the store.
func (s *Store) Inspect(ctx context.Context) Inspection { return Inspect(ctx, s.dir.path) }

// Inspect describes a data directory. A service may be running on it.
func Inspect(ctx context.Context, dir string) Inspection {
	in := Inspection{Dir: dir}
	info, err := os.Stat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return in
	}
	if err != nil {
		in.Error = err.Error()
		return in
	}
	in.Exists, in.Mode = true, uint32(info.Mode().Perm())
	in.HeldBy = holderOf(dir)
	size := func(name string) int64 {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return info.Size()
		}
		return 0
	}
	in.Database, in.Log = size(DatabaseFile), size(DatabaseFile+"-wal")
	files, _ := os.ReadDir(filepath.Join(dir, "archive"))
	for _, f := range files {
		in.Archive += size(filepath.Join("archive", f.Name()))
	}
	var disk unix.Statfs_t
	if unix.Statfs(dir, &disk) == nil {
		in.Free = disk.Bavail * uint64(disk.Bsize)
	}
	if in.Database == 0 {
		in.Error = "there is no database in it"
		return in
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, DatabaseFile)+"?_busy_timeout=2000&mode=ro")
	if err == nil {
		defer db.Close()
		in.About, err = aboutOf(ctx, db)
	}
	if err != nil {
		in.Error = err.Error()
	}
	return in
}

// holderOf is the process that holds a data directory; empty: none does.
func holderOf(dir string) string {
	f, err := os.Open(filepath.Join(dir, "lock"))
	if err != nil {
		return ""
	}
	defer f.Close()
	if unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) == nil {
		return "" // closing the file releases it
	}
	text, _ := os.ReadFile(f.Name())
	return string(bytes.TrimSpace(text))
}
