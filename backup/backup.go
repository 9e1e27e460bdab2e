// Package backup keeps everything that a service needs to continue elsewhere in one
// file: its database, its authority with the key, the key that signs events, the keys of
// repositories, and the archive of old records. Whoever has the file can issue certificates of the mesh.
//
// The file is a tar archive. Its first entry says what is in it, with a checksum of
// each other entry.
package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nightjar/store"
)

const (
	// format is the version of the file.
	format = 1
	// contentsName is the entry that says what is in the file.
	contentsName = "contents.json"
	// maxContents bounds the entry that says what is in a file, in bytes.
	maxContents = 4 << 20
	// maxFiles bounds the entries of a file.
	maxFiles = 10_000
)

// kept are the files and directories of a data directory besides the database that go
// into a backup. Others are made anew at each start.
var kept = []string{"authority", "notify.key", "follow-keys", "archive"}

// Contents is what is in a backup.
type Contents struct {
	Format  int         `json:"format"`
	Program string      `json:"program"` // version of the program that made it
	Made    time.Time   `json:"made"`
	Records store.About `json:"records"`
	Files   []File      `json:"files"`
	Bytes   int64       `json:"bytes"` // of all files together
}

// File is one file of a backup.
type File struct {
	Name   string `json:"name"` // path in the data directory, with slashes
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
	from   string // path of it on this machine
}

// Make writes a backup of a data directory into a new file. A service may be running on
// the directory. While it is made, it takes twice the space of the records. An error
// leaves no file behind.
func Make(ctx context.Context, data, file, program string) (c Contents, err error) {
	if _, err := os.Lstat(file); err == nil {
		return c, fmt.Errorf("%s is there already: choose another name", file)
	}
	work, err := os.MkdirTemp(filepath.Dir(file), ".nightjar-backup-*")
	if err != nil {
		return c, fmt.Errorf("cannot write beside %s: %w", file, err)
	}
	defer os.RemoveAll(work)
	c = Contents{Format: format, Program: program, Made: time.Now().UTC().Truncate(time.Second)}
	database := filepath.Join(work, store.DatabaseFile)
	defer shrink(database)
	stop := flushing(database)
	err = store.Copy(ctx, data, database)
	stop()
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return c, fmt.Errorf("there are no records in %s: name the directory of the service with --data", data)
		}
		return c, err
	}
	if c.Records, err = store.Look(ctx, database); err != nil {
		return c, fmt.Errorf("the copy of the database cannot be used: %w", err)
	}
	c.Files = append(c.Files, File{Name: store.DatabaseFile, from: database})
	if err := c.Files[0].sum(); err != nil {
		return c, err
	}
	more, err := copyAtOneMoment(data, work)
	if err != nil {
		return c, err
	}
	c.Files = append(c.Files, more...)
	for _, f := range c.Files {
		c.Bytes += f.Bytes
	}
	packed := filepath.Join(work, "packed")
	if err := pack(ctx, packed, c); err != nil {
		return c, fmt.Errorf("%s cannot be written: %w", file, err)
	}
	err = os.Link(packed, file) // unlike a rename, it replaces nothing
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.ENOSYS) {
		err = os.Rename(packed, file) // this file system has no links
	}
	if err != nil {
		return c, fmt.Errorf("%s cannot be written: %w", file, err)
	}
	return c, syncDir(filepath.Dir(file))
}

// tries is how often the files beside the database are copied again because one of them
// changed meanwhile.
const tries = 10

