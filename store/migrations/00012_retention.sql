-- +goose Up
CREATE INDEX revisions_at ON revisions (at);
CREATE INDEX activity_at ON activity (at);
ALTER TABLE revisions ADD COLUMN touched TEXT NOT NULL DEFAULT '';
