-- +goose Up
-- Expand: what each node says of itself, whether it is to begin anew, and which programs may
-- still use the schema.
ALTER TABLE node ADD COLUMN facts jsonb, ADD COLUMN begin_anew boolean NOT NULL DEFAULT false;

-- works_from is the oldest schema whose programs may use this one: a contracting migration sets it.
CREATE TABLE schema_use (works_from bigint NOT NULL);
INSERT INTO schema_use VALUES (39);

-- +goose Down
DROP TABLE schema_use;
ALTER TABLE node DROP COLUMN facts, DROP COLUMN begin_anew;
