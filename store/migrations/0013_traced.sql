-- +goose Up
ALTER TABLE hosts ADD COLUMN traced TEXT NOT NULL DEFAULT ''; -- JSON: what the host's logs say of the files of its findings; empty: it has not said
-- +goose Down
ALTER TABLE hosts DROP COLUMN traced;
