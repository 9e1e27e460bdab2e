-- +goose Up
ALTER TABLE drills RENAME COLUMN harm TO spec;
