-- +goose Up
CREATE TABLE site_drains (site TEXT PRIMARY KEY, record TEXT NOT NULL);
