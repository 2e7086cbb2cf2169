-- +goose Up
-- What people do, and what rollouts decide, is chained: each entry's hash follows from the one before.
ALTER TABLE journal ADD COLUMN hash BLOB; -- SHA-256; null: not of the chain
CREATE INDEX journal_chain ON journal (seq) WHERE hash IS NOT NULL;
-- +goose StatementBegin
CREATE TRIGGER journal_is_not_changed BEFORE UPDATE ON journal WHEN OLD.hash IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'entries of the audit chain are never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_is_not_cut BEFORE DELETE ON journal WHEN OLD.hash IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'entries of the audit chain are never taken out'); END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER journal_is_not_cut;
DROP TRIGGER journal_is_not_changed;
DROP INDEX journal_chain;
ALTER TABLE journal DROP COLUMN hash;
