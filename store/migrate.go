package store

import (
	"fmt"

	"gorm.io/gorm"
)

// migrations bring the schema from each version to the next; version n is the
// schema after the first n. They are never changed, only added to.
var migrations = []string{
	`CREATE TABLE revisions (
		number INTEGER PRIMARY KEY AUTOINCREMENT,
		kind TEXT NOT NULL, bundle TEXT NOT NULL, author TEXT NOT NULL, message TEXT NOT NULL,
		at DATETIME NOT NULL, bundles TEXT NOT NULL
	);
	CREATE TABLE checked (
		bundle TEXT PRIMARY KEY, files TEXT NOT NULL, by TEXT NOT NULL, at DATETIME NOT NULL, mistakes INTEGER NOT NULL
	);`,
	`CREATE TABLE drafts (
		bundle TEXT NOT NULL, by TEXT NOT NULL, files TEXT NOT NULL, base INTEGER NOT NULL, version INTEGER NOT NULL, at DATETIME NOT NULL,
		PRIMARY KEY (bundle, by)
	);`,
	`CREATE TABLE activity (
		number INTEGER PRIMARY KEY AUTOINCREMENT, at DATETIME NOT NULL, who TEXT NOT NULL, kind TEXT NOT NULL,
		service TEXT NOT NULL, version TEXT NOT NULL, instance TEXT NOT NULL, detail TEXT NOT NULL
	);
	CREATE INDEX activity_of_service ON activity (service, number);
	CREATE TABLE drills (
		number INTEGER PRIMARY KEY AUTOINCREMENT, by TEXT NOT NULL, cohort TEXT NOT NULL,
		began DATETIME NOT NULL, ends DATETIME NOT NULL, stopped DATETIME NOT NULL, harm TEXT NOT NULL
	);`,
	`CREATE TABLE telemetry (
		number INTEGER PRIMARY KEY, at INTEGER NOT NULL, seconds INTEGER NOT NULL, counts BLOB NOT NULL
	);
	CREATE INDEX telemetry_at ON telemetry (at);
	CREATE TABLE telemetry_series (id INTEGER PRIMARY KEY, names TEXT NOT NULL);
	CREATE TABLE telemetry_seen (nonce TEXT PRIMARY KEY, sequence INTEGER NOT NULL, at INTEGER NOT NULL);`,
	`CREATE TABLE effects (revision INTEGER PRIMARY KEY, head TEXT NOT NULL, body BLOB NOT NULL);
	CREATE TABLE trials (
		number INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, state TEXT NOT NULL,
		began DATETIME NOT NULL, ended DATETIME NOT NULL, head TEXT NOT NULL, body BLOB NOT NULL
	);`,
	`ALTER TABLE revisions ADD COLUMN base INTEGER NOT NULL DEFAULT 0;
	CREATE TABLE releases (
		number INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, state TEXT NOT NULL, over INTEGER NOT NULL,
		began DATETIME NOT NULL, run TEXT NOT NULL
	);
	CREATE INDEX releases_by_name ON releases (name, number);
	CREATE INDEX releases_over ON releases (over);
	CREATE TABLE overlays (
		release INTEGER NOT NULL, revision INTEGER NOT NULL, overlay TEXT NOT NULL, PRIMARY KEY (release, revision)
	);
	CREATE TABLE judgements (number INTEGER PRIMARY KEY AUTOINCREMENT, release INTEGER NOT NULL, judgement TEXT NOT NULL);
	CREATE INDEX judgements_of_release ON judgements (release, number);
	CREATE TABLE release_events (number INTEGER PRIMARY KEY AUTOINCREMENT, release INTEGER NOT NULL, event TEXT NOT NULL);
	CREATE INDEX events_of_release ON release_events (release, number);
	CREATE TABLE notices (
		number INTEGER PRIMARY KEY AUTOINCREMENT, release INTEGER NOT NULL, url TEXT NOT NULL, binary INTEGER NOT NULL, event TEXT NOT NULL,
		tries INTEGER NOT NULL, due DATETIME NOT NULL, state TEXT NOT NULL, answer TEXT NOT NULL
	);
	CREATE INDEX notices_due ON notices (state, due);
	CREATE INDEX notices_of_release ON notices (release, number);`,
	`CREATE TABLE mesh (id TEXT NOT NULL);
	INSERT INTO mesh VALUES (lower(hex(randomblob(8))));`,
}

// migrate applies what is missing, each step whole or not at all. fresh tells
// whether there was no schema before.
func migrate(db *gorm.DB) (fresh bool, err error) {
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return false, err
	}
	if version > len(migrations) {
		return false, fmt.Errorf("its schema is version %d, newer than this program's %d: use the newer program", version, len(migrations))
	}
	fresh = version == 0
	for ; version < len(migrations); version++ {
		err := db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Exec(migrations[version]).Error; err != nil {
				return err
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)).Error
		})
		if err != nil {
			return fresh, fmt.Errorf("schema version %d: %w", version+1, err)
		}
	}
	return fresh, nil
}
