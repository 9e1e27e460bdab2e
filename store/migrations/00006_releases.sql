-- +goose Up
ALTER TABLE revisions ADD COLUMN base INTEGER NOT NULL DEFAULT 0;
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
CREATE INDEX notices_of_release ON notices (release, number);
