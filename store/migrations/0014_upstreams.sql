-- +goose Up
CREATE TABLE upstreams ( -- what the service saw behind the places that packages come from
    place TEXT PRIMARY KEY,
    look  TEXT NOT NULL, -- JSON: how the last look ended
    list  BLOB -- the packages that it offered when it was read last; NULL: it never was
) WITHOUT ROWID;
-- +goose Down
DROP TABLE upstreams;
