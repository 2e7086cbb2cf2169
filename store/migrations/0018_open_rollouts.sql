-- +goose Up
-- By their names hosts of a rollout are looked up once their turn has come: those of waves that have not
-- begun are not written into another order with it.
DROP INDEX rollout_hosts_by_host;
CREATE INDEX rollout_hosts_by_host ON rollout_hosts (host, rollout) WHERE state <> 'queued';
CREATE INDEX rollouts_open ON rollouts (kind, id) WHERE ended = 0;

-- +goose Down
DROP INDEX rollouts_open;
DROP INDEX rollout_hosts_by_host;
CREATE INDEX rollout_hosts_by_host ON rollout_hosts (host, rollout);
