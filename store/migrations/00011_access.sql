-- +goose Up
CREATE TABLE access_seen (
	day TEXT NOT NULL, caller TEXT NOT NULL, service TEXT NOT NULL, rule TEXT NOT NULL, outcome TEXT NOT NULL,
	requests INTEGER NOT NULL, last DATETIME NOT NULL,
	PRIMARY KEY (day, caller, service, rule, outcome)
);
