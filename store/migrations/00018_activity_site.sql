-- +goose Up
ALTER TABLE activity ADD COLUMN site TEXT NOT NULL DEFAULT '';
