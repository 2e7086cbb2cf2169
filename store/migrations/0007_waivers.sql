-- +goose Up
-- Findings that a named person accepts until a date.
CREATE TABLE waivers (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    host    TEXT NOT NULL,    -- full name; empty for every host
    finding TEXT NOT NULL,    -- JSON: class, repository, file, want, have
    because TEXT NOT NULL,
    author  TEXT NOT NULL,
    made    INTEGER NOT NULL,
    ends    INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE waivers;
