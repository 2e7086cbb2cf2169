-- +goose Up
-- Folders of the service's machine that it serves to hosts.
CREATE TABLE shelves (
    name   TEXT PRIMARY KEY,
    folder TEXT NOT NULL, -- below the folder of all shelves
    author TEXT NOT NULL,
    added  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
-- +goose Down
DROP TABLE shelves;
