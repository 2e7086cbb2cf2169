-- +goose Up
CREATE TABLE documents (
    digest  TEXT PRIMARY KEY,
    kind    TEXT NOT NULL, -- traits, survey, sheet, text, policy
    body    BLOB NOT NULL, -- zstd
    created INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE hosts (
    id        INTEGER PRIMARY KEY,
    name      TEXT NOT NULL UNIQUE,
    key       BLOB NOT NULL, -- Ed25519 public key
    joined    INTEGER NOT NULL,
    last_seen INTEGER NOT NULL DEFAULT 0,
    labels    TEXT NOT NULL DEFAULT '{}',
    traits    TEXT NOT NULL DEFAULT '',
    survey    TEXT NOT NULL DEFAULT '',
    revision  INTEGER NOT NULL DEFAULT 0,
    sheet     TEXT NOT NULL DEFAULT '',
    carried   TEXT NOT NULL DEFAULT '{}', -- what the last successful carrying left: sheet, survey, time
    since     TEXT NOT NULL DEFAULT '{}', -- finding → first seen
    free      TEXT NOT NULL DEFAULT '{}',
    agent     TEXT NOT NULL DEFAULT '',
    task      INTEGER NOT NULL DEFAULT 0  -- the rollout that the host has to carry out
) STRICT;

CREATE TABLE revisions (
    number  INTEGER PRIMARY KEY,
    policy  TEXT NOT NULL REFERENCES documents(digest),
    author  TEXT NOT NULL,
    message TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;

CREATE TABLE rollouts (
    id       INTEGER PRIMARY KEY,
    kind     TEXT NOT NULL, -- rollout, heal
    revision INTEGER NOT NULL REFERENCES revisions(number),
    author   TEXT NOT NULL,
    begun    INTEGER NOT NULL,
    ended    INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE rollout_hosts (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    host    TEXT NOT NULL,
    state   TEXT NOT NULL,
    report  TEXT NOT NULL DEFAULT '{}',
    updated INTEGER NOT NULL,
    PRIMARY KEY (rollout, host)
) STRICT, WITHOUT ROWID;

CREATE TABLE operators (
    name    TEXT PRIMARY KEY,
    role    TEXT NOT NULL,
    token   BLOB NOT NULL UNIQUE, -- SHA-256
    created INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE sessions (
    id       BLOB PRIMARY KEY, -- SHA-256 of the cookie
    operator TEXT NOT NULL REFERENCES operators(name) ON DELETE CASCADE,
    expires  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE invites (
    token   BLOB PRIMARY KEY, -- SHA-256
    host    TEXT NOT NULL,    -- the name that the host must have
    author  TEXT NOT NULL,
    expires INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE invites;
DROP TABLE sessions;
DROP TABLE operators;
DROP TABLE rollout_hosts;
DROP TABLE rollouts;
DROP TABLE revisions;
DROP TABLE hosts;
DROP TABLE documents;
