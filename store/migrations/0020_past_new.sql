-- +goose Up
-- What hosts have had since it was put in order last, one row behind the other: where each host has pages of its own,
-- every row would cost a page. pasts is all of the history; of two rows of a host and a moment the greater id is true.
CREATE TABLE past_new (
    id          INTEGER PRIMARY KEY,
    host        INTEGER NOT NULL, -- these are as in past
    at          INTEGER NOT NULL,
    traits      INTEGER NOT NULL,
    survey      INTEGER NOT NULL,
    sheet       INTEGER NOT NULL,
    before      INTEGER NOT NULL,
    base_sheet  INTEGER NOT NULL,
    base_survey INTEGER NOT NULL,
    revision    INTEGER NOT NULL
) STRICT;
CREATE VIEW pasts AS
    SELECT 0 AS id, host, at, traits, survey, sheet, before, base_sheet, base_survey, revision FROM past
    UNION ALL
    SELECT id, host, at, traits, survey, sheet, before, base_sheet, base_survey, revision FROM past_new;

-- +goose Down
INSERT OR REPLACE INTO past SELECT host, at, traits, survey, sheet, before, base_sheet, base_survey, revision FROM past_new ORDER BY id;
DROP VIEW pasts;
DROP TABLE past_new;
