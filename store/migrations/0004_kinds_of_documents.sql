-- +goose NO TRANSACTION
-- +goose Up
-- The kind of a document becomes part of its name. Foreign keys cannot be switched off in a
-- transaction, so this migration opens its own: a crash leaves all of it or nothing, and
-- all of it can be run again.
PRAGMA foreign_keys = OFF;
BEGIN IMMEDIATE;
DROP TABLE IF EXISTS documents_by_kind;
CREATE TABLE documents_by_kind (
    kind    TEXT NOT NULL, -- traits, survey, sheet, text, policy
    digest  TEXT NOT NULL,
    body    BLOB NOT NULL, -- zstd
    created INTEGER NOT NULL,
    PRIMARY KEY (digest, kind)
) STRICT, WITHOUT ROWID;
INSERT INTO documents_by_kind (kind, digest, body, created) SELECT kind, digest, body, created FROM documents;
DROP TABLE documents;
ALTER TABLE documents_by_kind RENAME TO documents;
DROP TABLE IF EXISTS revisions_again;
CREATE TABLE revisions_again (
    number  INTEGER PRIMARY KEY,
    policy  TEXT NOT NULL, -- digest of a document
    author  TEXT NOT NULL,
    message TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;
INSERT INTO revisions_again (number, policy, author, message, created) SELECT number, policy, author, message, created FROM revisions;
DROP TABLE revisions;
ALTER TABLE revisions_again RENAME TO revisions;
COMMIT;
PRAGMA foreign_keys = ON;
PRAGMA auto_vacuum = INCREMENTAL;
VACUUM;

-- +goose Down
PRAGMA foreign_keys = OFF;
CREATE TABLE documents_before (
    digest  TEXT PRIMARY KEY,
    kind    TEXT NOT NULL,
    body    BLOB NOT NULL,
    created INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT OR IGNORE INTO documents_before (digest, kind, body, created) SELECT digest, kind, body, created FROM documents;
DROP TABLE documents;
ALTER TABLE documents_before RENAME TO documents;
PRAGMA foreign_keys = ON;
