-- +goose Up
-- A rollout goes in waves: what they are, and where it stands.
ALTER TABLE rollouts ADD COLUMN parts TEXT NOT NULL DEFAULT '[]';   -- JSON; empty for rollouts of before, which went at once
ALTER TABLE rollouts ADD COLUMN course TEXT NOT NULL DEFAULT '{}';  -- JSON
ALTER TABLE rollouts ADD COLUMN of INTEGER NOT NULL DEFAULT 0;      -- the rollout that it takes back; 0: none
ALTER TABLE rollouts ADD COLUMN because TEXT NOT NULL DEFAULT '';
ALTER TABLE rollout_hosts ADD COLUMN part INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rollout_hosts ADD COLUMN before TEXT NOT NULL DEFAULT ''; -- JSON: what was carried to the host before; empty where nothing was changed
ALTER TABLE hosts ADD COLUMN zone TEXT NOT NULL DEFAULT '';         -- its time zone, by the name of the tz database; empty: it has not said

CREATE TABLE rollout_counts_again (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    part    INTEGER NOT NULL,
    state   TEXT NOT NULL,
    hosts   INTEGER NOT NULL,
    PRIMARY KEY (rollout, part, state)
) STRICT, WITHOUT ROWID;
INSERT INTO rollout_counts_again (rollout, part, state, hosts) SELECT rollout, 0, state, hosts FROM rollout_counts;
DROP TABLE rollout_counts;
ALTER TABLE rollout_counts_again RENAME TO rollout_counts;

-- While one of these stands, no host of its group begins with a change.
CREATE TABLE freezes (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    scope   TEXT NOT NULL,     -- a group; empty: the whole fleet
    author  TEXT NOT NULL,
    because TEXT NOT NULL,
    begun   INTEGER NOT NULL,
    until   INTEGER NOT NULL,
    ended   INTEGER NOT NULL DEFAULT 0 -- when somebody ended it before that
) STRICT;

-- +goose Down
DROP TABLE freezes;
CREATE TABLE rollout_counts_before (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    state   TEXT NOT NULL,
    hosts   INTEGER NOT NULL,
    PRIMARY KEY (rollout, state)
) STRICT, WITHOUT ROWID;
INSERT INTO rollout_counts_before (rollout, state, hosts) SELECT rollout, state, sum(hosts) FROM rollout_counts GROUP BY rollout, state;
DROP TABLE rollout_counts;
ALTER TABLE rollout_counts_before RENAME TO rollout_counts;
ALTER TABLE hosts DROP COLUMN zone;
ALTER TABLE rollout_hosts DROP COLUMN before;
ALTER TABLE rollout_hosts DROP COLUMN part;
ALTER TABLE rollouts DROP COLUMN because;
ALTER TABLE rollouts DROP COLUMN of;
ALTER TABLE rollouts DROP COLUMN course;
ALTER TABLE rollouts DROP COLUMN parts;
