-- +goose Up
CREATE TABLE follows (bundle TEXT PRIMARY KEY, record TEXT NOT NULL);
CREATE TABLE proposals (
	number INTEGER PRIMARY KEY AUTOINCREMENT, bundle TEXT NOT NULL, record TEXT NOT NULL
);
CREATE INDEX proposals_bundle ON proposals (bundle, number);
ALTER TABLE revisions ADD COLUMN commit_id TEXT NOT NULL DEFAULT '';
