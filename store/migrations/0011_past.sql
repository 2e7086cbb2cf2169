-- +goose Up
-- What each host had, from when on: a row for each change. Texts that repeat stand once.
CREATE TABLE past_texts (
    id   INTEGER PRIMARY KEY,
    text TEXT NOT NULL UNIQUE
) STRICT;
CREATE TABLE past (
    host        INTEGER NOT NULL, -- all of these are past_texts
    at          INTEGER NOT NULL,
    traits      INTEGER NOT NULL,
    survey      INTEGER NOT NULL,
    sheet       INTEGER NOT NULL,
    before      INTEGER NOT NULL, -- the sheet that had been carried last
    base_sheet  INTEGER NOT NULL,
    base_survey INTEGER NOT NULL,
    revision    INTEGER NOT NULL,
    PRIMARY KEY (host, at)
) STRICT, WITHOUT ROWID;
CREATE INDEX past_by_time ON past (at);
-- +goose StatementBegin
CREATE TRIGGER hosts_change AFTER UPDATE OF survey, sheet, carried ON hosts
WHEN NEW.survey <> '' AND (NEW.survey <> OLD.survey OR NEW.sheet <> OLD.sheet OR NEW.carried <> OLD.carried)
BEGIN
    INSERT OR IGNORE INTO past_texts (text) VALUES (NEW.name), (NEW.traits), (NEW.survey), (NEW.sheet),
        (coalesce(json_extract(NEW.carried, '$.sheet'), '')), (coalesce(json_extract(NEW.carried, '$.base.sheet'), '')),
        (coalesce(json_extract(NEW.carried, '$.base.survey'), ''));
    INSERT OR REPLACE INTO past (host, at, traits, survey, sheet, before, base_sheet, base_survey, revision) VALUES (
        (SELECT id FROM past_texts WHERE text = NEW.name), NEW.last_seen,
        (SELECT id FROM past_texts WHERE text = NEW.traits), (SELECT id FROM past_texts WHERE text = NEW.survey),
        (SELECT id FROM past_texts WHERE text = NEW.sheet),
        (SELECT id FROM past_texts WHERE text = coalesce(json_extract(NEW.carried, '$.sheet'), '')),
        (SELECT id FROM past_texts WHERE text = coalesce(json_extract(NEW.carried, '$.base.sheet'), '')),
        (SELECT id FROM past_texts WHERE text = coalesce(json_extract(NEW.carried, '$.base.survey'), '')), NEW.revision);
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER hosts_change;
DROP TABLE past;
DROP TABLE past_texts;