// copyAtOneMoment copies the files of a data directory besides the database: all as they
// were at one moment, since the state of the authority names files of its keys.
func copyAtOneMoment(data, work string) ([]File, error) {
	for try := range tries {
		before, err := filesOf(data)
		if err != nil {
			return nil, err
		}
		copies := slices.Clone(before)
		for i := range copies {
			copies[i].from = filepath.Join(work, fmt.Sprintf("%d-%d", try, i))
			err = errors.Join(err, copyFile(before[i].from, copies[i].from))
			err = errors.Join(err, copies[i].sum(), before[i].sum())
		}
		after, lerr := filesOf(data)
		if lerr != nil {
			return nil, lerr
		}
		isSame := func(a, b File) bool { return a.Name == b.Name && a.SHA256 == b.SHA256 }
		hasName := func(a, b File) bool { return a.Name == b.Name }
		if err == nil && slices.EqualFunc(copies, before, isSame) && slices.EqualFunc(before, after, hasName) {
			return copies, nil
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		time.Sleep(time.Duration(try) * flushEvery)
	}
	return nil, fmt.Errorf("the files in %s change all the time: try again in a minute", data)
}

// filesOf lists what is kept of a data directory besides the database.
func filesOf(data string) (out []File, err error) {
	for _, name := range kept {
		err := filepath.WalkDir(filepath.Join(data, name), func(path string, d fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			in, err := filepath.Rel(data, path)
			out = append(out, File{Name: filepath.ToSlash(in), from: path})
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if len(out) >= maxFiles {
		return nil, fmt.Errorf(
			"%s has %d files, more than a backup takes: move old ones of its archive away",
			data,
			len(out),
		)
	}
	return out, nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// sum finds the size and the checksum of a file.
func (f *File) sum() error {
	in, err := os.Open(f.from)
	if err != nil {
		return err
	}
	defer in.Close()
	h := sha256.New()
	f.Bytes, err = io.Copy(h, in)
	f.SHA256 = hex.EncodeToString(h.Sum(nil))
	return err
}

// pack writes the file of a backup.
func pack(ctx context.Context, to string, c Contents) error {
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	w := tar.NewWriter(&gentle{File: out})
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	add := func(name string, size int64, from io.Reader) error {
		head := &tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: c.Made, Typeflag: tar.TypeReg}
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		_, err := io.Copy(w, from)
		return err
	}
	if err := add(contentsName, int64(len(text)), strings.NewReader(string(text))); err != nil {
		return err
	}
	for _, f := range c.Files {
		if err := ctx.Err(); err != nil {
			return err
		}
		in, err := os.Open(f.from)
		if err != nil {
			return err
		}
		err = add(f.Name, f.Bytes, in)
		if err := errors.Join(err, in.Close()); err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), out.Sync())
}

// Restore unpacks a backup into a data directory that is empty or missing: all of it, or
// nothing. Records of an earlier schema are brought up to date.
func Restore(ctx context.Context, file, data string) (c Contents, err error) {
	if left, err := os.ReadDir(data); err == nil && len(left) > 0 {
		return c, fmt.Errorf("%s is not empty: restore into another directory, or move it away first", data)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return c, err
	}
	in, err := os.Open(file)
	if err != nil {
		return c, err
	}
	defer in.Close()
	data = filepath.Clean(data)
	if err := os.MkdirAll(filepath.Dir(data), 0o700); err != nil {
		return c, err
	}
	work, err := os.MkdirTemp(filepath.Dir(data), ".nightjar-restore-*")
	if err != nil {
		return c, fmt.Errorf("cannot write beside %s: %w", data, err)
	}
	defer os.RemoveAll(work)
	unpacked := filepath.Join(work, "data")
	if c, err = unpack(ctx, in, unpacked); err != nil {
		return c, fmt.Errorf("%s cannot be restored: %w", file, err)
	}
	if err := adopt(ctx, unpacked, file, c); err != nil {
		return c, fmt.Errorf("%s cannot be restored: %w", file, err)
	}
	if err := os.Remove(data); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return c, err
	}
	if err := os.Rename(unpacked, data); err != nil {
		return c, err
	}
	return c, syncDir(filepath.Dir(data))
}

// unpack writes the files of a backup into a new directory, and checks each.
func unpack(ctx context.Context, from io.Reader, to string) (c Contents, err error) {
	r := tar.NewReader(from)
	head, err := r.Next()
	if err != nil || head.Name != contentsName {
		return c, errors.New("it is no backup of Nightjar")
	}
	if err := json.NewDecoder(io.LimitReader(r, maxContents)).Decode(&c); err != nil {
		return c, fmt.Errorf("what is in it cannot be read: %w", err)
	}
	if c.Format != format {
		return c, fmt.Errorf("it has format %d, and this program reads format %d: use the program %s that made it",
			c.Format, format, c.Program)
	}
	if len(c.Files) > maxFiles {
		return c, fmt.Errorf("it lists %d files", len(c.Files))
	}
	for _, f := range c.Files {
		if err := ctx.Err(); err != nil {
			return c, err
		}
		head, err := r.Next()
		switch {
		case err != nil:
			return c, fmt.Errorf("it ends before %s: %w", f.Name, err)
		case head.Name != f.Name || head.Typeflag != tar.TypeReg || head.Size != f.Bytes || !belongs(f.Name):
			return c, fmt.Errorf("it holds %q, which does not belong there", head.Name)
		}
		if err := f.unpack(r, filepath.Join(to, filepath.FromSlash(f.Name))); err != nil {
			return c, err
		}
	}
	if !slices.ContainsFunc(c.Files, func(f File) bool { return f.Name == store.DatabaseFile }) {
		return c, errors.New("it has no database")
	}
	return c, nil
}

// belongs tells whether a backup may have a file of this name.
func belongs(name string) bool {
	first, _, _ := strings.Cut(name, "/")
	return filepath.IsLocal(filepath.FromSlash(name)) && (name == store.DatabaseFile || slices.Contains(kept, first))
}

func (f *File) unpack(from io.Reader, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, h), from)
	if err := errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	if sum := hex.EncodeToString(h.Sum(nil)); sum != f.SHA256 {
		return fmt.Errorf("%s is damaged: its checksum is %s, and was %s", f.Name, sum, f.SHA256)
	}
	return nil
}

// adopt checks unpacked records, brings their schema up to date, and notes in the
// activity log where they come from.
func adopt(ctx context.Context, data, file string, c Contents) error {
	if _, err := store.Look(ctx, filepath.Join(data, store.DatabaseFile)); err != nil {
		return err
	}
	st, err := store.Open(data, "restore")
	if err != nil {
		return err
	}
	err = st.Apply(ctx, store.AddActivity{{
		At:     time.Now().UTC(),
		Who:    "nightjar",
		Kind:   "records-restored",
		Detail: fmt.Sprintf("from %s, made %s", filepath.Base(file), c.Made.Format(time.RFC3339)),
	}})
	return errors.Join(err, st.Close(), os.Remove(filepath.Join(data, "lock")))
}

func syncDir(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
