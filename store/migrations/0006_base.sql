-- +goose Up
-- What a verdict follows from is one thing more: what the host was like when the policy came.
DROP TABLE verdicts;
CREATE TABLE verdicts (
    build  TEXT NOT NULL,
    sheet  TEXT NOT NULL,
    before TEXT NOT NULL,
    survey TEXT NOT NULL,
    base   TEXT NOT NULL, -- sheet and survey, with a blank between them; empty where nothing was carried
    body   BLOB NOT NULL, -- JSON as zstd
    PRIMARY KEY (build, sheet, before, survey, base)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE verdicts;
CREATE TABLE verdicts (
    build TEXT NOT NULL,
    sheet TEXT NOT NULL,
    before TEXT NOT NULL,
    survey TEXT NOT NULL,
    body  BLOB NOT NULL, -- JSON as zstd
    PRIMARY KEY (build, sheet, before, survey)
) STRICT, WITHOUT ROWID;
