-- +goose Up
ALTER TABLE hosts ADD COLUMN access TEXT NOT NULL DEFAULT '[]'; -- what the agent says of the access on the host

CREATE TABLE accounts (
    name      TEXT PRIMARY KEY,
    title     TEXT NOT NULL,
    desk      TEXT NOT NULL,                -- URL
    login     BLOB NOT NULL,                -- the organisation's, encrypted
    author    TEXT NOT NULL,
    created   INTEGER NOT NULL,
    contracts TEXT NOT NULL DEFAULT '[]',   -- as the desk last told them
    answered  INTEGER NOT NULL DEFAULT 0,   -- when it last did
    trouble   TEXT NOT NULL DEFAULT '',
    since     INTEGER NOT NULL DEFAULT 0    -- since when it does not
) STRICT, WITHOUT ROWID;

CREATE TABLE seats (
    host       TEXT NOT NULL,
    account    TEXT NOT NULL REFERENCES accounts(name) ON DELETE CASCADE,
    contract   TEXT NOT NULL,
    taken      INTEGER NOT NULL,
    author     TEXT NOT NULL,
    why        TEXT NOT NULL,
    automatic  INTEGER NOT NULL DEFAULT 0,
    leaving    INTEGER NOT NULL DEFAULT 0,  -- it is to be given back, and the desk has not heard of it yet
    kind       TEXT NOT NULL DEFAULT '',    -- of the access
    access     BLOB NOT NULL DEFAULT x'',   -- encrypted
    expires    INTEGER NOT NULL DEFAULT 0,
    issued     INTEGER NOT NULL DEFAULT 0,
    generation INTEGER NOT NULL DEFAULT 0,  -- goes up with each access
    PRIMARY KEY (host, account, contract)
) STRICT, WITHOUT ROWID;

-- How many seats were taken, each time that it changed.
CREATE TABLE seat_counts (
    account  TEXT NOT NULL,
    contract TEXT NOT NULL,
    at       INTEGER NOT NULL,
    used     INTEGER NOT NULL,
    seats    INTEGER NOT NULL,
    PRIMARY KEY (account, contract, at)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE seat_counts;
DROP TABLE seats;
DROP TABLE accounts;
ALTER TABLE hosts DROP COLUMN access;
