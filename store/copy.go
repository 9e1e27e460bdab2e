package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// About is what a database says of itself.
type About struct {
	Mesh     string    `json:"mesh"`
	Schema   int64     `json:"schema"`
	Revision uint      `json:"revision"` // newest; 0: none
	At       time.Time `json:"at,omitzero"`
}

// Copy writes the database of a data directory, as it is at one moment, into a new file.
// A service may be running on it, and is not held up. The error is ErrNotFound when the
// directory has no database.
func Copy(ctx context.Context, dir, to string) error {
	from := filepath.Join(dir, DatabaseFile)
	if _, err := os.Stat(from); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", from, ErrNotFound)
	}
	db, err := sql.Open("sqlite", "file:"+from+"?_busy_timeout=5000&_txlock=deferred")
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", to); err != nil {
		return fmt.Errorf("%s cannot be copied: %w", from, err)
	}
	return nil
}

// Look examines a database file that nobody uses: an error says what is wrong with it.
func Look(ctx context.Context, path string) (About, error) {
	var a About
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro&immutable=1")
	if err != nil {
		return a, err
	}
	defer db.Close()
	var verdict string
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		return a, fmt.Errorf("it is no database: %w", err)
	}
	if verdict != "ok" {
		return a, fmt.Errorf("it is damaged: %s", verdict)
	}
	return aboutOf(ctx, db)
}

// aboutOf reads what a database says of itself. It fails for one that this program cannot
// use.
func aboutOf(ctx context.Context, db *sql.DB) (a About, err error) {
	if a.Schema, err = schemaOf(ctx, db); err != nil {
		return a, err
	}
	newest, err := newestSchema()
	switch {
	case err != nil:
		return a, err
	case a.Schema == 0:
		return a, errors.New("it is no database of Nightjar")
	case a.Schema > newest:
		return a, newerSchema(a.Schema, newest)
	}
	var at sql.NullTime
	err = db.QueryRowContext(ctx, "SELECT number, at FROM revisions ORDER BY number DESC LIMIT 1").
		Scan(&a.Revision, &at)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return a, err
	}
	a.At = at.Time.UTC()
	if a.Schema >= 7 { // the first that has an id
		err = db.QueryRowContext(ctx, "SELECT id FROM mesh").Scan(&a.Mesh)
		return a, err
	}
	return a, nil
}

// schemaOf is the version of the schema; 0: there is none.
func schemaOf(ctx context.Context, db *sql.DB) (version int64, err error) {
	var tables int
	err = db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'goose_db_version'").Scan(&tables)
	if err != nil {
		return 0, err
	}
	if tables == 0 {
		err = db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version)
		return version, err
	}
	err = db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied").
		Scan(&version)
	return version, err
}
