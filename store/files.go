package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// leastFree is how many bytes a disk must have free for the service to be ready: about
// what SQLite needs to write while it tidies its log.
const leastFree = 16 << 20

// directory is a data directory that this process holds.
type directory struct {
	path   string
	lock   *os.File
	opened map[string]os.FileInfo // files that are in use, by their paths
}

// hold takes a data directory for this process alone, until release or the end of the
// process. holder says who that is, for whoever finds it taken.
func hold(path, holder string) (*directory, error) {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	name := filepath.Join(path, "lock")
	lock, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	d := &directory{path: path, lock: lock, opened: map[string]os.FileInfo{}}
	if err := d.take(holder); err != nil {
		lock.Close()
		return nil, err
	}
	return d, nil
}

func (d *directory) take(holder string) error {
	err := unix.Flock(int(d.lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		text, _ := os.ReadFile(d.lock.Name())
		who := strings.TrimSpace(string(text))
		if who == "" {
			who = "another process"
		}
		return InUse{Dir: d.path, By: who}
	}
	if err != nil {
		return fmt.Errorf("data directory %s cannot be locked: %w. Use a disk of this machine", d.path, err)
	}
	// On a full disk the text is missing; the lock holds all the same.
	d.lock.Truncate(0)
	fmt.Fprintf(d.lock, "process %d (%s)\n", os.Getpid(), holder)
	return d.remember(d.lock.Name())
}

// release lets others have the directory.
func (d *directory) release() {
	if d != nil {
		d.lock.Close()
	}
}

// InUse means that another process holds the data directory.
type InUse struct{ Dir, By string }

func (e InUse) Error() string {
	return fmt.Sprintf("data directory %s is in use by %s: stop that one, or choose another directory with --data",
		e.Dir, e.By)
}

// remember notes which file is in use under a path.
func (d *directory) remember(path string) error {
	info, err := os.Stat(path)
	d.opened[path] = info
	return err
}

// check tells whether the files in use are still those that others find under their
// paths: what is written to a removed file is lost when the process ends.
func (d *directory) check() error {
	var lock error
	for path, opened := range d.opened {
		info, err := os.Stat(path)
		gone := FilesGone{Path: path, isLock: path == d.lock.Name()}
		switch {
		case errors.Is(err, os.ErrNotExist):
			gone.What = "was removed"
		case err != nil:
			gone.What = "cannot be reached (" + err.Error() + ")"
		case !os.SameFile(opened, info):
			gone.What = "was replaced by another file"
		default:
			continue
		}
		if !gone.isLock {
			return gone // which matters more
		}
		lock = gone
	}
	return lock
}

// FilesGone means that a file of the records is not the one that is in use any more.
type FilesGone struct {
	Path, What string
	isLock     bool // the records themselves are all there
}

func (e FilesGone) Error() string {
	if e.isLock {
		return fmt.Sprintf("%s %s while the service is running, so another process could write there too: "+
			"start the service again", e.Path, e.What)
	}
	return fmt.Sprintf("%s %s while the service is running, so nothing that is written now would last: "+
		"stop the service, then restore a backup (nightjar restore)", e.Path, e.What)
}

// room tells whether the disk of the directory can take what is written next.
func (d *directory) room() error {
	var disk unix.Statfs_t
	if err := unix.Statfs(d.path, &disk); err != nil {
		return nil // the next write tells
	}
	if free := disk.Bavail * uint64(disk.Bsize); free < leastFree {
		return fmt.Errorf("the disk of %s has %d MiB left: make room", d.path, free>>20)
	}
	return nil
}

// isWritable tells whether this process may write to the database.
func (d *directory) isWritable(name string) error {
	if err := unix.Access(filepath.Join(d.path, name), unix.W_OK); err != nil && !errors.Is(err, syscall.ENOENT) {
		return fmt.Errorf("%s cannot be written: %w", filepath.Join(d.path, name), err)
	}
	return nil
}
