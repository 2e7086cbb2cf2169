-- +goose Up
-- Policy folders that somebody proposes to publish. The newest number is never given again.
CREATE TABLE proposals (
    number   INTEGER PRIMARY KEY AUTOINCREMENT,
    policy   TEXT NOT NULL,              -- digest of the folder
    base     INTEGER NOT NULL,           -- the newest revision then; 0: there was none
    author   TEXT NOT NULL,
    message  TEXT NOT NULL,
    created  INTEGER NOT NULL,
    agreed   TEXT NOT NULL DEFAULT '',   -- who agreed
    agreedat INTEGER NOT NULL DEFAULT 0,
    ended    INTEGER NOT NULL DEFAULT 0, -- published or withdrawn
    revision INTEGER NOT NULL DEFAULT 0  -- what it became; 0: nothing
) STRICT;
-- +goose Down
DROP TABLE proposals;
