// Package store keeps the service's records in one SQLite file through GORM.
package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nightjar/core/rules"
)

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("no such record")

// Bundles is the text of every bundle's files, by the bundle's name.
type Bundles map[string][]rules.File

// Revision is one numbered, immutable published state of all bundles.
type Revision struct {
	Number  uint
	Kind    string // publish, split, restore or release
	Bundle  string // the bundle that this revision changed
	Author  string
	Message string
	At      time.Time
	Bundles Bundles // nil in lists
	Base    uint    // revision whose text this one has; 0: its own

	// Overlays are what running releases change in the rules, as JSON; nil in lists.
	Overlays []string
}

// Checked is the last set of files of a bundle that somebody had checked.
type Checked struct {
	Bundle   string
	Files    []rules.File
	By       string
	At       time.Time
	Mistakes int
}

// Store is an open database: one writer, and readers beside it.
type Store struct {
	write, read *gorm.DB
	fresh       bool
	mesh        string
}

// Open opens or makes the database in a directory and brings its schema up to
// date. The directory is made when it is missing.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	path := filepath.Join(dir, "nightjar.db")
	const common = "?_busy_timeout=5000&_foreign_keys=on"
	// Publishing waits for the disk (_synchronous=FULL): what was answered with
	// success is there after a power cut too.
	write, err := open("file:" + path + common + "&_journal_mode=WAL&_synchronous=FULL&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	s := &Store{write: write}
	if db, err := write.DB(); err != nil {
		return nil, err
	} else {
		db.SetMaxOpenConns(1)
	}
	if s.fresh, err = migrate(write); err != nil {
		s.Close()
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	if err := write.Raw("SELECT id FROM mesh").Scan(&s.mesh).Error; err != nil || s.mesh == "" {
		s.Close()
		return nil, fmt.Errorf("database %s has no id of its mesh: %w", path, errors.Join(ErrNotFound, err))
	}
	if s.read, err = open("file:" + path + common + "&mode=ro"); err != nil {
		s.Close()
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	return s, nil
}

func open(dsn string) (*gorm.DB, error) {
	return gorm.Open(sqlite.Open(dsn), &gorm.Config{Logger: logger.Discard, TranslateError: true})
}

// Fresh tells whether Open made the database.
func (s *Store) Fresh() bool { return s.fresh }

// Mesh is the id of the mesh whose records these are, made with the database: by
// it proxies tell this store from another.
func (s *Store) Mesh() string { return s.mesh }

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
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

// revisionRow is a Revision as it is stored.
type revisionRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	Kind    string
	Bundle  string
	Author  string
	Message string
	At      time.Time
	Bundles string // JSON; empty with a base
	Base    uint
}

func (revisionRow) TableName() string { return "revisions" }

type checkedRow struct {
	Bundle   string `gorm:"primaryKey"`
	Files    string // JSON
	By       string
	At       time.Time
	Mistakes int
}

func (checkedRow) TableName() string { return "checked" }

// AddRevision stores a revision and gives it the next number. It is there
// whole, or not at all.
func (s *Store) AddRevision(ctx context.Context, r Revision) (Revision, error) {
	return addRevision(s.write.WithContext(ctx), r)
}

func addRevision(tx *gorm.DB, r Revision) (Revision, error) {
	row := revisionRow{Kind: r.Kind, Bundle: r.Bundle, Author: r.Author, Message: r.Message, At: r.At.UTC(), Base: r.Base}
	if r.Base == 0 {
		text, err := json.Marshal(r.Bundles)
		if err != nil {
			return r, err
		}
		row.Bundles = string(text)
	}
	err := tx.Create(&row).Error
	r.Number = row.Number
	return r, err
}

// Revision returns one revision with the text of its files; ErrNotFound if
// there is none. Number 0 means the newest.
func (s *Store) Revision(ctx context.Context, number uint) (Revision, error) {
	var rows []revisionRow
	q := s.read.WithContext(ctx).Order("number DESC").Limit(1)
	if number > 0 {
		q = q.Where("number = ?", number)
	}
	if err := q.Find(&rows).Error; err != nil {
		return Revision{}, err
	}
	if len(rows) == 0 {
		return Revision{}, ErrNotFound
	}
	r := rows[0].head()
	if r.Base > 0 {
		if err := s.read.WithContext(ctx).Model(&revisionRow{}).Where("number = ?", r.Base).Pluck("bundles", &rows[0].Bundles).Error; err != nil {
			return r, err
		}
	}
	if err := json.Unmarshal([]byte(rows[0].Bundles), &r.Bundles); err != nil {
		return r, fmt.Errorf("revision %d cannot be read: %w", r.Number, err)
	}
	return r, s.overlaysAt(ctx, &r)
}

// Revisions lists revisions without their text, newest first, from below the
// number before (0: from the newest).
func (s *Store) Revisions(ctx context.Context, before uint, limit int) ([]Revision, error) {
	var rows []revisionRow
	q := s.read.WithContext(ctx).Omit("bundles").Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Revision, len(rows))
	for i, row := range rows {
		out[i] = row.head()
	}
	return out, nil
}

// Around finds the revisions before and after one, or around a moment when number
// is 0, without their text. Number 0 of what it returns: there is none.
func (s *Store) Around(ctx context.Context, number uint, at time.Time) (before, after Revision, err error) {
	below, above, value := "number < ?", "number > ?", any(number)
	if number == 0 {
		below, above, value = "at <= ?", "at > ?", at.UTC()
	}
	for _, side := range []struct {
		of           *Revision
		where, order string
	}{{&before, below, "number DESC"}, {&after, above, "number"}} {
		var rows []revisionRow
		if err := s.read.WithContext(ctx).Omit("bundles").Where(side.where, value).Order(side.order).Limit(1).Find(&rows).Error; err != nil {
			return before, after, err
		}
		if len(rows) > 0 {
			*side.of = rows[0].head()
		}
	}
	return before, after, nil
}

func (row revisionRow) head() Revision {
	return Revision{Number: row.Number, Kind: row.Kind, Bundle: row.Bundle, Author: row.Author, Message: row.Message, At: row.At.UTC(), Base: row.Base}
}

// SetChecked remembers the files of a bundle that were checked last.
func (s *Store) SetChecked(ctx context.Context, c Checked) error {
	text, err := json.Marshal(c.Files)
	if err != nil {
		return err
	}
	return s.write.WithContext(ctx).Save(&checkedRow{Bundle: c.Bundle, Files: string(text), By: c.By, At: c.At, Mistakes: c.Mistakes}).Error
}

// CheckedFiles lists the last checked files of every bundle.
func (s *Store) CheckedFiles(ctx context.Context) ([]Checked, error) {
	var rows []checkedRow
	if err := s.read.WithContext(ctx).Order("bundle").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Checked, len(rows))
	for i, row := range rows {
		out[i] = Checked{Bundle: row.Bundle, By: row.By, At: row.At.UTC(), Mistakes: row.Mistakes}
		if err := json.Unmarshal([]byte(row.Files), &out[i].Files); err != nil {
			return nil, fmt.Errorf("checked files of bundle %s cannot be read: %w", row.Bundle, err)
		}
	}
	return out, nil
}
