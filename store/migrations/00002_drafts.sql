-- +goose Up
CREATE TABLE drafts (
	bundle TEXT NOT NULL, by TEXT NOT NULL, files TEXT NOT NULL, base INTEGER NOT NULL, version INTEGER NOT NULL, at DATETIME NOT NULL,
	PRIMARY KEY (bundle, by)
);
