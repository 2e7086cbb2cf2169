-- +goose Up
ALTER TABLE hosts ADD COLUMN trouble TEXT NOT NULL DEFAULT '';      -- what keeps the agent from working
ALTER TABLE hosts ADD COLUMN packages TEXT NOT NULL DEFAULT '{}';   -- which of the packages that policies ask for are installed
ALTER TABLE rollouts ADD COLUMN set_aside INTEGER NOT NULL DEFAULT 0; -- files that stop the package manager are renamed
ALTER TABLE rollouts ADD COLUMN stopped INTEGER NOT NULL DEFAULT 0;   -- when an operator stopped it
CREATE INDEX rollout_hosts_by_host ON rollout_hosts (host, rollout);

-- One row that is written now and then, to know that writing works.
CREATE TABLE pulse (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    at INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE pulse;
DROP INDEX rollout_hosts_by_host;
ALTER TABLE rollouts DROP COLUMN stopped;
ALTER TABLE rollouts DROP COLUMN set_aside;
ALTER TABLE hosts DROP COLUMN packages;
ALTER TABLE hosts DROP COLUMN trouble;
