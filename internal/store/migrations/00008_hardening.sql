-- +goose Up
-- When a lane last got mail: what nobody uses and no history names is forgotten.
ALTER TABLE lane ADD COLUMN seen_on date NOT NULL DEFAULT current_date;
CREATE INDEX lane_seen ON lane (seen_on);

-- +goose Down
DROP INDEX lane_seen;
ALTER TABLE lane DROP COLUMN seen_on;
