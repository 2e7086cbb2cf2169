-- +goose Up
ALTER TABLE hosts ADD COLUMN watched TEXT NOT NULL DEFAULT ''; -- JSON: whether its sources could be refreshed when it looked last; empty: it has not
-- +goose Down
ALTER TABLE hosts DROP COLUMN watched;
