-- +goose Up
UPDATE activity SET kind = replace(kind, '-began', '-started') WHERE kind LIKE '%-began';
