// Package store keeps the service's records in one SQLite file, through GORM.
//
// Reads are methods of Store. A write is a Change: rows that somebody decided on
// before. Apply writes changes in one transaction, so nothing is decided, and
// nothing read, while the database is locked. The list of all changes is in
// changes.go.
package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"sync/atomic"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	driver "modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("no such record")

// ErrDisk means that the disk does not take what is written to it.
var ErrDisk = errors.New("the disk of the data directory takes nothing (is it full?)")

// Store is an open database: one connection that writes, and a pool that reads
// beside it. It is safe for concurrent use.
type Store struct {
	write, read *gorm.DB
	dir         *directory
	pinned      *sql.Conn // keeps SQLite from removing its log between two connections
	broken      atomic.Pointer[error]
	isNew       bool
	mesh        string
}

// DatabaseFile is the name of the database in a data directory.
const DatabaseFile = "nightjar.db"

// Open opens or creates the database in a directory, which no other process may use
// until Close, and brings its schema up to date. The directory is created when it is
// missing. holder says in a few words who opens it, for whoever finds it in use; the
// error is InUse then.
func Open(dir, holder string) (*Store, error) {
	held, err := hold(dir, holder)
	if err != nil {
		return nil, err
	}
	s := &Store{dir: held}
	path := filepath.Join(dir, DatabaseFile)
	if err := s.open(path); err != nil {
		s.Close()
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	return s, nil
}

func (s *Store) open(path string) (err error) {
	// Times are text in UTC: SQLite compares them as text.
	const common = "?_busy_timeout=5000&_foreign_keys=on&_time_format=sqlite&_timezone=UTC"
	// synchronous=FULL: a write waits for the disk, so that what was answered with
	// success survives a power failure.
	s.write, err = connect("file:" + path + common + "&_journal_mode=WAL&_synchronous=FULL&_txlock=immediate")
	if err != nil {
		return err
	}
	db, err := s.write.DB()
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1) // SQLite has one writer; a queue here never fails with "database is locked"
	if s.isNew, err = migrate(context.Background(), db); err != nil {
		return err
	}
	if err := s.write.Raw("SELECT id FROM mesh").Scan(&s.mesh).Error; err != nil || s.mesh == "" {
		return fmt.Errorf("it has no mesh id: %w", errors.Join(ErrNotFound, err))
	}
	if s.read, err = connect("file:" + path + common + "&mode=ro"); err != nil {
		return err
	}
	return s.pin(path)
}

// pin keeps the files of the database open, and notes which they are.
func (s *Store) pin(path string) error {
	db, err := s.read.DB()
	if err != nil {
		return err
	}
	if s.pinned, err = db.Conn(context.Background()); err != nil {
		return err
	}
	if err := s.pinned.QueryRowContext(context.Background(), "SELECT id FROM mesh").Scan(&s.mesh); err != nil {
		return err
	}
	for _, suffix := range []string{"", "-wal", "-shm"} {
		if err := s.dir.remember(path + suffix); err != nil {
			return err
		}
	}
	return nil
}

func connect(dsn string) (*gorm.DB, error) {
	return gorm.Open(sqlite.New(sqlite.Config{DriverName: "sqlite", DSN: dsn}), &gorm.Config{Logger: logger.Discard})
}

// isDuplicate tells whether a row was refused because its key is in use.
func isDuplicate(err error) bool {
	failure := (*driver.Error)(nil)
	return errors.As(err, &failure) &&
		(failure.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY || failure.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE)
}

// IsNew tells whether Open created the database.
func (s *Store) IsNew() bool { return s.isNew }

// Mesh is the id of the mesh that these are the records of. It is created with the
// database; proxies tell one mesh from another by it.
func (s *Store) Mesh() string { return s.mesh }

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
	if s.pinned != nil {
		errs = append(errs, s.pinned.Close())
	}
	defer s.dir.release()
	for _, g := range []*gorm.DB{s.read, s.write} {
		if g == nil {
			continue
		}
		db, err := g.DB()
		if err == nil {
			err = db.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Apply writes changes in the order given: all of them or none. It fails with FilesGone
// when the files of the database are not the ones that it opened.
func (s *Store) Apply(ctx context.Context, changes ...Change) error {
	if err := s.dir.check(); err != nil {
		return err
	}
	err := s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, c := range changes {
			if err := c.write(tx); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		err = s.dir.check()
	}
	switch {
	case err == nil:
		s.broken.Store(nil)
	case isBroken(err):
		err = fmt.Errorf("%w: %w", ErrDisk, err)
		s.broken.Store(&err)
	}
	return err
}

// isBroken tells whether a write failed because of the disk.
func isBroken(err error) bool {
	failure := (*driver.Error)(nil)
	if !errors.As(err, &failure) {
		return false
	}
	switch failure.Code() & 0xff { // the rest says more
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN,
		sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return true
	}
	return false
}

// Ready tells whether the next write can last: an error says why not.
func (s *Store) Ready(ctx context.Context) error {
	if err := s.dir.check(); err != nil {
		return err
	}
	if err := errors.Join(s.dir.isWritable(DatabaseFile), s.dir.room()); err != nil {
		return err
	}
	if s.broken.Load() == nil {
		return nil
	}
	if err := s.Apply(ctx, probe{}); err != nil {
		return fmt.Errorf("the records cannot be written: %w", err)
	}
	return nil
}

// LastNumber is the highest number that a record of a kind ever had; 0: none.
// Whoever adds records of that kind counts on from it.
func (s *Store) LastNumber(ctx context.Context, kind Numbered) (n uint, err error) {
	err = s.read.WithContext(ctx).
		Raw("SELECT COALESCE(MAX(seq), 0) FROM sqlite_sequence WHERE name = ?", string(kind)).
		Scan(&n).
		Error
	return n, err
}

// Numbered is a kind of record with numbers of its own.
type Numbered string

// The kinds of records with numbers.
const (
	Drills   Numbered = "drills"
	Trials   Numbered = "trials"
	Releases Numbered = "releases"
)

// decode reads JSON that the store wrote; what names it in the error.
func decode(text string, into any, what string, args ...any) error {
	if err := json.Unmarshal([]byte(text), into); err != nil {
		return fmt.Errorf("%s cannot be read: %w", fmt.Sprintf(what, args...), err)
	}
	return nil
}

func encode(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}
