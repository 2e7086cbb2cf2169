-- +goose Up
-- Who had what changed, when, and why. Whoever is told of changes reads this.
CREATE TABLE journal (
    seq     INTEGER PRIMARY KEY AUTOINCREMENT,
    at      INTEGER NOT NULL,
    actor   TEXT NOT NULL,            -- operator:mira, host:gw-01.brinewick.test, service
    command TEXT NOT NULL,            -- what was asked for
    kind    TEXT NOT NULL,            -- of what changed: host, revision, rollout, seats, account, operator, secrets
    name    TEXT NOT NULL DEFAULT '', -- which
    why     TEXT NOT NULL DEFAULT '',
    detail  TEXT NOT NULL DEFAULT ''  -- JSON
) STRICT;
CREATE INDEX journal_by_name ON journal (kind, name, seq);

-- What hosts said of rollouts. Most say the same, so it stands once.
CREATE TABLE reports (
    id     INTEGER PRIMARY KEY,
    digest BLOB UNIQUE,   -- SHA-256 of the JSON; null for what an earlier version wrote
    body   ANY NOT NULL   -- JSON as zstd; text for what an earlier version wrote
) STRICT;
INSERT INTO reports (body) SELECT DISTINCT json_remove(report, '$.took') FROM rollout_hosts WHERE report NOT IN ('', '{}');

CREATE TABLE rollout_hosts_again (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    host    TEXT NOT NULL,
    state   TEXT NOT NULL,
    report  INTEGER NOT NULL DEFAULT 0, -- 0: it has said nothing yet
    took    TEXT NOT NULL DEFAULT '',   -- JSON: milliseconds by step
    updated INTEGER NOT NULL,
    PRIMARY KEY (rollout, host)
) STRICT, WITHOUT ROWID;
CREATE TABLE report_numbers (body TEXT PRIMARY KEY, id INTEGER NOT NULL) STRICT, WITHOUT ROWID;
INSERT INTO report_numbers (body, id) SELECT body, id FROM reports;
INSERT INTO rollout_hosts_again (rollout, host, state, report, took, updated)
    SELECT r.rollout, r.host, r.state, coalesce(n.id, 0),
        CASE WHEN r.report IN ('', '{}') THEN '' ELSE coalesce(json_extract(r.report, '$.took'), '') END, r.updated
    FROM rollout_hosts r LEFT JOIN report_numbers n ON r.report NOT IN ('', '{}') AND n.body = json_remove(r.report, '$.took');
DROP TABLE report_numbers;

-- How a host stands with the newest rollout that it took part in.
ALTER TABLE hosts ADD COLUMN failure TEXT NOT NULL DEFAULT '';       -- why that failed; empty where it did not
ALTER TABLE hosts ADD COLUMN unfetched INTEGER NOT NULL DEFAULT 0;   -- sources that could not be refreshed
UPDATE hosts SET
    failure = coalesce((SELECT CASE WHEN r.state = 'failed' THEN coalesce(json_extract(r.report, '$.step') || ': ' || json_extract(r.report, '$.message'), 'the last rollout failed') ELSE '' END
        FROM rollout_hosts r WHERE r.host = hosts.name ORDER BY r.rollout DESC LIMIT 1), ''),
    unfetched = coalesce((SELECT CASE WHEN r.report IN ('', '{}') OR json_type(r.report, '$.sources') IS NOT 'array' THEN 0
            ELSE (SELECT count(*) FROM json_each(r.report, '$.sources') s WHERE json_extract(s.value, '$.ok') = 0) END
        FROM rollout_hosts r WHERE r.host = hosts.name ORDER BY r.rollout DESC LIMIT 1), 0);

ALTER TABLE hosts ADD COLUMN form INTEGER NOT NULL DEFAULT 0; -- the newest form of sheets that its agent understands; 0: it has not said

-- What a host has to carry out follows from the newest rollout that it takes part in.
ALTER TABLE hosts DROP COLUMN task;

DROP TABLE rollout_hosts;
ALTER TABLE rollout_hosts_again RENAME TO rollout_hosts;
CREATE INDEX rollout_hosts_by_host ON rollout_hosts (host, rollout);
CREATE INDEX rollout_hosts_by_state ON rollout_hosts (rollout, state, host);

-- Hosts of a rollout by state: they are counted when they move, not when somebody looks.
CREATE TABLE rollout_counts (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    state   TEXT NOT NULL,
    hosts   INTEGER NOT NULL,
    PRIMARY KEY (rollout, state)
) STRICT, WITHOUT ROWID;
INSERT INTO rollout_counts (rollout, state, hosts) SELECT rollout, state, count(*) FROM rollout_hosts GROUP BY rollout, state;

-- What comparing a sheet with a survey came to, as one build of the program worked it out.
CREATE TABLE verdicts (
    build TEXT NOT NULL,
    sheet TEXT NOT NULL,
    before TEXT NOT NULL,
    survey TEXT NOT NULL,
    body  BLOB NOT NULL, -- JSON as zstd
    PRIMARY KEY (build, sheet, before, survey)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE verdicts;
DROP TABLE rollout_counts;
CREATE TABLE rollout_hosts_before (
    rollout INTEGER NOT NULL REFERENCES rollouts(id),
    host    TEXT NOT NULL,
    state   TEXT NOT NULL,
    report  TEXT NOT NULL DEFAULT '{}',
    updated INTEGER NOT NULL,
    PRIMARY KEY (rollout, host)
) STRICT, WITHOUT ROWID;
INSERT INTO rollout_hosts_before (rollout, host, state, updated) SELECT rollout, host, state, updated FROM rollout_hosts;
DROP TABLE rollout_hosts;
ALTER TABLE rollout_hosts_before RENAME TO rollout_hosts;
CREATE INDEX rollout_hosts_by_host ON rollout_hosts (host, rollout);
ALTER TABLE hosts ADD COLUMN task INTEGER NOT NULL DEFAULT 0;
ALTER TABLE hosts DROP COLUMN form;
ALTER TABLE hosts DROP COLUMN unfetched;
ALTER TABLE hosts DROP COLUMN failure;
DROP TABLE reports;
DROP TABLE journal;
