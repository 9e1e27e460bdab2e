package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
)

// migrationFiles bring the schema from each version to the next. A file is never
// changed once it was released; a new one is added instead.
//
//go:embed migrations/*.sql
var migrationFiles embed.FS

// migrate applies the migrations that a database lacks, each as a whole or not at
// all. isNew tells whether it had no schema.
func migrate(ctx context.Context, db *sql.DB) (isNew bool, err error) {
	files, err := fs.Sub(migrationFiles, "migrations")
	if err != nil {
		return false, err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return false, err
	}
	version, err := p.GetDBVersion(ctx)
	if err != nil {
		return false, err
	}
	if version == 0 {
		if version, err = adoptUserVersion(ctx, db); err != nil {
			return false, err
		}
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; version > newest {
		return false, newerSchema(version, newest)
	}
	if _, err := p.Up(ctx); err != nil {
		return false, fmt.Errorf("updating its schema: %w", err)
	}
	return version == 0, nil
}

// newestSchema is the version of the schema that this program works with.
func newestSchema() (version int64, err error) {
	names, err := fs.Glob(migrationFiles, "migrations/*.sql")
	if err != nil || len(names) == 0 {
		return 0, errors.Join(err, errors.New("there are no migrations"))
	}
	return goose.NumericComponent(names[len(names)-1])
}

func newerSchema(version, newest int64) error {
	return fmt.Errorf("its schema has version %d, newer than version %d of this program: start the newer program",
		version, newest)
}

// adoptUserVersion records the version of a schema by an earlier program, which
// kept it as SQLite's user_version, in the table of migrations.
func adoptUserVersion(ctx context.Context, db *sql.DB) (version int64, err error) {
	if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil || version == 0 {
		return 0, err
	}
	versions, err := database.NewStore(database.DialectSQLite3, goose.DefaultTablename)
	if err != nil {
		return 0, err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	for v := int64(1); v <= version; v++ {
		if err := versions.Insert(ctx, tx, database.InsertRequest{Version: v}); err != nil {
			return 0, err
		}
	}
	if _, err := tx.ExecContext(ctx, "PRAGMA user_version = 0"); err != nil {
		return 0, err
	}
	return version, tx.Commit()
}
