-- +goose Up
CREATE TABLE mesh (id TEXT NOT NULL);
INSERT INTO mesh VALUES (lower(hex(randomblob(8))));
