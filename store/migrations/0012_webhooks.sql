-- +goose Up
CREATE TABLE webhooks (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    url     TEXT NOT NULL,
    secret  BLOB NOT NULL,              -- encrypted
    about   TEXT NOT NULL,              -- JSON: kinds of entries
    author  TEXT NOT NULL,
    created INTEGER NOT NULL,
    told    INTEGER NOT NULL,           -- the newest entry of the journal that it was told of, or that is not for it
    failed  INTEGER NOT NULL DEFAULT 0, -- calls in a row that failed
    error   TEXT NOT NULL DEFAULT '',   -- of the last one
    next    INTEGER NOT NULL DEFAULT 0  -- not before this time
) STRICT;
-- +goose Down
DROP TABLE webhooks;
