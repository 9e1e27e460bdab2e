-- +goose Up
CREATE TABLE telemetry (
	number INTEGER PRIMARY KEY, at INTEGER NOT NULL, seconds INTEGER NOT NULL, counts BLOB NOT NULL
);
CREATE INDEX telemetry_at ON telemetry (at);
CREATE TABLE telemetry_series (id INTEGER PRIMARY KEY, names TEXT NOT NULL);
CREATE TABLE telemetry_seen (nonce TEXT PRIMARY KEY, sequence INTEGER NOT NULL, at INTEGER NOT NULL);
