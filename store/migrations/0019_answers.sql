-- +goose Up
-- What hosts answered when they were asked which packages they have stands once for all that answered alike. They are asked again.
CREATE TABLE answers (
    digest TEXT PRIMARY KEY,
    body   BLOB NOT NULL -- JSON, packed
) STRICT, WITHOUT ROWID;
UPDATE hosts SET packages = '{}' WHERE packages <> '{}'; -- the digest of an answer from now on

-- +goose Down
UPDATE hosts SET packages = '{}' WHERE packages <> '{}';
DROP TABLE answers;
